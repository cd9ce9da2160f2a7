import type { ByteSource } from "../bytes/byte-source";
import { LayoutSource, layoutOf } from "../bytes/layout";
import { RangeSet } from "../bytes/range-set";
import type { Extent } from "../formats/format";
import { resolved, runSummary } from "../formats/registry";
import { traitsOf } from "../formats/traits";
import { damagedEnd } from "./damaged-end";
import type { Domain } from "./domain";
import { type Find, isClosed, isDamaged, isMarked, isProven } from "./find";
import { ENOUGH, type Grid, gridOf } from "./grid";
import type { Effort } from "./joining/effort";
import { isOpen, joinPieces } from "./joining/join";
import { Allowance, type PieceRoom } from "./joining/pieces";

/** Bytes, and finds, after which it is no longer waited for more of them to read the grid off. */
const MOST_WAITED = 1 << 30;
const MOST_HELD = 20_000;
/** Before the damage, this far and nearer, a file that begins is where it was cut. */
const BREAK_REACH = 1 << 16;
/** Bytes of a cluster that are assumed where too few files were found. */
const USUAL_CLUSTER = 4096;

/** How many files were put together of those whose further pieces are looked for now. */
export interface Joining {
  readonly done: number;
  readonly all: number;
}

/**
 * Puts the finds of one stretch after the other together: ties those that stand in others to them, drops false beginnings,
 * has the rest of what breaks off searched. A find is given out when nothing can change it any more, in the order of the disk.
 */
export class Settler {
  #waiting: Find[] = [];
  /** Finds that are not placed yet, while it is not known where clusters begin. */
  #held: Find[] = [];
  readonly #taken = new RangeSet();
  /** Where files that are proven stand by themselves, from where a cluster begins: no other has a piece there. */
  readonly #laid = new RangeSet();
  /** How many of those waiting need no further piece any more. */
  #pieces = 0;
  #grid: Grid | null;
  /** What may still be read for joining: very many damaged files do not stop a sweep. It begins anew when a sweep goes on later. */
  readonly #allowance: Allowance;
  #swept = 0;

  /** @param grid where clusters begin; null: it is read off the finds */
  constructor(
    private readonly disk: ByteSource,
    private readonly domain: Domain,
    grid: Grid | null,
    private readonly effort: Effort,
  ) {
    this.#grid = grid;
    this.#allowance = new Allowance(disk, effort.readFirst);
    this.#swept = domain.ranges[0]?.start ?? 0;
  }

  /** Where clusters begin; null: that is not settled yet. */
  get grid(): Grid | null {
    return this.#grid;
  }

  get #settledGrid(): Grid {
    if (!this.#grid) throw new Error("Finds are placed before it is known where clusters begin.");
    return this.#grid;
  }

  /** Takes the finds of the stretch that ends at `to`, and gives out what is settled. Yields before each file whose further pieces are looked for. */
  *add(finds: readonly Find[], to: number, last: boolean): Generator<Joining, Find[], void> {
    this.#held.push(...finds);
    this.#grid ??= this.#findGrid(to, last);
    if (!this.#grid) return [];
    for (const find of this.#held) this.#place(this.#clipped(find));
    this.#held = [];
    this.#allowance.add(Math.max(0, to - this.#swept) * this.effort.readEach);
    this.#swept = to;
    // Further pieces are searched when enough behind them is known; what they take away from others lies near.
    const isKnown = (find: Find) => last || find.at + find.size + (isOpen(find) ? this.effort.reach : 0) <= to;
    const mayGoOn = (find: Find) => isOpen(find) && find.inside === null;
    const end = this.#waiting.findIndex((find, index) => index >= this.#pieces && !isKnown(find));
    const all = this.#waiting.slice(this.#pieces, end < 0 ? undefined : end).filter(mayGoOn).length;
    for (let done = 0; this.#pieces < this.#waiting.length; this.#pieces += 1) {
      const find = this.#waiting[this.#pieces] as Find;
      if (!isKnown(find)) break;
      if (!mayGoOn(find)) continue;
      yield { done, all: Math.max(all, done + 1) };
      this.#piece(find);
      done += 1;
    }
    const reach = this.#pieces < this.#waiting.length ? (this.#waiting[this.#pieces] as Find).at : to;
    let settled = 0;
    while (settled < this.#pieces && (last || (this.#waiting[settled] as Find).at + this.effort.reach <= reach)) settled += 1;
    this.#pieces -= settled;
    return this.#waiting.splice(0, settled);
  }

  /** What was found and is not given out yet, because it may still change; what stands in others left out. */
  sighted(): Find[] {
    return [...this.#waiting.filter((find) => find.inside === null), ...this.#held];
  }

  /** Where to go on after an interruption so that nothing is lost or given twice. */
  resume(to: number): number {
    return this.#waiting[0]?.at ?? this.#held[0]?.at ?? to;
  }

  /** Nothing is put together, and nothing given out, before it is known where clusters begin. */
  #findGrid(to: number, last: boolean): Grid | null {
    const starts: number[] = [];
    let end = 0;
    for (const find of this.#held) {
      if (find.at < end || !isClosed(find)) continue;
      // Files stand in an archive that nothing proves as well, wherever it has them.
      end = find.at + find.size;
      if (isProven(find) || (isMarked(find) && !isText(find))) starts.push(find.at);
    }
    const [first] = this.#held;
    const waited = (first !== undefined && to - first.at > MOST_WAITED) || this.#held.length > MOST_HELD;
    if (!last && !waited && starts.length < ENOUGH) return null;
    return gridOf(starts) ?? { cluster: USUAL_CLUSTER, origin: this.domain.ranges[0]?.start ?? 0 };
  }

  /** One that breaks off ends in the cluster in which that shows: what comes after it is not known to be its own. */
  #clipped(find: Find): Find {
    const { verdict, closed } = find.extent;
    if (closed || verdict.verdict !== "damaged") return find;
    const size = Math.min(find.size, damagedEnd(this.disk, this.#settledGrid, find) ?? this.#clusterEnd(find.at + verdict.at) - find.at);
    if (size === find.size) return find;
    const shows = Math.min(size, verdict.at);
    const narrowed: Extent = { ...find.extent, size, verdict: { ...verdict, at: shows, upTo: Math.max(verdict.at, verdict.upTo ?? 0) } };
    return { ...find, size, segments: [{ at: find.at, length: size }], extent: shows < verdict.at ? narrowed : { ...find.extent, size } };
  }

  #place(find: Find): void {
    // Letters stand in databases and films too: a text that nothing but its letters speaks for begins where a cluster does.
    if (isLooseText(find) && !this.#isAligned(find.at)) return;
    // So do beginnings whose marks say little, or stand before each part of a file.
    if (isDamaged(find) && traitsOf(find.format).needsEnd && !this.#isAligned(find.at)) return;
    // The innermost find that reaches over its beginning.
    let parent: Find | null = null;
    for (const other of this.#waiting) if (other.at < find.at && find.at < other.at + other.size && !isLooseText(other)) parent = other;
    if (this.#taken.overlap(find.at, find.at + 1) > 0 && !parent) return;
    let placed: Find | null = find;
    if (parent) placed = isDamaged(parent) ? this.#afterBreak(parent, find) : this.#nested(parent, find);
    if (!placed) return;
    this.#waiting.push(placed);
    if (isProven(placed) && placed.inside === null) {
      this.#taken.add(placed.at, placed.at + placed.size);
      if (this.#isAligned(placed.at)) this.#laid.add(placed.at, placed.at + placed.size);
    }
    // Text that nothing closes ends where a file begins.
    this.#cutText(placed);
  }

  #nested(parent: Find, find: Find): Find | null {
    const fits = find.at + find.size <= parent.at + parent.size;
    const nested = fits && isNestable(parent, find) ? { ...find, inside: parent.at } : null;
    if (isProven(parent)) return nested;
    // Both cannot be right; the one that began before may have been cut where a cluster begins.
    const ends = traitsOf(parent.format).holdsNothing
      ? isProven(find) || (this.#isAligned(find.at) && (isClosed(find) || isMarked(find)))
      : !fits && isClosed(find) && this.#isAligned(find.at);
    // Where nothing proves the one, a beginning of another that could not stand in it is reported as well, though it breaks off.
    if (!ends || isText(find)) return nested ?? (this.#beginsAnew(find) ? find : null);
    this.#cut(parent, find.at, "another file begins inside it");
    return find;
  }

  /** In what a damaged file was followed for, another may begin where the first was cut. */
  #afterBreak(parent: Find, find: Find): Find | null {
    const { verdict, proven } = parent.extent;
    const at = verdict.verdict === "damaged" ? parent.at + verdict.at : parent.at + parent.size;
    const { cluster } = this.#settledGrid;
    const aligned = this.#isAligned(find.at);
    const isNear = at >= find.at && at - find.at <= Math.max(BREAK_REACH, 16 * cluster) && find.at - parent.at >= (proven ?? 0);
    const atBreak = aligned && isNear && !isText(find);
    if (!atBreak) {
      // Behind the damage nothing is the parent's any more.
      if (find.at >= at && !isText(find)) return find;
      // Nor need what is not proven of it be, where a whole file, or the mark of one, begins at a cluster.
      if (aligned && find.at >= parent.at + (proven ?? 0) && (isClosed(find) ? !isLooseText(find) : this.#beginsAnew(find))) return find;
      if (isText(find) || !isClosed(find)) return null;
      if (find.at + find.size <= parent.at + parent.size) return isNestable(parent, find) ? { ...find, inside: parent.at } : null;
      // What is whole, and reaches farther than the damaged one, is no part of that.
      return isProven(find) ? find : null;
    }
    this.#cut(parent, find.at, "another file begins where it should go on");
    return find;
  }

  /** The end of the cluster in which a byte stands. */
  #clusterEnd(at: number): number {
    const { cluster, origin } = this.#settledGrid;
    return (Math.floor((at - origin) / cluster) + 1) * cluster + origin;
  }

  /** Whether a cluster begins here. */
  #isAligned(at: number): boolean {
    const { cluster, origin } = this.#settledGrid;
    return (at - origin) % cluster === 0;
  }

  /** Whether another file begins here: where a cluster does, with a mark that hardly stands in other data. (In an archive another one hardly begins at a cluster.) */
  #beginsAnew(find: Find): boolean {
    return this.#isAligned(find.at) && !isText(find) && isMarked(find);
  }

  #cut(find: Find, at: number, reason: string): void {
    const size = at - find.at;
    const index = this.#waiting.indexOf(find);
    this.#waiting[index] = {
      ...find,
      size,
      segments: [{ at: find.at, length: size }],
      extent: {
        size,
        closed: false,
        verdict: { verdict: "damaged", at: size, reason },
        // One that was followed farther, or to its end, should have been as long as that.
        expected: Math.max(find.extent.expected ?? 0, find.size),
      },
    };
  }

  #cutText(find: Find): void {
    this.#waiting.forEach((other, index) => {
      if (!isLooseText(other) || other.at >= find.at || other.at + other.size <= find.at) return;
      const size = find.at - other.at;
      this.#waiting[index] = { ...other, size, segments: [{ at: other.at, length: size }], extent: { ...other.extent, size } };
    });
  }

  /** Whether a file that begins where pieces were laid that nothing proves is to be reported beside them: one of both is wrong, and nobody knows which. */
  #mayStandBeside(joined: Find, other: Find): boolean {
    const [first] = joined.segments;
    const begins = first !== undefined && other.at >= first.at && other.at < first.at + first.length;
    return !isProven(joined) && stands(other) && this.#isAligned(other.at) && !begins;
  }

  #piece(find: Find): void {
    const { disk, domain } = this;
    const { cluster, origin } = this.#settledGrid;
    const clusterOf = (at: number) => Math.floor((at - origin) / cluster);
    let begun: Set<number> | null = null;
    const room: PieceRoom = {
      disk: this.#allowance,
      effort: this.effort,
      ...this.#settledGrid,
      limitOf: (at) => domain.limitOf(at),
      freeFrom: (at, length) => (this.#laid.within(at, at + length)[0]?.start ?? at + length) - at,
      beginsIn: (at) => {
        begun ??= new Set(this.#waiting.flatMap((other) => (other !== find && stands(other) ? [clusterOf(other.at)] : [])));
        return begun.has(clusterOf(at));
      },
    };
    const whole = joinPieces(room, find);
    if (!whole) return;
    for (const { at, length } of whole.segments) {
      this.#taken.add(at, at + length);
      if (isProven(whole)) this.#laid.add(at, at + length);
    }
    const content = new LayoutSource(
      disk,
      layoutOf(
        whole.segments.map((run) => ({ kind: "disk", ...run })),
        whole.size,
      ),
    );
    const format = resolved(whole.format, content);
    const joined = { ...whole, format, summary: runSummary(format, content) };
    // What seemed to begin in either piece was a part of it, or stands in it.
    const inside = ({ at }: Find) => at !== find.at && whole.segments.some((run) => at >= run.at && at < run.at + run.length);
    let kept = 0;
    this.#waiting = this.#waiting.flatMap((other, index) => {
      const now =
        other === find
          ? joined
          : !inside(other) || this.#mayStandBeside(joined, other)
            ? other
            : isNestable(joined, other)
              ? { ...other, inside: find.at }
              : null;
      if (now && index < this.#pieces) kept += 1;
      return now ? [now] : [];
    });
    this.#pieces = kept;
  }
}

/** Whether a find that stands in another is worth reporting: its own check has passed, and the other is no film or picture full of such. */
function isNestable(parent: Find, find: Find): boolean {
  if (!isClosed(find) || isText(find) || traitsOf(parent.format).holdsNothing) return false;
  if (parent.format.kind === "video" || find.format.id === "tiff") return false;
  return true;
}

/** It stands by itself, and is a file by its own account. */
const stands = (find: Find) => find.inside === null && !isText(find) && (isClosed(find) || isMarked(find));

const isText = ({ format }: Find) => format.id === "words" || format.id === "csv" || format.id === "json" || format.id === "text";
const isLooseText = (find: Find) => (find.format.id === "words" || find.format.id === "csv") && !find.extent.closed;
