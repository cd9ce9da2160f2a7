import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { copiesAt, imageSource, readTruth } from "../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { FILE_MARK } from "../bytes/file-marks";
import { setChecksum } from "./exfat/entry-set";
import { finderFlagsIn, marksOfMac } from "./mac-marks";

/** Sets the attribute bits of a record; where they stand is each specification's. @param at disk byte offset of the record */
type SetBits = (bytes: Buffer, at: number, bits: number) => void;

/** "FAT 32 Byte Directory Entry Structure": DIR_Attr at 11. */
const ofFat: SetBits = (bytes, at, bits) => bytes.writeUInt8((bytes.readUInt8(at + 11) & ~3) | bits, at + 11);
/** exFAT, 7.4: FileAttributes at 4; the set's checksum at 2 covers them. */
const ofExfat: SetBits = (bytes, at, bits) => {
  bytes.writeUInt16LE((bytes.readUInt16LE(at + 4) & ~3) | bits, at + 4);
  const length = (1 + bytes.readUInt8(at + 1)) * 32;
  bytes.writeUInt16LE(setChecksum(bytes.subarray(at, at + length)), at + 2);
};
/** The attribute `$STANDARD_INFORMATION` (type 0x10), whose value has the file's attributes at 32. */
const ofNtfs: SetBits = (bytes, at, bits) => {
  let place = at + bytes.readUInt16LE(at + 20);
  while (bytes.readUInt32LE(place) !== 0x10) place += bytes.readUInt32LE(place + 4);
  const value = place + bytes.readUInt16LE(place + 20) + 32;
  bytes.writeUInt32LE((bytes.readUInt32LE(value) & ~3) | bits, value);
};

describe.each([
  ["fat12", ofFat],
  ["fat32", ofFat],
  ["exfat", ofExfat],
  ["ntfs-gpt", ofNtfs],
  ["ntfs-4kn", ofNtfs],
] as const)("marks of files on %s", (name, setBits) => {
  const source = imageSource(name);
  const { partitionOffset } = readTruth(name).volume;
  const clean = Buffer.from(readBytes(source, 0, source.size));
  const placeOf = (reference: string): number => {
    const number = Number(reference.match(/\d+/)?.[0]);
    if (setBits !== ofNtfs) return number;
    // A record's own number stands in it at 44; the copy of the first ones has them too, so the last place counts.
    const found: number[] = [];
    for (let at = clean.indexOf("FILE"); at >= 0; at = clean.indexOf("FILE", at + 1))
      if (at % 512 === 0 && clean.readUInt32LE(at + 44) === number && (clean.readUInt16LE(at + 22) & 1) !== 0) found.push(at);
    return found.at(-1) as number;
  };

  it("are read only, hidden, both or none, as the record says", { tags: "long" }, () => {
    const draw = seeded(name.length + 41);
    const live = copiesAt(new MemorySource(clean), partitionOffset).filter(
      ({ state, type, system }) => state === "live" && type === "file" && !system,
    );
    const marked = live.filter(() => draw() < 0.5).slice(0, 40);
    expect(marked.length).toBeGreaterThan(8);
    const bytes = Buffer.from(clean);
    const wanted = new Map<string, number>();
    for (const { reference } of marked) {
      const bits = Math.floor(draw() * 4);
      wanted.set(reference, bits);
      setBits(bytes, placeOf(reference), bits);
    }
    const read = copiesAt(new MemorySource(bytes), partitionOffset).filter(
      ({ state, type, system }) => state === "live" && type === "file" && !system,
    );
    expect(read).toHaveLength(live.length);
    for (const { reference, marks = 0, path } of read)
      expect([path, marks]).toEqual([path, wanted.get(reference) ?? before(live, reference)]);
  });
});

const before = (live: readonly { reference: string; marks?: number }[], reference: string) =>
  live.find((each) => each.reference === reference)?.marks ?? 0;

describe("marks of files of a Mac", () => {
  const plain = { flags: 0, mode: 0o100644, finderFlags: 0 };
  it("are those of chflags(2), of the mode and of the Finder", () => {
    expect(marksOfMac(plain)).toBe(0);
    // UF_IMMUTABLE and SF_IMMUTABLE, UF_HIDDEN: values of <sys/stat.h>.
    expect(marksOfMac({ ...plain, flags: 0x2 })).toBe(FILE_MARK.readOnly);
    expect(marksOfMac({ ...plain, flags: 0x20000 })).toBe(FILE_MARK.readOnly);
    expect(marksOfMac({ ...plain, flags: 0x8000 })).toBe(FILE_MARK.hidden);
    expect(marksOfMac({ ...plain, mode: 0o100444 })).toBe(FILE_MARK.readOnly);
    // Old systems kept no mode at all.
    expect(marksOfMac({ ...plain, mode: 0 })).toBe(0);
    // kIsInvisible.
    expect(marksOfMac({ ...plain, finderFlags: 0x4000 })).toBe(FILE_MARK.hidden);
    expect(marksOfMac({ flags: 0x8002, mode: 0, finderFlags: 0 })).toBe(FILE_MARK.hidden | FILE_MARK.readOnly);
  });

  it("the Finder's flags stand behind type and creator", () => {
    expect(finderFlagsIn(Buffer.from("TEXTttxt\x40\x00", "latin1"))).toBe(0x4000);
    expect(finderFlagsIn(Buffer.from("TEXT"))).toBe(0);
    expect(finderFlagsIn(undefined)).toBe(0);
  });
});
