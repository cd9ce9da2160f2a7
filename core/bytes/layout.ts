import { crc32 } from "node:zlib";
import { type ByteSource, MemorySource } from "./byte-source";
import { CODECS, type Coding, MOST_AT_ONCE, streamOf } from "./codecs";
import { type Range, RangeSet } from "./range-set";
import { lastNotAfter } from "./starts";
import type { StreamedBytes } from "./streamed-bytes";
import { unpackWhole } from "./whole-file";

/**
 * One stretch of a copy's content, in the order of the content. `foreign`: its clusters were given to another file since, so that
 * what stands there now need not be the file's own.
 */
export type Segment =
  /** `length` bytes at disk offset `at`. */
  | { readonly kind: "disk"; readonly at: number; readonly length: number; readonly foreign?: true }
  /** Bytes kept in a record of the file system; `at` is where on the disk they stood. */
  | { readonly kind: "held"; readonly at: number; readonly length: number; readonly bytes: Uint8Array }
  /** Zeros that take no room on the disk. */
  | { readonly kind: "hole"; readonly length: number }
  /** Content whose place is not known any more: reads as zeros and counts as lost. */
  | { readonly kind: "lost"; readonly length: number }
  /**
   * Compressed content: the coded bytes stand at `from` and give `length` plain bytes. Where they were kept in a record, `held`
   * has them, because the record's bytes on the disk are not the file's. A piece has at most `mostCoded` plain bytes.
   */
  | {
      readonly kind: "coded";
      readonly coding: Coding;
      readonly length: number;
      readonly from: readonly DiskRun[];
      readonly held?: Uint8Array;
      readonly foreign?: true;
    }
  /**
   * `length` bytes from byte `at` on of what a file that is compressed as a whole unpacks to (`whole-file.ts`); its own bytes stand at `from`.
   * They have no place of their own on the disk.
   */
  | { readonly kind: "packed"; readonly at: number; readonly length: number; readonly from: readonly DiskRun[] };

export interface DiskRun {
  /** Byte offset on the disk. */
  readonly at: number;
  /** Bytes. */
  readonly length: number;
}

/** Where the content of a copy stands: its segments in order; their lengths add up to `size`. */
export interface Layout {
  readonly size: number;
  readonly segments: readonly Segment[];
}

export const EMPTY_LAYOUT: Layout = { size: 0, segments: [] };

/** The first `size` bytes of these segments. Segments of the same run that touch are joined. */
export function layoutOf(segments: Iterable<Segment>, size: number): Layout {
  const kept: Segment[] = [];
  let left = size;
  for (const segment of segments) {
    if (left <= 0) break;
    if (segment.length <= 0) continue;
    const length = Math.min(left, segment.length);
    left -= length;
    const last = kept[kept.length - 1];
    if (segment.kind === "disk" && last?.kind === "disk" && last.at + last.length === segment.at && last.foreign === segment.foreign) {
      kept[kept.length - 1] = { ...last, length: last.length + length };
    } else if (segment.kind === "held") {
      kept.push({ ...segment, length, bytes: segment.bytes.subarray(0, length) });
    } else {
      kept.push(length === segment.length ? segment : { ...segment, length });
    }
  }
  if (left > 0) kept.push({ kind: "lost", length: left });
  return { size, segments: kept };
}

/** The disk ranges at which a content stands, in its order; holes, held bytes, lost stretches and what was compressed with others have none. */
export function diskRuns(layout: Layout): DiskRun[] {
  const runs: DiskRun[] = [];
  for (const segment of layout.segments) {
    if (segment.kind === "coded") runs.push(...segment.from);
    if (segment.kind !== "disk") continue;
    const last = runs[runs.length - 1];
    // A stretch that is foreign in part stands in pieces, but is one run on the disk.
    if (last && last.at + last.length === segment.at) runs[runs.length - 1] = { at: last.at, length: last.length + segment.length };
    else runs.push({ at: segment.at, length: segment.length });
  }
  return runs;
}

/**
 * Lists where the bytes of a content stand on the disk, in content order, with the offset of the first within the content: null where they
 * are coded, and no byte of the content has a place of its own. @param most runs that are listed
 */
export function placedRuns(layout: Layout, most: number): (DiskRun & { readonly start: number | null })[] {
  const runs: (DiskRun & { readonly start: number | null })[] = [];
  let start = 0;
  for (const segment of layout.segments) {
    if (runs.length >= most) break;
    const last = runs[runs.length - 1];
    if (segment.kind === "coded" || segment.kind === "packed") runs.push(...segment.from.map((run) => ({ ...run, start: null })));
    else if (segment.kind === "held") runs.push({ at: segment.at, length: segment.length, start });
    else if (segment.kind === "disk") {
      if (last?.start != null && last.at + last.length === segment.at && last.start + last.length === start)
        runs[runs.length - 1] = { ...last, length: last.length + segment.length };
      else runs.push({ at: segment.at, length: segment.length, start });
    }
    start += segment.length;
  }
  return runs.slice(0, most);
}

/**
 * Marks the stretches of a layout whose clusters belong to other files now.
 * @param foreign disk byte ranges, sorted and apart
 */
export function markForeign(layout: Layout, foreign: readonly Range[]): Layout {
  if (foreign.length === 0) return layout;
  const set = RangeSet.from(foreign);
  const segments = layout.segments.flatMap((segment): Segment[] => {
    if (segment.kind === "coded" && !segment.held && segment.from.some((run) => set.overlap(run.at, run.at + run.length) > 0))
      return [{ ...segment, foreign: true }];
    if (segment.kind !== "disk") return [segment];
    const pieces: Segment[] = [];
    let at = segment.at;
    const end = segment.at + segment.length;
    const own = (until: number) => until > at && pieces.push({ kind: "disk", at, length: until - at });
    for (const range of set.within(segment.at, end)) {
      own(range.start);
      pieces.push({ kind: "disk", at: range.start, length: range.end - range.start, foreign: true });
      at = range.end;
    }
    own(end);
    return pieces;
  });
  return { size: layout.size, segments };
}

/** Disk byte offset of the first stored byte of a content; null: none is stored. */
export function firstByte(layout: Layout | null): number | null {
  if (!layout) return null;
  const held = layout.segments.find((segment) => segment.kind === "held");
  return diskRuns(layout)[0]?.at ?? (held?.kind === "held" ? held.at : null);
}

function readRuns(disk: ByteSource, runs: readonly DiskRun[]): Uint8Array {
  const bytes = new Uint8Array(runs.reduce((sum, run) => sum + run.length, 0));
  let done = 0;
  for (const run of runs) {
    disk.read(run.at, bytes.subarray(done, done + run.length));
    done += run.length;
  }
  return bytes;
}

/** A stretch of a layout as segments of its own. Coded ones are not cut: `null` when it would have to. */
export function sliceLayout(layout: Layout, start: number, length: number): Segment[] | null {
  const found: Segment[] = [];
  let at = 0;
  for (const segment of layout.segments) {
    const from = Math.max(start, at);
    const to = Math.min(start + length, at + segment.length);
    if (from < to) {
      const inside = from - at;
      const count = to - from;
      if (segment.kind === "disk") found.push({ ...segment, at: segment.at + inside, length: count });
      else if (segment.kind === "held")
        found.push({ kind: "held", at: segment.at + inside, length: count, bytes: segment.bytes.subarray(inside, inside + count) });
      else if (segment.kind === "coded") return null;
      else if (segment.kind === "packed") found.push({ ...segment, at: segment.at + inside, length: count });
      else found.push({ kind: segment.kind, length: count });
    }
    at += segment.length;
    if (at >= start + length) break;
  }
  return found;
}

/** A copy's content, read through its layout from the disk it stands on. */
export class LayoutSource implements ByteSource {
  readonly size: number;
  readonly #starts: Float64Array;
  #decoded: { index: number; bytes: Uint8Array } | undefined;
  /** Coded pieces that were read and turned out damaged: from which of their plain bytes on. */
  readonly #unsound = new Map<number, number>();
  #stream: { index: number; bytes: StreamedBytes } | undefined;
  #whole: { segment: Segment & { kind: "packed" }; content: ByteSource | null } | undefined;

  constructor(
    private readonly disk: ByteSource,
    private readonly layout: Layout,
  ) {
    this.size = layout.size;
    this.#starts = new Float64Array(layout.segments.length);
    let start = 0;
    layout.segments.forEach((segment, index) => {
      this.#starts[index] = start;
      start += segment.length;
    });
  }

  get identity(): string | undefined {
    const { identity } = this.disk;
    const { size, segments } = this.layout;
    // Of many pieces their sum is enough.
    return identity === undefined ? undefined : `${identity} in ${size}, ${segments.length}: ${crc32(JSON.stringify(segments))}`;
  }

  read(at: number, into: Uint8Array): void {
    into.fill(0);
    this.#each(at, into.length, (segment, index, inside, length, done) => {
      const part = into.subarray(done, done + length);
      if (segment.kind === "disk") this.disk.read(segment.at + inside, part);
      else if (segment.kind === "held") part.set(segment.bytes.subarray(inside, inside + length));
      else if (segment.kind === "coded") this.#readCoded(segment, index, inside, part);
      else if (segment.kind === "packed") this.#unpacked(segment)?.read(segment.at + inside, part);
    });
  }

  /** Lost stretches, those that the disk refused, and coded pieces that turned out damaged when they were read. */
  unreadable(at: number, length: number): Range[] {
    const found: Range[] = [];
    this.#each(at, length, (segment, index, inside, part, done) => {
      const start = at + done;
      const sound = Math.max(0, Math.min(part, (this.#unsound.get(index) ?? Number.POSITIVE_INFINITY) - inside));
      if (segment.kind === "lost" || sound < part)
        found.push({ start: segment.kind === "lost" ? start : start + sound, end: start + part });
      else if (segment.kind === "disk") {
        const from = segment.at + inside;
        for (const range of this.#missing(from, part)) found.push({ start: range.start - from + start, end: range.end - from + start });
      } else if (segment.kind === "coded" && !segment.held && segment.from.some((run) => this.#missing(run.at, run.length).length > 0)) {
        found.push({ start, end: start + part });
      } else if (segment.kind === "packed") {
        const reaches = Math.max(0, Math.min(part, (this.#unpacked(segment)?.size ?? 0) - segment.at - inside));
        const isRefused = segment.from.some((run) => this.#missing(run.at, run.length).length > 0);
        // Which of its bytes come of those that the disk refused is not known.
        if (isRefused || reaches < part) found.push({ start: isRefused ? start : start + reaches, end: start + part });
      }
    });
    return found;
  }

  /** What a file that is compressed as a whole unpacks to; null: it is none any more. */
  #unpacked(segment: Segment & { kind: "packed" }): ByteSource | null {
    if (this.#whole?.segment.from !== segment.from)
      this.#whole = { segment, content: unpackWhole(this.#runs(segment.from))?.content ?? null };
    return this.#whole.content;
  }

  /** Stretches of the disk that it refused, or that lie behind its end: it was longer when the layout was made. Disk byte offsets. */
  #missing(at: number, length: number): Range[] {
    const there = Math.max(0, Math.min(length, this.disk.size - at));
    const found = there > 0 ? this.disk.unreadable(at, there) : [];
    return there < length ? [...found, { start: at + there, end: at + length }] : found;
  }

  /** The stretches of the content that need not be its own any more: their clusters were given to other files. Content offsets, joined. */
  foreign(): Range[] {
    const found = new RangeSet();
    this.layout.segments.forEach((segment, index) => {
      const start = this.#starts[index] as number;
      if ((segment.kind === "disk" || segment.kind === "coded") && segment.foreign) found.add(start, start + segment.length);
    });
    return [...found.ranges];
  }

  /** Reads from a coded piece; one that is very large is decoded while it is read. */
  #readCoded(segment: Segment & { kind: "coded" }, index: number, inside: number, into: Uint8Array): void {
    const streamed = segment.length > MOST_AT_ONCE;
    if (streamed && this.#stream?.index !== index) {
      const bytes = streamOf(segment.coding, this.#coded(segment), segment.length);
      this.#stream = bytes ? { index, bytes } : undefined;
    }
    if (!streamed || !this.#stream) {
      into.set(this.#plain(segment, index).subarray(inside, inside + into.length));
      return;
    }
    const { bytes } = this.#stream;
    bytes.read(inside, into);
    if (bytes.endsAt !== null && bytes.endsAt < segment.length) this.#unsound.set(index, bytes.endsAt);
  }

  /** The coded bytes of a piece, wherever they stand. */
  #coded({ held, from }: Segment & { kind: "coded" }): ByteSource {
    return held ? new MemorySource(held) : this.#runs(from);
  }

  /** Stretches of the disk, one behind the other. */
  #runs(from: readonly DiskRun[]): ByteSource {
    const size = from.reduce((sum, { length }) => sum + length, 0);
    return new LayoutSource(this.disk, { size, segments: from.map(({ at, length }) => ({ kind: "disk", at, length })) });
  }

  #plain(segment: Segment & { kind: "coded" }, index: number): Uint8Array {
    if (this.#decoded?.index === index) return this.#decoded.bytes;
    const coded = segment.held ?? readRuns(this.disk, segment.from);
    const { bytes, sound } = CODECS[segment.coding].decode(coded, segment.length);
    if (!sound) this.#unsound.set(index, 0);
    this.#decoded = { index, bytes };
    return bytes;
  }

  #each(at: number, length: number, visit: (segment: Segment, index: number, inside: number, length: number, done: number) => void): void {
    if (at < 0 || at >= this.size) return;
    const end = Math.min(this.size, at + length);
    let position = at;
    for (let index = lastNotAfter(this.#starts, at); position < end && index < this.layout.segments.length; index += 1) {
      const segment = this.layout.segments[index] as Segment;
      const inside = position - (this.#starts[index] as number);
      const part = Math.min(segment.length - inside, end - position);
      visit(segment, index, inside, part, position - at);
      position += part;
    }
  }
}
