import { spawnSync } from "node:child_process";
import { createHash } from "node:crypto";
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { readTarArchive } from "./tar-archive";
import { unpackArchive } from "./unpack";

/** A TAR archive by Python's tarfile, packed in blocks by bzip2 and xz and in members by gzip; tests/fixtures/make-whole-packed.py. */
const made = JSON.parse(fixture("whole-packed.json.gz").toString()) as {
  files: Record<string, string>;
  tarLength: number;
  archives: Record<string, string>;
};
const all = Object.keys(made.files).length;

type Damage = (bytes: Buffer, at: number, random: () => number) => Buffer;
const KINDS: Readonly<Record<string, Damage>> = {
  zeros: (bytes, at) => Buffer.from(bytes).fill(0, at, at + 700),
  flips: (bytes, at, random) => {
    const copy = Buffer.from(bytes);
    for (let i = 0; i < 5; i += 1) copy[at + 40 * i] = (copy[at + 40 * i] as number) ^ (1 << Math.floor(random() * 8));
    return copy;
  },
  "bytes taken out": (bytes, at) => Buffer.concat([bytes.subarray(0, at), bytes.subarray(at + 332)]),
  "bytes slipped in": (bytes, at) => Buffer.concat([bytes.subarray(0, at), Buffer.alloc(76, 0x5a), bytes.subarray(at)]),
};

/** What a reading says of its files, by the truth. */
function read(bytes: Uint8Array) {
  const unpacked = unpackArchive(new MemorySource(bytes), { mostInMemory: 0, every: 1 << 15 });
  const reading = readTarArchive(unpacked?.content ?? new MemorySource(bytes));
  const tally = { right: 0, falsely: [] as string[], notes: [...(unpacked?.notes ?? []), ...reading.notes] };
  for (const { path, size, standing, open, type } of reading.entries) {
    if (type !== "file") continue;
    const hash = createHash("sha256")
      .update(readBytes(open(), 0, size))
      .digest("hex");
    if (hash === made.files[path]) tally.right += 1;
    else if (standing === "sound") tally.falsely.push(path);
  }
  return tally;
}

describe("a TAR archive that is compressed as a whole", () => {
  it.each(Object.keys(made.archives))("comes out file by file: %s", (name) => {
    expect(read(Buffer.from(made.archives[name] as string, "base64"))).toEqual({ right: all, falsely: [], notes: [] });
  });

  /** Texts that lie in one stream repeat one another too much: of those behind damage next to nothing can be known. */
  const inPieces = Object.keys(made.archives).filter((name) => name !== "gzip");
  it.each(inPieces.flatMap((name) => Object.keys(KINDS).map((kind) => [name, kind] as const)))(
    "that is damaged is read on behind that, and no file is called sound that is not: %s, %s",
    (name, kind) => {
      const bytes = Buffer.from(made.archives[name] as string, "base64");
      let right = 0;
      const turns = 8;
      for (let turn = 0; turn < turns; turn += 1) {
        const random = seeded(100 * turn + kind.length);
        // Anywhere but in the first tenth, which may hold the head of everything, and the last one.
        const at = Math.floor(bytes.length * (0.1 + 0.8 * random()));
        const found = read((KINDS[kind] as Damage)(bytes, at, random));
        expect(found.falsely, `at ${at}`).toEqual([]);
        expect(found.notes.length, `at ${at}`).toBeGreaterThan(0);
        right += found.right;
      }
      // One block of about six (bzip2), or of ten, is gone each time.
      expect(right / (turns * all)).toBeGreaterThan(name === "bzip2" ? 0.75 : 0.8);
    },
  );

  it.each(Object.keys(KINDS))(
    "by gzip in one stream is read on behind damage, where files do not repeat one another: %s",
    { tags: "long" },
    (kind) => {
      // Names and places in it are those of the general tool; contents are like photographs.
      const random = seeded(9);
      const work = mkdtempSync(join(tmpdir(), "compass-packed-tar-"));
      const truth = new Map<string, string>();
      mkdirSync(join(work, "photos"));
      for (let i = 0; i < 60; i += 1) {
        const bytes = Buffer.alloc(5000 + Math.floor(random() * 40_000)).map(() => (random() < 0.15 ? 0 : Math.floor(random() * 256)));
        writeFileSync(join(work, "photos", `img_${1000 + i}.jpg`), bytes);
        truth.set(`photos/img_${1000 + i}.jpg`, createHash("sha256").update(bytes).digest("hex"));
      }
      const tar = spawnSync("tar", ["cf", "-", "-C", work, "photos"], { maxBuffer: 1 << 26 }).stdout;
      rmSync(work, { recursive: true });
      const packed = gzipSync(tar);
      let [right, falsely] = [0, 0];
      for (let turn = 0; turn < 6; turn += 1) {
        const drawn = seeded(10 * turn + kind.length);
        const bytes = (KINDS[kind] as Damage)(packed, Math.floor(packed.length * (0.1 + 0.8 * drawn())), drawn);
        for (const { path, size, standing, open } of readTarArchive(
          unpackArchive(new MemorySource(bytes))?.content ?? new MemorySource(tar),
        ).entries) {
          // A size in a damaged header may be anything.
          const isRight =
            size < tar.length &&
            createHash("sha256")
              .update(readBytes(open(), 0, size))
              .digest("hex") === truth.get(path);
          if (isRight) right += 1;
          else if (standing === "sound" && truth.has(path)) falsely += 1;
        }
      }
      expect(falsely).toBe(0);
      // A block holds two or three of them.
      expect(right / (6 * truth.size)).toBeGreaterThan(0.85);
    },
  );
});
