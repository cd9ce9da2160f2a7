import { type ByteSource, readBytes, WindowSource } from "../bytes/byte-source";
import { HEAD_BYTES } from "../formats/format";
import { recognise, runFollow } from "../formats/registry";
import { traitsOf, underChecksums } from "../formats/traits";
import { isDense, isFill, isLetters } from "./byte-classes";
import type { Find } from "./find";
import type { Grid } from "./grid";

/** Bytes of a damaged file that are looked through for where its own end. */
const MOST_LOOKED_THROUGH = 1 << 24;
/** Equal bytes, or letters, at the beginning of a cluster that no packed data have. */
const FOREIGN = 512;
/** Bytes that are counted to distinguish noise from data. */
const COUNTED = 4096;

/**
 * Narrows where a file that breaks off ends. The check of its format often sees the damage long after the break: fill is unpacked like
 * data, a whole part is checked by one checksum, the records of a document have none.
 * @returns bytes of the file that may be its own; null: only its check is known
 */
export function damagedEnd(disk: ByteSource, grid: Grid, { format, at, extent }: Find): number | null {
  const { verdict } = extent;
  if (verdict.verdict !== "damaged") return null;
  const upTo = Math.min(verdict.upTo ?? verdict.at, disk.size - at);
  const from = Math.max(0, Math.min(extent.proven ?? 0, verdict.at));
  if (upTo - from > MOST_LOOKED_THROUGH) return null;
  const clusters = clustersOf(grid, at, from, upTo);
  const noLetters = underChecksums(traitsOf(format));
  const foreign = clusters.find((length) => isForeignAfterPacked(disk, at + length, grid.cluster, noLetters));
  if (foreign !== undefined) return foreign;
  if (verdict.upTo !== undefined) {
    const inner = breakInside(disk, at + verdict.at, upTo - verdict.at);
    if (inner !== null) return verdict.at + inner;
  }
  const isBlind = (format.loose && traitsOf(format).checksums === undefined) || traitsOf(format).roomy;
  return isBlind ? beforeForeign(disk, grid, at, clusters) : null;
}

/** Bytes of the file before each cluster that begins in it from `from` to `to`. */
function clustersOf({ cluster, origin }: Grid, at: number, from: number, to: number): number[] {
  const found: number[] = [];
  const first = Math.ceil((at + Math.max(1, from) - origin) / cluster) * cluster + origin;
  for (let place = first; place <= at + to; place += cluster) found.push(place - at);
  return found;
}

/** Whether packed data end at a place of the disk, and what they never are begins there: fill or, where no texts stand between them, letters. */
function isForeignAfterPacked(disk: ByteSource, at: number, cluster: number, noLetters: boolean): boolean {
  const length = Math.min(FOREIGN, cluster, disk.size - at);
  const [begins, before] = [readBytes(disk, at, length), readBytes(disk, Math.max(0, at - length), Math.min(length, at))];
  return length > 0 && (isFill(begins) || (noLetters && isLetters(begins))) && isDense(before);
}

/** Where the file breaks that a part without packing holds, from the part's beginning; null: it is no file with a check, or its check finds nothing. */
function breakInside(disk: ByteSource, at: number, length: number): number | null {
  const part = new WindowSource(disk, at, length);
  const format = recognise(readBytes(part, 0, Math.min(HEAD_BYTES, length)));
  const verdict = format?.follow && !format.loose ? runFollow(format, part)?.verdict : null;
  return verdict?.verdict === "damaged" && verdict.at > 0 ? verdict.at : null;
}

/** The cluster from which on nothing but noise and fill stands up to the damage, which shows in it; null: other data do. */
function beforeForeign(disk: ByteSource, { cluster }: Grid, at: number, clusters: readonly number[]): number | null {
  let begins: number | null = null;
  for (let i = clusters.length - 1; i >= 0; i -= 1) {
    const length = clusters[i] as number;
    const bytes = readBytes(disk, at + length, Math.min(cluster, COUNTED, disk.size - at - length));
    if (!isFill(bytes) && !isNoise(disk, at + length)) break;
    begins = length;
  }
  return begins;
}

/** Whether all bytes are about as frequent: of 256 values, a chi-square of 255 ± 23 is what chance gives. */
function isNoise(disk: ByteSource, at: number): boolean {
  const bytes = readBytes(disk, at, Math.min(COUNTED, disk.size - at));
  if (bytes.length < COUNTED) return false;
  const counts = new Uint32Array(256);
  for (const byte of bytes) counts[byte] = (counts[byte] as number) + 1;
  const mean = bytes.length / 256;
  let chi = 0;
  for (const count of counts) chi += (count - mean) ** 2 / mean;
  return chi < MOST_CHI;
}
const MOST_CHI = 400;
