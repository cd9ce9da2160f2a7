import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { BlockDisk, type BlockPlace, EntryTable, kept } from "./block-disk";

const SECTOR = 4;
const BLOCK = 16;
const BLOCKS = 6;

const place = fc.oneof(
  fc.constant<BlockPlace>("elsewhere"),
  fc.constant<BlockPlace>("zeros"),
  fc.constant<BlockPlace>("missing"),
  fc
    .record({
      slot: fc.integer({ min: 0, max: 9 }),
      own: fc.option(fc.array(fc.boolean(), { minLength: BLOCK / SECTOR, maxLength: BLOCK / SECTOR })),
    })
    .map(({ slot, own }): BlockPlace => (own ? { at: slot * BLOCK, own: (sector) => own[sector] === true } : { at: slot * BLOCK })),
);

describe("a disk kept in blocks", () => {
  it("reads as its bytes taken one by one do, whatever is asked of it", () => {
    const file = new MemorySource(Uint8Array.from({ length: 10 * BLOCK }, (_, i) => (i % 200) + 1));
    const parent = new MemorySource(Uint8Array.from({ length: BLOCKS * BLOCK }, (_, i) => 255 - (i % 50)));
    const byte = (places: readonly BlockPlace[], withParent: boolean, at: number): number => {
      if (at < 0 || at >= BLOCKS * BLOCK - 3) return 0;
      const each = places[Math.floor(at / BLOCK)] as BlockPlace;
      const above = withParent ? (readBytes(parent, at, 1)[0] as number) : 0;
      if (each === "zeros") return 0;
      if (each === "elsewhere") return above;
      if (each === "missing") return 0;
      const inside = at % BLOCK;
      return each.own && !each.own(Math.floor(inside / SECTOR)) ? above : (readBytes(file, each.at + inside, 1)[0] as number);
    };
    fc.assert(
      fc.property(
        fc.array(place, { minLength: BLOCKS, maxLength: BLOCKS }),
        fc.boolean(),
        fc.nat(BLOCKS * BLOCK + 8),
        fc.nat(40),
        (places, withParent, at, length) => {
          const disk = new BlockDisk(
            file,
            { size: BLOCKS * BLOCK - 3, blockSize: BLOCK, sectorSize: SECTOR, place: (block) => places[block] as BlockPlace },
            withParent ? parent : null,
          );
          expect([...readBytes(disk, at, length)]).toEqual(Array.from({ length }, (_, i) => byte(places, withParent, at + i)));
        },
      ),
    );
  });

  it("says what could not be read in the disk's own places, of the file and of the parent", () => {
    const file = new MemorySource(new Uint8Array(4 * BLOCK), [{ start: BLOCK + 4, end: BLOCK + 8 }]);
    const parent = new MemorySource(new Uint8Array(BLOCKS * BLOCK), [{ start: 3 * BLOCK, end: 3 * BLOCK + 2 }]);
    const places: BlockPlace[] = ["zeros", { at: BLOCK }, "elsewhere", "elsewhere", "zeros", "zeros"];
    const disk = new BlockDisk(
      file,
      { size: BLOCKS * BLOCK, blockSize: BLOCK, sectorSize: SECTOR, place: (block) => places[block] as BlockPlace },
      parent,
    );
    expect(disk.unreadable(0, disk.size)).toEqual([
      { start: BLOCK + 4, end: BLOCK + 8 },
      { start: 3 * BLOCK, end: 3 * BLOCK + 2 },
    ]);
    expect(disk.unreadable(0, BLOCK)).toEqual([]);
  });
});

describe("a disk whose file was cut short", () => {
  it("counts as unreadable what the file should hold and does not, and nothing else", () => {
    fc.assert(
      fc.property(
        fc.array(place, { minLength: BLOCKS, maxLength: BLOCKS }),
        fc.nat(10 * BLOCK),
        fc.boolean(),
        (places, cut, withParent) => {
          const file = new MemorySource(new Uint8Array(cut));
          const parent = withParent ? new MemorySource(new Uint8Array(BLOCKS * BLOCK)) : null;
          const geometry = {
            size: BLOCKS * BLOCK,
            blockSize: BLOCK,
            sectorSize: SECTOR,
            place: (block: number) => places[block] as BlockPlace,
          };
          const disk = new BlockDisk(file, geometry, parent);
          const wanted = Array.from({ length: disk.size }, (_, at) => {
            const each = places[Math.floor(at / BLOCK)] as BlockPlace;
            if (typeof each === "string") return each === "missing";
            const inside = at % BLOCK;
            return (each.own?.(Math.floor(inside / SECTOR)) ?? true) && each.at + inside >= cut;
          });
          const found = new Array<boolean>(disk.size).fill(false);
          for (const { start, end } of disk.unreadable(0, disk.size)) found.fill(true, start, end);
          expect(found).toEqual(wanted);
        },
      ),
    );
  });

  it("of many blocks goes through its table once, and again only where something is missing", () => {
    let asked = 0;
    const size = 4 * 2 ** 30;
    const file = new MemorySource(new Uint8Array(16));
    const disk = (seventh: BlockPlace) => {
      const of = (block: number) => {
        asked += 1;
        return block === 7 ? seventh : "zeros";
      };
      return new BlockDisk(file, { size, blockSize: 1 << 21, sectorSize: 512, place: of }, null);
    };
    const sound = disk("zeros");
    for (let times = 0; times < 5; times += 1) expect(sound.unreadable(0, size)).toEqual([]);
    expect(asked).toBe(2048);
    expect(disk("missing").unreadable(0, size)).toEqual([{ start: 7 << 21, end: 8 << 21 }]);
  });
});

describe("a table of entries", () => {
  it("gives each entry wherever it stands, and zeros past the end", () => {
    const bytes = new Uint8Array(20_000 * 4);
    const view = new DataView(bytes.buffer);
    for (let i = 0; i < 20_000; i += 1) view.setUint32(i * 4, i * 7, true);
    const table = new EntryTable(new MemorySource(bytes), 0, 4);
    for (const index of [0, 8191, 8192, 19_999, 3, 8192]) {
      const entry = table.entry(index);
      expect(entry.view.u32(entry.at)).toBe(index * 7);
    }
    const past = table.entry(30_000);
    expect(past.view.u32(past.at)).toBe(0);
  });

  it("what was made is kept, but never more of it than allowed", () => {
    let made = 0;
    const get = kept(3, (key) => {
      made += 1;
      return key * 2;
    });
    expect([get(1), get(1), get(2), get(3)]).toEqual([2, 2, 4, 6]);
    expect(made).toBe(3);
    expect(get(4)).toBe(8);
    expect(get(1)).toBe(2);
    expect(made).toBe(5);
  });
});
