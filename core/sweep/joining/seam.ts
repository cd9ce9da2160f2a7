import { readBytes } from "../../bytes/byte-source";
import type { Pieces } from "./pieces";

/** Bytes of a cluster that are looked at, and ranges of values that are counted. */
const LOOKED_AT = 4096;
const RANGES = 32;

/** How often bytes fall into each of the ranges of values, as shares. */
function shares(bytes: Uint8Array): Float64Array {
  const counts = new Float64Array(RANGES);
  for (const byte of bytes) counts[byte >> 3] = (counts[byte >> 3] as number) + 1;
  return counts.map((count) => count / Math.max(1, bytes.length));
}

const distance = (a: Float64Array, b: Float64Array) => a.reduce((sum, share, i) => sum + Math.abs(share - (b[i] as number)), 0);

/**
 * Where one piece of a file most likely ends and the next begins, of several places at which its own checks pass: put together there,
 * its clusters look like those it certainly has, and change little at the seam. What lies between its pieces on the disk mostly looks
 * otherwise. Of places that are as good the last is taken: a file goes on where it stands until something speaks against it. This is common practice, no published
 * source.
 * @param shift disk offset of the second piece minus its byte of the file
 * @param passes lengths of the file up to the seam, one cluster apart
 */
export function likeliestSeam(pieces: Pieces, shift: number, passes: readonly number[]): number {
  const { disk, cluster } = pieces.room;
  const lengths = [...passes].sort((a, b) => a - b);
  const first = lengths[0] as number;
  const last = lengths.at(-1) as number;
  const looked = Math.min(cluster, LOOKED_AT);
  const here = pieces.lastAt - pieces.from;
  const sharesAt = (at: number) => shares(readBytes(disk, Math.max(0, at), looked));
  // The outermost of the places are the least likely ones: what stands there is taken for the file's.
  const outer = Math.max(1, Math.floor(lengths.length / OUTER));
  const step = cluster * Math.max(1, Math.floor(outer / MOST_KNOWN));
  const known: Float64Array[] = [];
  for (let away = 0; away <= outer * cluster; away += step) {
    known.push(sharesAt(here + first - cluster + away), sharesAt(shift + last - away));
  }
  const strangeness = (found: Float64Array) =>
    known.reduce((least, each) => Math.min(least, distance(each, found)), Number.POSITIVE_INFINITY);
  let best = first;
  let least = Number.POSITIVE_INFINITY;
  let sum = 0;
  for (let length = first; length <= last; length += cluster) {
    const total = sum + distance(sharesAt(here + length - cluster), sharesAt(shift + length));
    if (total <= least + SAME) {
      least = Math.min(least, total);
      best = length;
    }
    // One cluster more from the first piece, one less from the second.
    sum += strangeness(sharesAt(here + length)) - strangeness(sharesAt(shift + length));
  }
  return best;
}

/** The share of the places at each end that is not thought of, and clusters of each end that are compared with. */
const OUTER = 8;
const MOST_KNOWN = 12;
/** Sums this near are the same. */
const SAME = 1e-9;
