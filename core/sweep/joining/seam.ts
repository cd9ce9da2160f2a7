import { readBytes } from "../../bytes/byte-source";
import { kinship } from "./byte-model";
import type { Pieces } from "./pieces";
import { seamByRows } from "./rows";

/** Bytes of each side that are learnt from, and of a cluster that are looked at. */
const LEARNT = 1 << 14;
const LOOKED_AT = 4096;

/**
 * Picks where one piece of a file most likely ends and the next begins, of several places at which its own checks pass. Of places that are as good the last
 * is taken: a file goes on where it stands until something speaks against it. This is common practice, no published source.
 * @param shift disk offset of the second piece minus its byte of the file
 * @param passes lengths of the file up to the seam, one cluster apart
 * @param reached bytes of the file up to which the second piece certainly goes
 */
export function likeliestSeam(pieces: Pieces, shift: number, passes: readonly number[], reached: number): number {
  const sides = new Sides(pieces, shift, reached);
  const lengths = [...passes].sort((a, b) => a - b);
  const byRows = seamByRows(pieces, shift, lengths, reached);
  if (byRows !== null) return byRows;
  const step = Math.ceil(lengths.length / MOST_SAMPLES);
  const samples = lengths.filter((_, i) => i % step === 0);
  const isPacked = samples.filter((length) => sides.areAkin(length)).length < samples.length * LEAST_AKIN;
  if (isPacked) return seamByValues(pieces, shift, lengths);
  pieces.room.disk.add(-COST * lengths.length);
  return seamByKinship(sides, lengths);
}
/** What comparing kinds at a place costs beside what it reads. Bytes. */
const COST = 1 << 18;

/** What stands on the disk around the places at which a seam may be. */
class Sides {
  readonly #looked: number;

  constructor(
    private readonly pieces: Pieces,
    private readonly shift: number,
    private readonly reached: number,
  ) {
    this.#looked = Math.min(pieces.room.cluster, LOOKED_AT);
  }

  #read(at: number, length: number): Uint8Array {
    const { disk } = this.pieces.room;
    return readBytes(disk, Math.max(0, at), Math.max(0, Math.min(length, disk.size - at)));
  }

  /** The first piece's bytes before a seam, and the second's behind it. */
  own(length: number): { before: Uint8Array; behind: Uint8Array } {
    const { pieces, shift, reached } = this;
    const known = Math.min(LEARNT, length - pieces.from);
    return {
      before: this.#read(pieces.lastAt + length - pieces.from - known, known),
      behind: this.#read(shift + length, Math.min(LEARNT, reached - length)),
    };
  }

  /** How much what is put together at a seam is of one kind, and what stands behind the first piece and before the second is not. Bits. */
  kinship(length: number): number {
    const { pieces, shift } = this;
    const { before, behind } = this.own(length);
    const together = kinship(behind.subarray(0, this.#looked), before) + kinship(before.subarray(-this.#looked), behind);
    const foreign = [
      this.#read(pieces.lastAt + length - pieces.from, this.#looked),
      this.#read(shift + length - this.#looked, this.#looked),
    ] as const;
    return together - kinship(foreign[0], before) - kinship(foreign[1], behind);
  }

  /** Whether bytes around a place help to foretell those that follow: packed ones do not. */
  areAkin(length: number): boolean {
    const { before, behind } = this.own(length);
    const [a, b] = [before.subarray(-this.#looked), behind.subarray(0, this.#looked)];
    return (
      kinship(a, before.subarray(0, -a.length)) > LEAST_KINSHIP * a.length ||
      kinship(b, behind.subarray(b.length)) > LEAST_KINSHIP * b.length
    );
  }
}
/** Bits a byte that it helps to know others of its kind. */
const LEAST_KINSHIP = 0.2;
/** Places at which that is looked at, and the share of them at which it must. */
const [MOST_SAMPLES, LEAST_AKIN] = [24, 0.15];

function seamByKinship(sides: Sides, lengths: readonly number[]): number {
  let best = lengths[0] as number;
  let most = Number.NEGATIVE_INFINITY;
  for (const length of lengths) {
    const kinship = sides.kinship(length);
    if (kinship >= most) [most, best] = [kinship, length];
  }
  return best;
}

/** Ranges of values that are counted. */
const RANGES = 32;

/** How often bytes fall into each of the ranges of values, as shares. */
function shares(bytes: Uint8Array): Float64Array {
  const counts = new Float64Array(RANGES);
  for (const byte of bytes) counts[byte >> 3] = (counts[byte >> 3] as number) + 1;
  return counts.map((count) => count / Math.max(1, bytes.length));
}

const distance = (a: Float64Array, b: Float64Array) => a.reduce((sum, share, i) => sum + Math.abs(share - (b[i] as number)), 0);

/** The seam at which packed data, put together, look like those the file certainly has, by how often values fall into ranges, and change little. */
function seamByValues(pieces: Pieces, shift: number, lengths: readonly number[]): number {
  const { disk, cluster } = pieces.room;
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
