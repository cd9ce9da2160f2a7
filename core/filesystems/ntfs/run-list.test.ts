import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { Cursor } from "../../bytes/cursor";
import { ATTRIBUTE, ATTRIBUTE_TYPE } from "./layout";
import type { Attribute } from "./mft-record";
import { readRuns } from "./run-list";

const HEADER = 0x40;

/** Codes runs as the open description of the format has it (ntfs-3g `runlist.c`): written for this test, to be read back. */
function coded(runs: readonly { length: number; lcn: number | null }[]): number[] {
  const out: number[] = [];
  const signed = (value: number): number[] => {
    const bytes: number[] = [];
    let left = BigInt(value);
    do {
      bytes.push(Number(left & 0xffn));
      left >>= 8n;
    } while (
      !((left === 0n && (bytes[bytes.length - 1] as number) < 0x80) || (left === -1n && (bytes[bytes.length - 1] as number) >= 0x80))
    );
    return bytes;
  };
  let before = 0;
  for (const { length, lcn } of runs) {
    const size = signed(length);
    const step = lcn === null ? [] : signed(lcn - before);
    if (lcn !== null) before = lcn;
    out.push(size.length | (step.length << 4), ...size, ...step);
  }
  return [...out, 0];
}

function attributeOf(pairs: readonly number[]): { cursor: Cursor; attribute: Attribute } {
  const bytes = new Uint8Array(HEADER + pairs.length);
  bytes.set(pairs, HEADER);
  new DataView(bytes.buffer).setUint16(ATTRIBUTE.mappingPairsOffset, HEADER, true);
  return {
    cursor: new Cursor(bytes),
    attribute: { type: ATTRIBUTE_TYPE.data, name: "", flags: 0, nonResident: true, at: 0, length: bytes.length },
  };
}

describe("mapping pairs", () => {
  const run = fc.record({
    length: fc.integer({ min: 1, max: 2 ** 31 }),
    lcn: fc.option(fc.integer({ min: 0, max: 2 ** 40 }), { nil: null }),
  });

  it("read back as they were coded: runs far apart, forwards and backwards, and holes", () => {
    fc.assert(
      fc.property(fc.array(run, { maxLength: 40 }), (runs) => {
        const { cursor, attribute } = attributeOf(coded(runs));
        const read = readRuns(cursor, attribute, 2 ** 45);
        expect(read.sound).toBe(true);
        expect(read.runs.map(({ length, lcn }) => ({ length, lcn }))).toEqual(runs);
        let vcn = 0;
        for (const each of read.runs) {
          expect(each.vcn).toBe(vcn);
          vcn += each.length;
        }
      }),
    );
  });

  it("end where they leave the volume or make no sense, keeping what stood before", () => {
    const { cursor, attribute } = attributeOf(
      coded([
        { length: 5, lcn: 10 },
        { length: 5, lcn: 5000 },
        { length: 5, lcn: 20 },
      ]),
    );
    expect(readRuns(cursor, attribute, 1000)).toMatchObject({ sound: false, runs: [{ vcn: 0, lcn: 10, length: 5 }] });
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 60 }), (bytes) => {
        const hostile = attributeOf([...bytes]);
        for (const each of readRuns(hostile.cursor, hostile.attribute, 1000).runs)
          expect(each.lcn === null || (each.lcn >= 0 && each.lcn + each.length <= 1000)).toBe(true);
      }),
    );
  });
});
