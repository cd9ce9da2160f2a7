/** RFC 1951, 3.2.5: lengths and distances, their first value and extra bits. */
const LENGTH_BASE = [3, 4, 5, 6, 7, 8, 9, 10, 11, 13, 15, 17, 19, 23, 27, 31, 35, 43, 51, 59, 67, 83, 99, 115, 131, 163, 195, 227, 258];
const LENGTH_EXTRA = [0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 0];
const DISTANCE_BASE = [
  1, 2, 3, 4, 5, 7, 9, 13, 17, 25, 33, 49, 65, 97, 129, 193, 257, 385, 513, 769, 1025, 1537, 2049, 3073, 4097, 6145, 8193, 12_289, 16_385,
  24_577,
];
const DISTANCE_EXTRA = [0, 0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 7, 7, 8, 8, 9, 9, 10, 10, 11, 11, 12, 12, 13, 13];

/** A code of up to 15 bits, as a look-up by the next bits (first bit lowest): length << 12 | symbol; 0: no such code. */
export interface Code {
  readonly table: Uint16Array;
  readonly bits: number;
}

/** @returns null when the lengths do not make a code (3.2.2); one with too few codes is taken where it has a single one. */
export function codeOf(lengths: Uint8Array): Code | null {
  let bits = 0;
  let used = 0;
  const counts = new Uint16Array(16);
  for (const length of lengths) {
    counts[length] = (counts[length] as number) + 1;
    if (length > bits) bits = length;
    if (length > 0) used += 1;
  }
  if (bits === 0) return { table: new Uint16Array(1), bits: 0 };
  let left = 1;
  const next = new Uint16Array(16);
  let code = 0;
  for (let length = 1; length <= 15; length += 1) {
    left = (left << 1) - (counts[length] as number);
    if (left < 0) return null;
    next[length] = code;
    code = (code + (counts[length] as number)) << 1;
  }
  if (left > 0 && used > 1) return null;
  const table = new Uint16Array(1 << bits);
  for (let symbol = 0; symbol < lengths.length; symbol += 1) {
    const length = lengths[symbol] as number;
    if (length === 0) continue;
    let value = next[length] as number;
    next[length] = value + 1;
    let turned = 0;
    for (let i = 0; i < length; i += 1) {
      turned = (turned << 1) | (value & 1);
      value >>= 1;
    }
    for (let at = turned; at < 1 << bits; at += 1 << length) table[at] = (length << 12) | symbol;
  }
  return { table, bits };
}

const FIXED_LENGTHS = codeOf(Uint8Array.from({ length: 288 }, (_, i) => (i < 144 ? 8 : i < 256 ? 9 : i < 280 ? 7 : 8))) as Code;
/** The two last of the 32 codes stand for nothing (3.2.6): a distance of theirs is refused. */
const FIXED_DISTANCES = codeOf(new Uint8Array(32).fill(5)) as Code;

/** A dialect of DEFLATE: what its last codes stand for, and how far back a distance may reach. */
export interface Dialect {
  readonly lengthBase: readonly number[];
  readonly lengthExtra: readonly number[];
  readonly distanceBase: readonly number[];
  readonly distanceExtra: readonly number[];
  readonly window: number;
  readonly longest: number;
}
export const PLAIN: Dialect = {
  lengthBase: LENGTH_BASE,
  lengthExtra: LENGTH_EXTRA,
  distanceBase: DISTANCE_BASE,
  distanceExtra: DISTANCE_EXTRA,
  window: 1 << 15,
  longest: 258,
};
/** ZIP's method 9 (APPNOTE, 4.4.5, gives the name alone; the codes are common practice, from memory): a longest length of 16 bits, a window of 64 KiB. */
export const WIDE: Dialect = {
  lengthBase: [...LENGTH_BASE.slice(0, 28), 3],
  lengthExtra: [...LENGTH_EXTRA.slice(0, 28), 16],
  distanceBase: [...DISTANCE_BASE, 32_769, 49_153],
  distanceExtra: [...DISTANCE_EXTRA, 14, 14],
  window: 1 << 16,
  longest: 65_538,
};

/** The two codes of a block with the lengths they were made from, those of `split` symbols first; null: the fixed ones (3.2.6). */
export interface Codes {
  readonly lengths: Code;
  readonly distances: Code;
  readonly from: { readonly all: Uint8Array; readonly split: number } | null;
}
export const FIXED: Codes = { lengths: FIXED_LENGTHS, distances: FIXED_DISTANCES, from: null };

/** @returns null when the lengths do not make two codes, or nothing ends the block */
export function codesOf(all: Uint8Array, split: number): Codes | null {
  const [lengths, distances] = [codeOf(all.subarray(0, split)), codeOf(all.subarray(split))];
  return lengths && distances && all[256] !== 0 ? { lengths, distances, from: { all, split } } : null;
}
