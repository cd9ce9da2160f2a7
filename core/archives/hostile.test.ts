import { mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { afterAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { unpackSet } from "../../tests/support/set-truth";
import { leastTime, SLOWEST_MS, threadTime } from "../../tests/support/thread-time";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import type { ArchiveReading } from "./archive";
import { readTarArchive } from "./tar-archive";
import { unpackArchive } from "./unpack";
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
    const unpacked = unpackArchive(new MemorySource(bytes));
    return unpacked ? readAll(readTarArchive(unpacked.content)) : 0;
  },
} as const;

describe("hostile archives", () => {
  it.each([
    ["Documents_2026-02-01.zip", ROUNDS, "zip"],
    ["vault_2026-03-30.zip", ROUNDS, "zip"],
    ["documents_21.03.26.tar", ROUNDS, "tar"],
    // A large one, which takes long each time; small ones of its kind are damaged in `core/hostile.test.ts`.
    ["home-2026-01-12-incr.tar.gz", Math.ceil(ROUNDS / 5), "tar.gz"],
  ] as const)("%s: %i damaged forms are read as far as they go", { timeout: 600_000 }, (name, rounds, kind) => {
    const original = Uint8Array.from(readFileSync(join(folder, name)));
    const bytes = original.slice();
    let found = 0;
    let slowest = 0;
    for (let round = 0; round < rounds; round += 1) {
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
    expect(found).toBeGreaterThan(rounds);
  });
});

/** TAR archives packed as a whole; tests/fixtures/make-whole-packed.py. */
const packed = (JSON.parse(fixture("whole-packed.json.gz").toString()) as { archives: Record<string, string> }).archives;
const packedBy = (name: string) => Buffer.from(packed[name] as string, "base64");
const repeated = (bytes: Uint8Array, times: number) => Buffer.concat(Array.from({ length: times }, () => bytes));

describe("packed data that seem to begin again everywhere", () => {
  const [gzip, bzip2, xz] = [packedBy("gzip"), packedBy("bzip2"), packedBy("xz")];
  // RFC 1952, 2.3.1: a member's header, and the beginning of a block.
  const member = Buffer.from([0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0, 5, 0xff]);
  const xzHead = xz.subarray(12, 12 + ((xz[12] as number) + 1) * 4);
  const FORMS: Readonly<Record<string, Buffer>> = {
    "heads of gzip members": Buffer.concat([gzip.subarray(0, 40_000), repeated(member, 30_000)]),
    "beginnings of gzip members": Buffer.concat([gzip.subarray(0, 40_000), repeated(gzip.subarray(0, 3000), 60)]),
    "blocks of deflated data": Buffer.concat([gzip.subarray(0, 40_000), repeated(gzip.subarray(20_000, 20_777), 400)]),
    "marks of bzip2 blocks": Buffer.concat([bzip2.subarray(0, 30_000), repeated(Buffer.from("314159265359", "hex"), 100_000)]),
    "bzip2 blocks": Buffer.concat([bzip2.subarray(0, 30_000), repeated(bzip2.subarray(4, 2000), 300)]),
    "heads of xz blocks": Buffer.concat([xz.subarray(0, 30_000), repeated(xzHead, 50_000)]),
    "xz blocks": Buffer.concat([xz.subarray(0, 12), repeated(xz.subarray(12, 3012), 300)]),
  };

  it.each(Object.entries(FORMS))("are given up after a while, with what stands before: %s", { timeout: 300_000 }, (name, bytes) => {
    const before = threadTime();
    const unpacked = unpackArchive(new MemorySource(bytes));
    expect(unpacked?.notes.length).toBeGreaterThan(0);
    const { entries } = readTarArchive(unpacked?.content ?? new MemorySource(bytes));
    // The first block of the last one is cut as all that follow are.
    if (name !== "xz blocks") expect(entries.length).toBeGreaterThan(20);
    expect(unpacked?.content.seams?.length ?? 0).toBeLessThanOrEqual(2_000);
    expect(threadTime() - before).toBeLessThan(120_000);
  });

  it("an archive of zeros that unpacks to a thousand times its size is left off", () => {
    const zeros = gzipSync(Buffer.alloc(1 << 26), { level: 9 });
    // Members of it one after the other: more than is unpacked of so small a file.
    const unpacked = unpackArchive(new MemorySource(repeated(zeros, 8)), { mostInMemory: 0, every: 1 << 24 });
    expect(unpacked?.notes.join()).toContain("unpacks to more than");
    expect(unpacked?.content.size).toBeLessThan((1 << 28) + 257 * 8 * zeros.length + (1 << 16));
  });
});
