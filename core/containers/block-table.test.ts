import { gunzipSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { dynamicVhd } from "../../tests/support/dynamic-vhd";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import type { Container } from "./container";
import { openContainer } from "./open-container";

// By qemu-img, tests/fixtures/containers.json.gz.
const made = JSON.parse(fixture("containers.json.gz").toString()) as Record<string, { gzip: string }>;
const file = (name: string) => gunzipSync(Buffer.from(made[name]?.gzip ?? "", "base64"));
const open = (bytes: Uint8Array) => openContainer(new MemorySource(bytes));
const MIB = 1 << 20;

/** What is given out as right, and is not: bytes of a disk that differ, and are neither unreadable nor in doubt. */
function wrongBytes({ disk }: Container, truth: Uint8Array): number {
  const bytes = readBytes(disk, 0, disk.size);
  for (const { start, end } of [...disk.unreadable(0, disk.size), ...(disk.doubts ?? [])])
    bytes.set(truth.subarray(start, Math.min(end, truth.length)), start);
  return bytes.reduce((sum, byte, i) => sum + (byte === truth[i] ? 0 : 1), 0);
}

describe("the table of blocks of a VHDX ([MS-VHDX] 2.5), which nothing else checks", () => {
  const sound = file("dynamic.vhdx");
  const truth = readBytes(open(sound).disk, 0, open(sound).disk.size);
  /** Where the table stands: the entry of its region in the first table of them (2.2.3.2). */
  const tableAt = [0, 1, 2].map((i) => 192 * 1024 + 16 + i * 32).find((at) => sound.readUInt32LE(at) === 0x2dc27766) as number;
  const at = Number(sound.readBigUInt64LE(tableAt + 16));
  const present = Array.from({ length: 64 }, (_, i) => i).filter((i) => (sound.readUInt32LE(at + i * 8) & 7) === 6);

  it("has nothing wrong with it where it is sound", () => {
    expect(present.length).toBeGreaterThan(0);
    expect(open(sound).notes).toEqual([]);
  });

  it("makes blocks that cannot be where it says unreadable", { tags: "long" }, () => {
    for (const place of [0n, 1n, BigInt(at / MIB)])
      for (const index of present) {
        const bytes = Buffer.from(sound);
        bytes.writeBigUInt64LE((place << 20n) | 6n, at + index * 8);
        const container = open(bytes);
        expect(container.notes.join()).toContain("where it keeps its own data");
        expect(container.disk.unreadable(0, container.disk.size).length).toBeGreaterThan(0);
        expect(wrongBytes(container, truth)).toBe(0);
      }
  });

  it("takes no log for data that were left out, of an image whose headers are gone", () => {
    const bytes = file("dirty.vhdx");
    // The log stands behind the headers, with entries in it (2.3.1.1).
    expect(bytes.indexOf("loge", MIB, "latin1")).toBeLessThan(2 * MIB);
    bytes.fill(0, 64 * 1024, 132 * 1024);
    const { notes } = open(bytes);
    expect(notes).toHaveLength(1);
    expect(notes[0]).toContain("whether its log holds changes");
  });

  it.each([4, 5, 7])("makes a block of the state %i, which there is none of, unreadable", (state) => {
    const bytes = Buffer.from(sound);
    const index = present[0] as number;
    bytes.writeUInt32LE(((bytes.readUInt32LE(at + index * 8) >>> 3) << 3) | state, at + index * 8);
    const container = open(bytes);
    expect(container.disk.unreadable(0, container.disk.size).length).toBeGreaterThan(0);
    expect(wrongBytes(container, truth)).toBe(0);
  });

  it("says that data were left out where entries are zeros", () => {
    const bytes = Buffer.from(sound);
    bytes.fill(0, at, at + 64 * 8);
    expect(open(bytes).notes.join()).toMatch(/holds data of (one block|\d+ blocks) to which no entry/);
    expect(wrongBytes(open(bytes), truth)).toBe(0);
  });
});

describe("the table of blocks of a dynamic VHD", () => {
  const draw = seeded(5);
  const disk = Uint8Array.from({ length: 6 * MIB }, (_, i) => (Math.floor(i / (1 << 19)) % 4 === 3 ? 0 : 1 + draw() * 255));
  const sound = dynamicVhd(disk);
  const TABLE_AT = 3 * 512;
  const UNUSED = 0xffffffff;

  it("gives no byte for right that is not, whatever one of its entries says", { tags: "long" }, () => {
    expect(open(sound).notes).toEqual([]);
    let said = 0;
    for (let seed = 1; seed <= 60; seed += 1) {
      const random = seeded(seed);
      const bytes = Buffer.from(sound);
      const index = Math.floor(random() * 12);
      const other = Math.floor(random() * 12);
      const value = [0, 3, bytes.readUInt32BE(TABLE_AT + other * 4), Math.floor(random() * 2 ** 31), UNUSED][seed % 5] as number;
      if (value === bytes.readUInt32BE(TABLE_AT + index * 4)) continue;
      bytes.writeUInt32BE(value, TABLE_AT + index * 4);
      const container = open(bytes);
      said += container.notes.length > 0 ? 1 : 0;
      expect(wrongBytes(container, disk), `seed ${seed}`).toBe(0);
    }
    expect(said).toBeGreaterThan(20);
  });

  it("misses no block that begins with zeros", () => {
    const late = Uint8Array.from(disk);
    late.fill(0, 0, 300_000);
    const bytes = dynamicVhd(late);
    bytes.writeUInt32BE(UNUSED, TABLE_AT);
    // The bitmap before it says which sectors are there; without it, too, what stands in it is seen.
    bytes.fill(0, 2048, 2048 + 512);
    expect(open(bytes).notes.join()).toContain("holds data of one block to which no entry");
    expect(wrongBytes(open(bytes), late)).toBe(0);
  });

  it("is found by what it looks like where the header that leads to it is overwritten, and nothing else is taken for it", () => {
    const made = file("dynamic.vhd");
    for (const [bytes, truth] of [
      [sound, disk],
      [made, readBytes(open(made).disk, 0, open(made).disk.size)],
    ] as const) {
      const damaged = Buffer.from(bytes);
      damaged.fill(0, 512, TABLE_AT);
      const container = open(damaged);
      expect(container.notes.join()).toContain("found by what it looks like");
      expect(Buffer.compare(readBytes(container.disk, 0, container.disk.size), truth)).toBe(0);
      damaged.fill(0, TABLE_AT, TABLE_AT + 512);
      expect(() => open(damaged)).toThrow(/is overwritten/);
    }
  });
});
