import { MOST_CODED } from "../../bytes/codecs";
import { type Layout, layoutOf, type Segment } from "../../bytes/layout";
import type { ClusterMeasures } from "./boot-sector";
import { ATTRIBUTE, ATTRIBUTE_FLAG } from "./layout";
import { type Attribute, type MftRecord, residentValue } from "./mft-record";
import { type Run, readRuns } from "./run-list";

/** A piece of one stream: an attribute in the base record or in one of its extensions. */
export interface StreamPiece {
  readonly record: MftRecord;
  readonly attribute: Attribute;
  /** Disk byte offset where the piece's record begins. */
  readonly recordAt: number;
}

export interface StreamContent {
  readonly size: number;
  readonly layout: Layout;
  readonly notes: string[];
}

/** Where the bytes of a stream stand, put together from all its pieces. */
export function streamContent(pieces: readonly StreamPiece[], geometry: ClusterMeasures, volumeStart: number): StreamContent | null {
  const first = pieces[0];
  if (!first) return null;
  if (!first.attribute.nonResident) {
    const { at, bytes } = residentValue(first.record, first.attribute);
    const held: Segment = { kind: "held", at: first.recordAt + at, length: bytes.length, bytes: bytes.slice() };
    return { size: bytes.length, layout: layoutOf([held], bytes.length), notes: [] };
  }
  const lowest = (piece: StreamPiece) => piece.record.cursor.u64(piece.attribute.at + ATTRIBUTE.lowestVcn);
  const ordered = pieces.filter((piece) => piece.attribute.nonResident).sort((a, b) => lowest(a) - lowest(b));
  const head = ordered.find((piece) => lowest(piece) === 0);
  const notes: string[] = [];
  const gathered = gatherRuns(ordered, geometry, notes);
  // Only the piece with cluster 0 gives the sizes; without it the runs themselves are the best bound.
  const size = head ? head.record.cursor.u64(head.attribute.at + ATTRIBUTE.dataSize) : gathered.clusters * geometry.clusterSize;
  const initialized = head ? head.record.cursor.u64(head.attribute.at + ATTRIBUTE.initializedSize) : size;
  if (!head) notes.push("The part of the record that tells the exact size is gone; the size is rounded up to whole clusters.");
  if (size > Number.MAX_SAFE_INTEGER || size > 2 ** 50) {
    return { size: 0, layout: layoutOf([], 0), notes: ["The record gives a size that cannot be; the content is left out."] };
  }
  const unit = head && (head.attribute.flags & ATTRIBUTE_FLAG.compressionMask) === ATTRIBUTE_FLAG.lznt1 ? compressionUnit(head) : 0;
  const segments =
    unit > 0 ? codedSegments(gathered.runs, unit, geometry, volumeStart) : plainSegments(gathered.runs, geometry, volumeStart);
  const layout = layoutOf(segments, size);
  return { size, layout: unit > 0 ? layout : zeroPastInitialized(layout, initialized), notes };
}

function compressionUnit(piece: StreamPiece): number {
  const exponent = piece.record.cursor.u8(piece.attribute.at + ATTRIBUTE.compressionUnit);
  return exponent > 0 && exponent <= 8 ? 2 ** exponent : 0;
}

/** All runs in order; a stretch no piece describes becomes a run with lcn -1 (its place is lost). */
function gatherRuns(ordered: readonly StreamPiece[], geometry: ClusterMeasures, notes: string[]): { runs: Run[]; clusters: number } {
  const runs: Run[] = [];
  let vcn = 0;
  for (const piece of ordered) {
    const { runs: own, sound } = readRuns(piece.record.cursor, piece.attribute, geometry.clusters);
    if (!sound) notes.push("The list of the file's clusters is damaged; what stood before the damage was used.");
    for (const run of own) {
      if (run.vcn < vcn) continue;
      if (run.vcn > vcn) {
        runs.push({ vcn, lcn: -1, length: run.vcn - vcn });
        notes.push("Part of the list of the file's clusters is gone; those bytes are missing.");
      }
      runs.push(run);
      vcn = run.vcn + run.length;
    }
  }
  return { runs, clusters: vcn };
}

function* plainSegments(runs: readonly Run[], geometry: ClusterMeasures, volumeStart: number): Generator<Segment> {
  for (const run of runs) {
    const length = run.length * geometry.clusterSize;
    if (run.lcn === null) yield { kind: "hole", length };
    else if (run.lcn < 0) yield { kind: "lost", length };
    else yield { kind: "disk", at: volumeStart + run.lcn * geometry.clusterSize, length };
  }
}

/**
 * Compressed streams go in units of (usually) 16 clusters: a unit with all its clusters is stored as it is, one with
 * none is zeros, and one with some holds LZNT1 in those (ntfs-3g `compress.c` describes it).
 */
function* codedSegments(runs: readonly Run[], unit: number, geometry: ClusterMeasures, volumeStart: number): Generator<Segment> {
  const { clusterSize } = geometry;
  let plain: { at: number; length: number }[] = [];
  let clusters = 0;
  let holes = 0;
  let lost = false;
  const flush = function* (): Generator<Segment> {
    const length = unit * clusterSize;
    // A unit larger than any is damage: what is coded in it cannot be known.
    if (lost || (holes > 0 && plain.length > 0 && length > MOST_CODED)) yield { kind: "lost", length };
    else if (plain.length === 0) yield { kind: "hole", length };
    else if (holes === 0) for (const run of plain) yield { kind: "disk", ...run };
    else yield { kind: "coded", coding: "lznt1", length, from: plain };
    plain = [];
    clusters = 0;
    holes = 0;
    lost = false;
  };
  for (const run of runs) {
    let inside = 0;
    while (inside < run.length) {
      // A long hole is passed over in one segment, so that a huge sparse file costs nothing.
      if (run.lcn === null && clusters === 0 && run.length - inside >= unit) {
        const units = Math.floor((run.length - inside) / unit);
        yield { kind: "hole", length: units * unit * clusterSize };
        inside += units * unit;
        continue;
      }
      const part = Math.min(run.length - inside, unit - clusters);
      if (run.lcn === null) holes += part;
      else if (run.lcn < 0) lost = true;
      else plain.push({ at: volumeStart + (run.lcn + inside) * clusterSize, length: part * clusterSize });
      clusters += part;
      inside += part;
      if (clusters === unit) yield* flush();
    }
  }
  if (clusters > 0) yield* flush();
}

/** Bytes past the initialized size read as zeros whatever stands in their clusters. */
function zeroPastInitialized(layout: Layout, initialized: number): Layout {
  if (initialized >= layout.size) return layout;
  const segments: Segment[] = [];
  let at = 0;
  for (const segment of layout.segments) {
    const keep = Math.max(0, Math.min(segment.length, initialized - at));
    if (keep > 0) segments.push({ ...segment, length: keep } as Segment);
    at += segment.length;
    if (at > initialized) break;
  }
  segments.push({ kind: "hole", length: layout.size - Math.min(initialized, layout.size) });
  return layoutOf(segments, layout.size);
}
