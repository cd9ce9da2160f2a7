import { mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { leastTime, SLOWEST_MS } from "../../tests/support/mutations";
import { unpackSet } from "../../tests/support/set-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import type { ArchiveReading } from "./archive";
import { readTarArchive } from "./tar-archive";
import { unpackWhole } from "./unpack";
import { readZipArchive } from "./zip-archive";

const ROUNDS = Math.ceil(Number(process.env.COMPASS_MUTATIONS ?? 5_000) / 5);
const work = mkdtempSync(join(tmpdir(), "compass-archives-"));
afterAll(() => rmSync(work, { recursive: true, force: true }));
const folder = unpackSet("archives", work);
const NASTY = [0, 1, 0x7f, 0x80, 0xff];

/** Everything of every entry, as a listing and a restore would read it. @returns how many there were */
function readAll({ entries }: ArchiveReading): number {
  for (const entry of entries) {
    expect(entry.present).toBeLessThanOrEqual(Math.max(entry.size, 0));
    expect(entry.path).not.toMatch(/^\/|(^|\/)\.\.?(\/|$)/);
    if (entry.standing !== "encrypted" && entry.standing !== "not-followed") {
      const content = entry.open();
      readBytes(content, 0, Math.min(64, content.size));
    }
  }
  return entries.length;
}

const READERS = {
  zip: (bytes: Uint8Array) => readAll(readZipArchive([new MemorySource(bytes)])),
  tar: (bytes: Uint8Array) => readAll(readTarArchive(new MemorySource(bytes))),
  "tar.gz": (bytes: Uint8Array) => {
    const unpacked = unpackWhole(new MemorySource(bytes));
    return unpacked ? readAll(readTarArchive(unpacked.content)) : 0;
  },
} as const;

describe("hostile archives", () => {
  it.each([
    ["Documents_2026-02-01.zip", "zip"],
    ["vault_2026-03-30.zip", "zip"],
    ["documents_21.03.26.tar", "tar"],
    ["home-2026-01-12-incr.tar.gz", "tar.gz"],
  ] as const)(`%s: ${ROUNDS} damaged forms are read as far as they go`, { timeout: 600_000 }, (name, kind) => {
    const original = Uint8Array.from(readFileSync(join(folder, name)));
    const bytes = original.slice();
    let found = 0;
    let slowest = 0;
    for (let round = 0; round < ROUNDS; round += 1) {
      const random = seeded(17_000 + round);
      const changes: number[] = [];
      for (let count = 1 + Math.floor(random() * 6); count > 0; count -= 1) {
        // The end of a ZIP has its list of contents: half of the changes are there.
        const at =
          random() < 0.5 ? bytes.length - 1 - Math.floor(random() * Math.min(4096, bytes.length)) : Math.floor(random() * bytes.length);
        bytes[at] = random() < 0.5 ? (NASTY[Math.floor(random() * NASTY.length)] as number) : Math.floor(random() * 256);
        changes.push(at);
      }
      const damaged = random() < 0.2 ? bytes.subarray(0, Math.floor(random() * bytes.length)) : bytes;
      const spent = leastTime(() => READERS[kind](damaged));
      found += spent.result;
      slowest = Math.max(slowest, spent.time);
      for (const at of changes) bytes[at] = original[at] as number;
    }
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(found).toBeGreaterThan(ROUNDS);
  });
});
