import { describe, expect, it } from "vitest";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import { LayoutSource, type Segment } from "../bytes/layout";
import type { FileRecord } from "../filesystems/file-record";
import { placeOverFiles, shifted } from "./over-files";

const bytes = (length: number, first: number) => Uint8Array.from({ length }, (_, index) => (first + index) & 0xff);
/** Five files of a folder, of different lengths. */
const parts = [40, 7, 25, 60, 13].map((length, index) => ({ name: `part ${index}`, content: bytes(length, index * 50) }));
const files = parts.map(({ name, content }) => ({
  size: content.length,
  file: { name, file: name, size: content.length } as unknown as FileRecord,
}));
const whole = new ConcatSource(parts.map(({ content }) => new MemorySource(content)));

const readWhere = (segments: readonly Segment[], size: number) => {
  const place = placeOverFiles(segments, size, files);
  if (!place) return null;
  const holders = [place.holder, ...place.further];
  const opened = new ConcatSource(
    holders.map(({ name }) => new MemorySource(parts.find((part) => part.name === name)?.content as Uint8Array)),
  );
  return { names: holders.map(({ name }) => name), content: readBytes(new LayoutSource(opened, place.layout), 0, size) };
};

describe("a content over several files of a folder", () => {
  it("gives the same bytes over the files it leads into alone, for every stretch", () => {
    for (let at = 0; at < whole.size; at += 1)
      for (const length of [1, 5, 30, 70].filter((each) => at + each <= whole.size)) {
        const found = readWhere([{ kind: "disk", at, length }], length);
        expect(found?.content).toEqual(readBytes(whole, at, length));
        expect(found?.names.length).toBeLessThanOrEqual(4);
      }
  });

  it("in pieces, coded ones too, leaves out the files between", () => {
    const segments: Segment[] = [
      { kind: "disk", at: 135, length: 5 },
      { kind: "hole", length: 3 },
      { kind: "disk", at: 10, length: 20 },
    ];
    const found = readWhere(segments, 28);
    expect(found?.names).toEqual(["part 0", "part 4"]);
    expect(found?.content).toEqual(Uint8Array.from([...readBytes(whole, 135, 5), 0, 0, 0, ...readBytes(whole, 10, 20)]));
    const coded: Segment = { kind: "coded", coding: "deflate", length: 9, from: [{ at: 75, length: 10 }] };
    expect(placeOverFiles([coded], 9, files)?.layout.segments).toEqual([{ ...coded, from: [{ at: 3, length: 10 }] }]);
  });

  it("that stands in none of them has no place; zero shift changes nothing", () => {
    expect(placeOverFiles([{ kind: "hole", length: 4 }], 4, files)).toBeNull();
    expect(placeOverFiles([{ kind: "disk", at: 1000, length: 4 }], 4, files)).toBeNull();
    const segments: Segment[] = [{ kind: "disk", at: 3, length: 4 }];
    expect(shifted(segments, 0)).toEqual(segments);
    expect(shifted(segments, 5)).toEqual([{ kind: "disk", at: 8, length: 4 }]);
  });
});
