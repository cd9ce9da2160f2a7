import { type ByteSource, readBytes } from "./byte-source";

const BLOCK = 1 << 15;

/**
 * Finds where so many equal bytes stand one after the other.
 * @param least how many; at most 32,768. Every run of at least twice as many is found, no shorter one than this
 * @returns where the first such run was met; null: there is none
 */
export function equalBytesIn(source: ByteSource, from: number, to: number, least: number): number | null {
  for (let at = from; at + least <= to; at += BLOCK) {
    const bytes = readBytes(source, at, Math.min(BLOCK, to - at));
    for (let start = 0; start + least <= bytes.length; start += least) {
      const first = bytes[start];
      let end = start + 1;
      while (end < start + least && bytes[end] === first) end += 1;
      if (end === start + least) return at + start;
    }
  }
  return null;
}
