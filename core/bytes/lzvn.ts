import { copyBack } from "./copy-back";

/**
 * LZVN, as the system of Macs compresses files and, within LZFSE, short blocks. The layout of the instructions follows the published
 * reference decoder of LZFSE (`lzvn_decode_base.c`, BSD licence), from memory; every number below is the first byte of an instruction.
 */
const END = 0x06;
const NOTHING: readonly number[] = [0x0e, 0x16];
const LONG_LITERAL = 0xe0;
const LONG_MATCH = 0xf0;

/** Kinds of instructions, by the first byte. */
const KIND = { invalid: 0, end: 1, nothing: 2, near: 3, medium: 4, far: 5, again: 6, literal: 7, match: 8 } as const;

const KINDS = Uint8Array.from({ length: 256 }, (_, code) => {
  if (code === END) return KIND.end;
  if (NOTHING.includes(code)) return KIND.nothing;
  if (code >= LONG_MATCH) return KIND.match;
  if (code >= LONG_LITERAL) return KIND.literal;
  if (code >= 0xd0 || (code >= 0x70 && code < 0x80)) return KIND.invalid;
  if (code >= 0xa0 && code < 0xc0) return KIND.medium;
  if ((code & 7) === 7) return KIND.far;
  if ((code & 7) === 6) return code < 0x40 ? KIND.invalid : KIND.again;
  return KIND.near;
});

/** Where a run of the decoder ended: places in the coded and in the plain bytes, and whether it met its end mark. */
export interface LzvnRun {
  readonly read: number;
  readonly written: number;
  readonly ended: boolean;
  /** The coded bytes broke off, or an instruction cannot be. */
  readonly damaged: boolean;
}

/**
 * Decodes LZVN into `plain` from `at` on, until its end mark or the end of either side. Matches reach back to the beginning of `plain`.
 */
export function runLzvn(coded: Uint8Array, from: number, to: number, plain: Uint8Array, at: number, until: number): LzvnRun {
  let [read, written, distance] = [from, at, 0];
  const stop = (ended: boolean, damaged: boolean): LzvnRun => ({ read, written, ended, damaged });
  while (written < until) {
    if (read >= to) return stop(false, true);
    const code = coded[read] as number;
    let literals = code >>> 6;
    let match = ((code >>> 3) & 7) + 3;
    let width = 1;
    switch (KINDS[code]) {
      case KIND.near:
        width = 2;
        distance = ((code & 7) << 8) | (coded[read + 1] as number);
        break;
      case KIND.medium: {
        width = 3;
        const next = (coded[read + 1] as number) | ((coded[read + 2] as number) << 8);
        literals = (code >>> 3) & 3;
        match = (((code & 7) << 2) | (next & 3)) + 3;
        distance = next >>> 2;
        break;
      }
      case KIND.far:
        width = 3;
        distance = (coded[read + 1] as number) | ((coded[read + 2] as number) << 8);
        break;
      case KIND.again:
        break;
      case KIND.literal:
        match = 0;
        literals = code & 15;
        if (code === LONG_LITERAL) {
          width = 2;
          literals = (coded[read + 1] as number) + 16;
        }
        break;
      case KIND.match:
        literals = 0;
        match = code & 15;
        if (code === LONG_MATCH) {
          width = 2;
          match = (coded[read + 1] as number) + 16;
        }
        break;
      case KIND.nothing:
        read += 1;
        continue;
      case KIND.end:
        // The mark is followed by seven bytes of zero.
        read = Math.min(to, read + 8);
        return stop(true, false);
      default:
        return stop(false, true);
    }
    if (read + width + literals > to) return stop(false, true);
    read += width;
    for (let left = Math.min(literals, until - written); left > 0; left -= 1) plain[written++] = coded[read++] as number;
    if (match === 0) continue;
    if (distance === 0 || distance > written) return stop(false, true);
    written = copyBack(plain, written, distance, Math.min(match, until - written));
  }
  return stop(false, false);
}

/** @returns `length` bytes; those after a damage stay zero */
export function decodeLzvn(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean } {
  const bytes = new Uint8Array(length);
  const { written, damaged } = runLzvn(coded, 0, coded.length, bytes, 0, length);
  return { bytes, sound: !damaged && written === length };
}
