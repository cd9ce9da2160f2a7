import type { ByteSource } from "../../bytes/byte-source";
import { type DiskRun, LayoutSource, layoutOf } from "../../bytes/layout";
import type { Range } from "../../bytes/range-set";
import { unpacked } from "../../bytes/unpacked";
import { cannotTell, type Extent, type Format } from "../../formats/format";
import { runFollow } from "../../formats/registry";
import type { Grid } from "../grid";
import type { Effort } from "./effort";

/** The disk on which pieces are looked for. Offsets are bytes of the disk. */
export interface PieceRoom extends Grid {
  readonly disk: Allowance;
  readonly effort: Effort;
  limitOf(at: number): number;
  /** How many bytes from `at` on, up to `length`, belong to no file that is proven. */
  freeFrom(at: number, length: number): number;
  /** Whether a file that was followed to its end, or has an unmistakable mark, begins in the cluster at a place, proven or not. */
  beginsIn(at: number): boolean;
}

/** A file as far as it is put together: pieces that end, and a last one that goes on as far as the stretch of the disk does. */
export class Pieces {
  /** @param from byte of the file with which the last piece begins */
  private constructor(
    readonly room: PieceRoom,
    private readonly ended: readonly DiskRun[],
    readonly lastAt: number,
    readonly from: number,
  ) {}

  static beginningAt(room: PieceRoom, at: number): Pieces {
    return new Pieces(room, [], at, 0);
  }

  get begins(): number {
    return this.ended[0]?.at ?? this.lastAt;
  }

  get count(): number {
    return this.ended.length + 1;
  }

  /** Bytes of the file at which a piece may end: the first at or before `at`. Clusters are counted on the disk. */
  boundaryBefore(at: number): number {
    const { cluster, origin } = this.room;
    return Math.floor((at + this.lastAt - this.from - origin) / cluster) * cluster + origin - this.lastAt + this.from;
  }

  /** The same file, its last piece ended after `length` bytes of the file and going on at `next`. */
  goingOn(length: number, next: number): Pieces {
    const ended = [...this.ended, { at: this.lastAt, length: length - this.from }];
    return new Pieces(this.room, ended, next, length);
  }

  /** Where the pieces stand that make up the first `size` bytes. */
  runs(size: number): DiskRun[] {
    return [...this.ended, { at: this.lastAt, length: size - this.from }].filter(({ length }) => length > 0);
  }

  /** Its bytes, and behind them what the disk has. */
  source(): LayoutSource {
    const rest = Math.max(0, this.room.limitOf(this.lastAt) - this.lastAt);
    const runs = [...this.ended, { at: this.lastAt, length: rest }];
    return new LayoutSource(
      this.room.disk,
      layoutOf(
        runs.map((run) => ({ kind: "disk", ...run })),
        this.from + rest,
      ),
    );
  }

  /** The same bytes as `goingOn(length, next).source()` from the last piece on: made at once, for a look at what stands around the seam. */
  acrossSeam(length: number, next: number): ByteSource {
    const { disk } = this.room;
    const shift = this.lastAt - this.from;
    return {
      size: length + Math.max(0, this.room.limitOf(next) - next),
      read(at, into) {
        const before = Math.max(0, Math.min(into.length, length - at));
        if (before > 0) disk.read(shift + at, into.subarray(0, before));
        if (before < into.length) disk.read(next + at + before - length, into.subarray(before));
      },
      unreadable: () => [],
    };
  }

  /** Whether a byte of the disk stands in one of the pieces, the last one counted up to the file's byte `size`. */
  holds(at: number, size: number): boolean {
    return this.runs(size).some((run) => at >= run.at && at < run.at + run.length);
  }
}

/** What a read costs beside its bytes. */
const EACH_READ = 256;

/**
 * A disk of which only so much may be read: what a search costs is counted by that, and depends on no clock. Reads are answered all the
 * same when nothing is left; who searches asks `isSpent` before each try.
 */
export class Allowance implements ByteSource {
  readonly size: number;
  #left: number;

  /** @param bytes that may be read */
  constructor(
    private readonly source: ByteSource,
    bytes: number,
  ) {
    this.size = source.size;
    this.#left = bytes;
  }

  get isSpent(): boolean {
    return this.#left <= 0;
  }

  get left(): number {
    return Math.max(0, this.#left);
  }

  /** Allows further bytes, or takes some away (negative). */
  add(bytes: number): void {
    this.#left += bytes;
  }

  read(at: number, into: Uint8Array): void {
    this.#left -= into.length + EACH_READ;
    this.source.read(at, into);
  }

  unreadable(at: number, length: number): Range[] {
    return this.source.unreadable(at, length);
  }
}

/** What is said of a file that is put together where nothing proves the seams. */
export const UNSURE = cannotTell("where its pieces end is not certain");

/** Plain bytes that cost as much as a byte that is read. */
const PLAIN_A_BYTE = 4;

/** Does something, and charges what is unpacked in it. */
export function charged<T>({ disk }: Pick<PieceRoom, "disk">, work: () => T): T {
  const before = unpacked.bytes;
  const done = work();
  disk.add(-Math.floor((unpacked.bytes - before) / PLAIN_A_BYTE));
  return done;
}

/** Follows a file as far as it is put together. */
export const follow = (room: PieceRoom, format: Format, pieces: Pieces): Extent | null =>
  charged(room, () => runFollow(format, pieces.source()));

/** Where damage shows in a file, or where what is proven of it ends. */
export const damageAt = ({ verdict, proven, size }: Extent): number =>
  verdict.verdict === "damaged" ? verdict.at : Math.min(proven ?? size, size);

export interface Joined {
  readonly pieces: Pieces;
  readonly extent: Extent;
}

/** Sound to its own end, which lies behind the last seam. */
export const proves = ({ closed, verdict, size }: Extent, length: number): boolean =>
  closed && verdict.verdict === "sound" && size > length;

/** Clusters around a place, the nearest first, behind it and before. */
export function* around(room: PieceRoom, place: number): Generator<number, void, void> {
  const { cluster, origin } = room;
  const from = Math.floor((place - origin) / cluster) * cluster + origin;
  const { reachBlind, leastAway, mostAway } = room.effort;
  const most = Math.min(mostAway, Math.max(leastAway, Math.floor(reachBlind / cluster)));
  for (let away = 0; away <= most; away += 1) {
    const behind = from + away * cluster;
    if (room.limitOf(behind) > behind && room.freeFrom(behind, 1) > 0) yield behind;
    const before = from - away * cluster;
    if (away > 0 && before >= 0 && room.limitOf(before) > before && room.freeFrom(before, 1) > 0) yield before;
  }
}

/** Breaks that are tried with every place, and places that are tried with every break, before the others. */
const BREAKS_FIRST = 4;
const PLACES_FIRST = 64;

/**
 * Ways to go on, the likeliest first: all breaks with the nearest places, the likeliest breaks with all places, then the others.
 * @param breaks the likeliest first @param places the nearest first
 */
export function* likeliestFirst(breaks: readonly number[], places: readonly number[]): Generator<readonly [number, number], void, void> {
  const parts = [
    [breaks, places.slice(0, PLACES_FIRST)],
    [breaks.slice(0, BREAKS_FIRST), places.slice(PLACES_FIRST)],
    [breaks.slice(BREAKS_FIRST), places.slice(PLACES_FIRST)],
  ] as const;
  for (const [lengths, nexts] of parts) for (const next of nexts) for (const length of lengths) yield [length, next];
}
