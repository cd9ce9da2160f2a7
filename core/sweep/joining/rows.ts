import { readBytes } from "../../bytes/byte-source";
import type { Pieces } from "./pieces";

/** Stretches in which rows are looked for: how long, and how many of each piece at most. */
const [WINDOW, MOST_WINDOWS] = [1 << 14, 12];
/** Bytes behind the places that are looked at too: there stands the second piece alone. */
const BEHIND = 1 << 18;
/** Lengths of a row with which the seam is looked for. */
const MOST_ROWS = 3;
/** Lengths of a row that are thought of. Bytes. */
const [LEAST_ROW, MOST_ROW] = [48, 8192];
const WIDEST_POINT = 8;
/** Bytes that are compared for each length, about. */
const COMPARED = 256;
/** Rows: bytes one above the other differ by so little of what others do. */
const MOST_DIFFERENCE = 0.25;
/** Bytes of places between which the seam is looked for. */
const MOST_BETWEEN = 1 << 23;
/** The best place is better than any other by so many times what bytes of a row differ from those above them. */
const CLEARLY = 64;

/**
 * Picks where one piece ends and the next begins by rows of equal length, as pictures have them that are not packed: bytes stand below bytes like
 * them, and a cluster that is none of the file's does not fit in. This is common practice, no published source.
 * @param shift disk offset of the second piece minus its byte of the file @param lengths places of the seam, in their order
 * @returns null where there are no rows, or they fit at several of the places
 */
export function seamByRows(pieces: Pieces, shift: number, lengths: readonly number[], reached: number): number | null {
  const [first, last] = [lengths[0] as number, lengths.at(-1) as number];
  if (last - first > MOST_BETWEEN) return null;
  const { disk } = pieces.room;
  const here = pieces.lastAt - pieces.from;
  const read = (at: number, length: number) => readBytes(disk, at, Math.max(0, Math.min(length, disk.size - at)));
  const span = last - first;
  disk.add(-2 * MOST_WINDOWS * WINDOW);
  const stretches = [...windows(here + first, span), ...windows(shift + first, Math.min(span + BEHIND, reached - first))];
  let chosen: { length: number; clarity: number } | null = null;
  for (const row of rowsOf(stretches.map(([at, length]) => read(at, length)))) {
    if (first - pieces.from < row || reached - last < row) continue;
    // Of both, with a row before the places or behind them: byte `first - row` of the file is the first.
    const one = read(here + first - row, row + span);
    const two = read(shift + first, span + row);
    if (one.length < row + span || two.length < span + row) continue;
    disk.add(-(span + lengths.length * row));
    const found = clearest(one, two, row, lengths);
    if (found && found.clarity > (chosen?.clarity ?? CLEARLY)) chosen = found;
  }
  return chosen?.length ?? null;
}

/**
 * Picks the place of a seam at which bytes differ least from those a row above them.
 * @param one what stands behind the first piece, from a row before the first of the places on @param two the same of the second, from the first place on
 * @returns how much better than any other it is, as a multiple of what a byte differs from that above it
 */
function clearest(one: Uint8Array, two: Uint8Array, row: number, lengths: readonly number[]): { length: number; clarity: number } | null {
  const first = lengths[0] as number;
  const span = one.length - row;
  const left = sums(span, (i) => Math.abs((one[row + i] as number) - (one[i] as number)));
  const right = sums(span + row, (i) => (i < row ? 0 : Math.abs((two[i] as number) - (two[i - row] as number))));
  let best: number | null = null;
  let [least, second] = [Number.POSITIVE_INFINITY, Number.POSITIVE_INFINITY];
  for (const length of lengths) {
    const at = length - first;
    let across = 0;
    for (let i = at; i < at + row; i += 1) across += Math.abs((two[i] as number) - (one[i] as number));
    const cost = (left[at] as number) + across + (right[span + row] as number) - (right[at + row] as number);
    if (cost < least) [best, least, second] = [length, cost, least];
    else if (cost < second) second = cost;
  }
  const usual = Math.max(1 / CLEARLY, least / (span + row));
  return best === null ? null : { length: best, clarity: (second - least) / usual };
}

/** Sums of what comes before each place. */
function sums(length: number, each: (index: number) => number): Float64Array {
  const all = new Float64Array(length + 1);
  for (let i = 0; i < length; i += 1) all[i + 1] = (all[i] as number) + each(i);
  return all;
}

/** Stretches within a longer one, evenly far from each other: place and length. */
function windows(from: number, length: number): [at: number, length: number][] {
  const count = Math.min(MOST_WINDOWS, Math.max(1, Math.floor(length / WINDOW)));
  const step = Math.floor(length / count);
  return Array.from({ length: count }, (_, index) => [from + index * step, Math.min(WINDOW, length)]);
}

/** The lengths of rows that several stretches have, those of most first: one alone may have what looks like rows. */
function rowsOf(stretches: readonly Uint8Array[]): number[] {
  const counts = new Map<number, number>();
  for (const bytes of stretches) {
    const row = rowOf(bytes);
    if (row !== null) counts.set(row, (counts.get(row) ?? 0) + 1);
  }
  return [...counts]
    .filter(([, count]) => count > 1)
    .sort((a, b) => b[1] - a[1] || a[0] - b[0])
    .slice(0, MOST_ROWS)
    .map(([row]) => row);
}

/** The length of a stretch's rows; null: it has none. Equal bytes say nothing. */
function rowOf(bytes: Uint8Array): number | null {
  const most = Math.min(MOST_ROW, bytes.length >> 1);
  if (most <= LEAST_ROW || bytes.every((byte) => byte === bytes[0])) return null;
  const differences = new Float64Array(most + 1);
  const step = Math.max(1, Math.floor((bytes.length - most) / COMPARED));
  for (let row = LEAST_ROW; row <= most; row += 1) {
    let sum = 0;
    for (let i = most; i < bytes.length; i += step) sum += Math.abs((bytes[i] as number) - (bytes[i - row] as number));
    differences[row] = sum;
  }
  const looked = differences.subarray(LEAST_ROW);
  const usual = [...looked].sort((a, b) => a - b)[looked.length >> 1] as number;
  let best = LEAST_ROW;
  for (let row = LEAST_ROW + 1; row <= most; row += 1) if ((differences[row] as number) < (differences[best] as number)) best = row;
  // Colours that repeat look alike at any multiple of a point's bytes, the first of them being the first that is tried.
  return best > LEAST_ROW + WIDEST_POINT && (differences[best] as number) < MOST_DIFFERENCE * usual ? best : null;
}
