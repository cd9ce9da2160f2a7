import { constants, createDeflateRaw, deflateRawSync } from "node:zlib";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { BlockReader } from "./block-reader";
import { MemorySource } from "./byte-source";
import { canBeginBlock, InflateError, inflate, inflateFrom, TooMuch } from "./inflate";
import { PastEnd } from "./past-end";

const readerOf = (bytes: Uint8Array, block?: number) => new BlockReader(new MemorySource(bytes), block);

function unpack(packed: Uint8Array, most?: number): { plain: Buffer; end: number } {
  const pieces: Buffer[] = [];
  const { end } = inflate(readerOf(packed, 512), 0, packed.length, (plain) => pieces.push(Buffer.from(plain)), most);
  return { plain: Buffer.concat(pieces), end };
}

/** Truth: the runtime's own zlib packs; we unpack, and find where the packed bytes end, which it does not need to. */
describe("inflate", () => {
  it("gives back what was packed at every level, and where it ends", () => {
    fc.assert(
      fc.property(
        fc.uint8Array({ maxLength: 4000 }),
        fc.integer({ min: 1, max: 60 }),
        fc.integer({ min: 0, max: 9 }),
        (part, times, level) => {
          const plain = Buffer.concat(Array.from({ length: times }, () => part));
          const packed = deflateRawSync(plain, { level });
          const found = unpack(Buffer.concat([packed, Buffer.from("something else behind")]));
          expect(found.plain.equals(plain)).toBe(true);
          expect(found.end).toBe(packed.length);
        },
      ),
      { numRuns: 120, seed: 3 },
    );
  });

  it("of damaged data gives what stood before the damage, and says so", () => {
    const random = seeded(11);
    const plain = Buffer.from(Array.from({ length: 30_000 }, () => "abcdefgh"[Math.floor(random() * 8)]).join(""));
    const packed = deflateRawSync(plain);
    for (let round = 0; round < 60; round += 1) {
      const hurt = Buffer.from(packed);
      const at = Math.floor(random() * hurt.length);
      hurt.fill(0xff, at, at + 40);
      let before = Buffer.alloc(0);
      try {
        inflate(readerOf(hurt), 0, hurt.length, (piece) => {
          before = Buffer.concat([before, piece]);
        });
      } catch (error) {
        expect(error).toBeInstanceOf(InflateError);
        expect((error as InflateError).at).toBeGreaterThanOrEqual(at);
      }
      // Up to the damage everything is right; packed bytes make at least as many plain ones here.
      const sure = Math.max(0, at - 1000);
      expect(before.subarray(0, sure).equals(plain.subarray(0, Math.min(sure, before.length)))).toBe(true);
    }
    expect(() => unpack(packed.subarray(0, packed.length / 2))).toThrow(InflateError);
  });

  it("gives up what unpacks to more than is wanted", () => {
    expect(() => unpack(deflateRawSync(Buffer.alloc(10_000_000)), 1_000_000)).toThrow(TooMuch);
  });
});

describe("the block reader", () => {
  const bytes = Uint8Array.from({ length: 5000 }, (_, i) => (i * 31) & 255);
  it("reads numbers across the ends of blocks as a view on all the bytes would", () => {
    const reader = readerOf(bytes, 64);
    const view = new DataView(bytes.buffer);
    fc.assert(
      fc.property(fc.nat(4991), (at) => {
        expect([reader.u8(at), reader.u16(at), reader.u16be(at), reader.u32(at), reader.u32be(at)]).toEqual([
          view.getUint8(at),
          view.getUint16(at, true),
          view.getUint16(at),
          view.getUint32(at, true),
          view.getUint32(at),
        ]);
        expect(reader.u64(at)).toBe(Number(view.getBigUint64(at, true)));
      }),
    );
  });
  it("says where the bytes break off, and finds words wherever they stand", () => {
    const reader = readerOf(bytes, 64);
    for (const at of [4997, 5000, -1]) expect(() => reader.u32(at)).toThrow(PastEnd);
    const words = Buffer.from(`${"x".repeat(61)}needle${"y".repeat(100)}needle`);
    const source = readerOf(words, 64);
    expect([source.find("needle", 0), source.find("needle", 62), source.find("needle", 0, 66), source.find("pin", 0)]).toEqual([
      61, 167, -1, -1,
    ]);
    expect([...source.blocks(10, 140)].map(({ at, bytes: part }) => [at, part.length])).toEqual([
      [10, 64],
      [74, 64],
      [138, 2],
    ]);
  });
});

/** Truth: the platform's zlib. After a full flush (zlib manual, Z_FULL_FLUSH) nothing that follows refers to what stood before. */
describe("unpacking from the midst of packed data", () => {
  const line = (i: number) => `night ${i}: seeing ${(i * 7919) % 97}, clouds ${(i * 104_729) % 89}\n`;
  const part = (from: number) => Buffer.from(Array.from({ length: 2000 }, (_, i) => line(from + i)).join(""));

  async function flushed(): Promise<{ packed: Buffer; at: number }> {
    const deflate = createDeflateRaw({ level: 9 });
    const pieces: Buffer[] = [];
    deflate.on("data", (piece: Buffer) => pieces.push(piece));
    deflate.write(part(0));
    await new Promise<void>((done) => deflate.flush(constants.Z_FULL_FLUSH, done));
    const at = Buffer.concat(pieces).length;
    deflate.end(part(5000));
    await new Promise((done) => deflate.on("end", done));
    return { packed: Buffer.concat(pieces), at };
  }

  it("gives all that follows, and needs nothing that came before", async () => {
    const { packed, at } = await flushed();
    const reader = new BlockReader(new MemorySource(packed));
    for (const filler of [0, 0xff]) {
      const pieces: Buffer[] = [];
      const { end, plain } = inflateFrom(reader, 8 * at, packed.length, (piece) => pieces.push(Buffer.from(piece)), filler);
      expect(Buffer.concat(pieces).equals(part(5000))).toBe(true);
      expect([end, plain]).toEqual([packed.length, part(5000).length]);
    }
  });

  it("knows where a block can begin, and hardly anywhere else", async () => {
    const { packed, at } = await flushed();
    expect(canBeginBlock(packed, 0)).toBe(true);
    expect(canBeginBlock(packed, 8 * at)).toBe(true);
    let chance = 0;
    for (let bit = 0; bit < 8 * packed.length; bit += 1) if (canBeginBlock(packed, bit)) chance += 1;
    expect(chance).toBeLessThan((8 * packed.length) / 500);
    expect(canBeginBlock(new Uint8Array(4), 0)).toBe(false);
    expect(canBeginBlock(packed, 8 * packed.length + 5)).toBe(false);
  });

  it("says in which block the data stopped making sense, and how many were sound", async () => {
    const { packed, at } = await flushed();
    const hurt = Buffer.from(packed);
    hurt.fill(0xff, at, at + 64);
    try {
      inflate(new BlockReader(new MemorySource(hurt)), 0, hurt.length, () => undefined);
      expect.unreachable();
    } catch (error) {
      expect(error).toBeInstanceOf(InflateError);
      expect((error as InflateError).blocks).toBeGreaterThanOrEqual(1);
      expect((error as InflateError).blockAt).toBeLessThanOrEqual(8 * (at + 64));
      expect((error as InflateError).blockAt).toBeGreaterThanOrEqual(8 * (at - 5));
    }
  });
});
