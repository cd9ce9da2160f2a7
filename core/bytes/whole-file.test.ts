import { spawnSync } from "node:child_process";
import { createHash } from "node:crypto";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { afterAll, afterEach, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { randomBytesOf } from "../../tests/support/pieces-disk";
import { fixture } from "../../tests/support/volume-truth";
import { type ByteSource, MemorySource, readBytes } from "./byte-source";
import { keepIndexesIn } from "./unpack-index";
import { unpackHead, unpackWhole } from "./whole-file";

const work = mkdtempSync(join(tmpdir(), "compass-unpack-"));
afterAll(() => rmSync(work, { recursive: true, force: true }));

describe("a file compressed as a whole", () => {
  const plain = Buffer.from("a line of the log\n".repeat(40_000));
  const packed = gzipSync(plain);

  it("is unpacked as the general tool packed it, in several members too (RFC 1952, 2.2)", () => {
    const path = join(work, "log");
    writeFileSync(path, plain);
    expect(spawnSync("gzip", ["-k", path]).status).toBe(0);
    for (const bytes of [readFileSync(`${path}.gz`), Buffer.concat([packed, packed])]) {
      const found = unpackWhole(new MemorySource(bytes));
      expect(found).toMatchObject({ notes: [] });
      expect(Buffer.from(readBytes(found?.content as MemorySource, 0, plain.length)).equals(plain)).toBe(true);
    }
  });

  it("whose checksum or length does not agree is in doubt from the member's beginning on, though it unpacks", () => {
    for (const back of [8, 4]) {
      const bytes = Buffer.from(packed);
      bytes[bytes.length - back] = (bytes[bytes.length - back] as number) ^ 1;
      const alone = unpackWhole(new MemorySource(bytes));
      expect(alone).toMatchObject({ notes: [expect.stringContaining("checksum")] });
      expect(alone?.content.doubts).toEqual([{ start: 0, end: plain.length }]);
      const second = unpackWhole(new MemorySource(Buffer.concat([packed, bytes])));
      expect(second?.content.doubts).toEqual([{ start: plain.length, end: 2 * plain.length }]);
    }
  });

  it("that is cut off is unpacked up to there, and says so", () => {
    const found = unpackWhole(new MemorySource(packed.subarray(0, packed.length - 5)));
    expect(found?.notes.join()).toContain("cut off");
    expect(found?.content.size).toBe(plain.length);
  });
});

/** What gzip, bzip2, xz and Python's zipfile made of one text; tests/fixtures/make-whole-packed.py. */
const made = JSON.parse(fixture("whole-packed.json.gz").toString()) as {
  length: number;
  half: number;
  sha256: string;
  packed: Record<string, string>;
};
const sha256 = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");
const packedOf = (name: string) => Buffer.from(made.packed[name] as string, "base64");
/** As if the text did not fit into memory, with a place to go on from every 16 KiB. */
const SMALL = { mostInMemory: 0, every: 1 << 14 };
const whole = (content: ByteSource) => readBytes(content, 0, content.size);

/** A source that counts what is read of it. */
function counted(bytes: Uint8Array) {
  const source = new MemorySource(bytes);
  const seen = { read: 0 };
  return {
    seen,
    size: source.size,
    read: (at: number, into: Uint8Array) => {
      seen.read += into.length;
      source.read(at, into);
    },
    unreadable: () => [],
  };
}

describe("a large file compressed as a whole", () => {
  // What other tests have gone through must not help.
  afterEach(() => keepIndexesIn(null));
  const text = Buffer.from(whole(unpackWhole(new MemorySource(packedOf("gzip")))?.content as ByteSource));

  it.each(Object.keys(made.packed))("comes out as it went in, in memory and read from its file, at any place: %s", (name) => {
    const bytes = packedOf(name);
    const inMemory = unpackWhole(new MemorySource(bytes));
    expect(inMemory).toMatchObject({ notes: [] });
    expect(sha256(whole(inMemory?.content as ByteSource))).toBe(made.sha256);
    const large = unpackWhole(new MemorySource(bytes), null, SMALL);
    expect(large).toMatchObject({ notes: [] });
    const content = large?.content as ByteSource;
    expect(content.size).toBe(made.length);
    expect(sha256(whole(content))).toBe(made.sha256);
    const random = seeded(name.length);
    for (let tries = 0; tries < 80; tries += 1) {
      const length = 1 + Math.floor(random() * 30_000);
      const at = Math.floor(random() * made.length);
      const wanted = Buffer.alloc(length);
      text.copy(wanted, 0, at, Math.min(text.length, at + length));
      expect(Buffer.from(readBytes(content, at, length)).equals(wanted), `${length} bytes at ${at}`).toBe(true);
    }
    expect(sha256(unpackHead(new MemorySource(bytes), made.length) as Uint8Array)).toBe(made.sha256);
  });

  it.each(["gzip", "bzip2", "xz", "xz, blocks"])("is gone through once; what was learnt is kept, unless it was damaged: %s", (name) => {
    const bytes = packedOf(name);
    const kept = new Map<string, Uint8Array>();
    const store = { load: (key: string) => kept.get(key) ?? null, save: (key: string, index: Uint8Array) => void kept.set(key, index) };
    keepIndexesIn(store);
    expect(sha256(whole(unpackWhole(new MemorySource(bytes), null, SMALL)?.content as ByteSource))).toBe(made.sha256);
    expect(kept.size).toBe(1);
    // Another process: it knows what is kept alone.
    keepIndexesIn(store);
    const again = counted(bytes);
    const content = unpackWhole(again, null, SMALL)?.content as ByteSource;
    expect(content.size).toBe(made.length);
    // Only the ends were looked at, by which the file is recognised.
    expect(again.seen.read).toBeLessThan(4096 + 2 * (1 << 16) + 1);
    expect(Buffer.from(readBytes(content, made.length - 1000, 1000)).equals(text.subarray(made.length - 1000))).toBe(true);
    for (const [key, index] of kept) {
      const damaged = Buffer.from(index);
      damaged[damaged.length >> 1] = (damaged[damaged.length >> 1] as number) ^ 1;
      kept.set(key, damaged);
    }
    keepIndexesIn(store);
    expect(sha256(whole(unpackWhole(new MemorySource(bytes), null, SMALL)?.content as ByteSource))).toBe(made.sha256);
  });

  it("is not taken for another one that is as long", () => {
    const bytes = packedOf("gzip");
    unpackWhole(new MemorySource(bytes), null, SMALL);
    const other = gzipSync(Buffer.alloc(made.length, "another text\n"), { level: 0 });
    expect(Buffer.from(readBytes(unpackWhole(new MemorySource(other), null, SMALL)?.content as ByteSource, 0, 12)).toString()).toBe(
      "another text",
    );
  });

  it("is not taken for a damaged copy of it, whose length and ends are the same", () => {
    const sound = gzipSync(randomBytesOf(7, 400_000), { level: 1 });
    const damaged = Buffer.from(sound);
    damaged.fill(0, 200_000, 200_512);
    for (const identities of [
      [undefined, undefined],
      ["file 1", "file 2"],
    ]) {
      const [one, two] = [sound, damaged].map((bytes, index) =>
        unpackWhole(Object.assign(new MemorySource(bytes), { identity: identities[index] }), null, SMALL),
      );
      expect(one).toMatchObject({ notes: [] });
      expect(one?.content.doubts).toBeUndefined();
      expect(two?.notes.length).toBeGreaterThan(0);
      expect(two?.content.doubts?.length).toBeGreaterThan(0);
    }
  });

  it("is recognised by where it stands, where that is known, without being read", () => {
    const random = randomBytesOf(9, 400_000);
    const read = (identity: string) => {
      const source = counted(gzipSync(random, { level: 1 }));
      unpackWhole(Object.assign(source, { identity }), null, SMALL);
      return source.seen.read;
    };
    expect(read("a file")).toBeGreaterThan(400_000);
    expect(read("a file")).toBeLessThan(4096 + 2 * (1 << 16) + 1);
    expect(read("another file")).toBeGreaterThan(400_000);
  });

  it.each(Object.keys(made.packed))("that is damaged gives what stands before, and does not vouch for more: %s", (name) => {
    const random = seeded(5 + name.length);
    let standing = 0;
    for (let tries = 0; tries < 12; tries += 1) {
      const bytes = packedOf(name);
      const at = 40 + Math.floor(random() * (bytes.length - 80));
      for (let i = 0; i < 16; i += 1) bytes[at + i] = Math.floor(random() * 256);
      const unpacked = unpackWhole(new MemorySource(bytes), null, SMALL);
      expect(unpacked?.notes.length, `damage at ${at}`).toBeGreaterThan(0);
      const content = unpacked?.content as ByteSource;
      const vouched = Math.min(content.doubts?.[0]?.start ?? content.size, content.seams?.[0] ?? content.size);
      standing += vouched;
      expect(Buffer.from(readBytes(content, 0, vouched)).equals(text.subarray(0, vouched)), `damage at ${at}`).toBe(true);
      const inMemory = unpackWhole(new MemorySource(bytes));
      expect(sha256(whole(inMemory?.content as ByteSource))).toBe(sha256(whole(content)));
    }
    // Where one block is all of a file, nothing before its checksum is vouched for.
    if (name !== "xz" && name !== "gzip") expect(standing).toBeGreaterThan(made.length);
  });

  it("of several members goes on behind one whose checksum does not agree", () => {
    const first = gzipSync(text.subarray(0, made.half));
    const second = gzipSync(text.subarray(made.half));
    first.writeUInt32LE(1, first.length - 8);
    const unpacked = unpackWhole(new MemorySource(Buffer.concat([first, second])), null, SMALL);
    expect(unpacked).toMatchObject({ notes: [expect.stringContaining("checksum")], content: { doubts: [{ start: 0, end: made.half }] } });
    expect(sha256(whole(unpacked?.content as ByteSource))).toBe(made.sha256);
  });

  it("with a wrong checksum at its end is not begun anew at an archive that lies in it as it is", () => {
    const inner = gzipSync(randomBytesOf(4, 50_000));
    const outer = Buffer.concat([text.subarray(0, 70_000), inner, text.subarray(0, 70_000)]);
    const bytes = gzipSync(outer, { level: 0 });
    bytes.writeUInt32LE(7, bytes.length - 8);
    const unpacked = unpackWhole(new MemorySource(bytes), null, SMALL);
    expect(unpacked).toMatchObject({ content: { size: outer.length, doubts: [{ start: 0, end: outer.length }] } });
    expect(sha256(whole(unpacked?.content as ByteSource))).toBe(sha256(outer));
  });

  it.each(["gzip, two members", "bzip2, two streams", "xz, two streams with zeros between"])(
    "of which the head of a further stream is damaged says that something is missing: %s",
    (name) => {
      const bytes = packedOf(name);
      const mark = name.startsWith("gzip") ? "\x1f\x8b\x08" : name.startsWith("bzip2") ? "BZh91AY" : "\xfd7zXZ";
      const second = bytes.indexOf(Buffer.from(mark, "latin1"), 100);
      expect(second).toBeGreaterThan(100);
      bytes.fill(0x55, second, second + 3);
      const unpacked = unpackWhole(new MemorySource(bytes), null, SMALL);
      expect(unpacked?.notes.length).toBe(1);
      const content = unpacked?.content as ByteSource;
      expect(Buffer.from(readBytes(content, 0, made.half)).equals(text.subarray(0, made.half))).toBe(true);
      // The blocks of bzip2 are whole without it, and a third stream is found all the same.
      if (name.startsWith("bzip2")) expect(sha256(whole(content))).toBe(made.sha256);
      else expect(content.size).toBe(made.half);
      const three = unpackWhole(new MemorySource(Buffer.concat([bytes, packedOf(name)])), null, SMALL)?.content as ByteSource;
      expect(Buffer.from(readBytes(three, three.size - 1000, 1000)).equals(text.subarray(made.length - 1000))).toBe(true);
    },
  );

  it("with zeros behind it is all of it; with something else it says so", () => {
    for (const name of ["gzip", "bzip2", "xz"]) {
      const bytes = packedOf(name);
      expect(unpackWhole(new MemorySource(Buffer.concat([bytes, Buffer.alloc(5000)])), null, SMALL)?.notes).toEqual([]);
      const trailing = unpackWhole(new MemorySource(Buffer.concat([bytes, Buffer.from("something else, not packed")])), null, SMALL);
      expect(trailing?.notes).toEqual(["Behind its end stands something else that is not read."]);
      expect(sha256(whole(trailing?.content as ByteSource))).toBe(made.sha256);
    }
  });
});
