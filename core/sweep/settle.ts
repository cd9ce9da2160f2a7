import { type ByteSource, readBytes } from "../bytes/byte-source";
import { type DiskRun, LayoutSource, layoutOf } from "../bytes/layout";
import { RangeSet } from "../bytes/range-set";
import { resolved, runSummary } from "../formats/registry";
import { traitsOf } from "../formats/traits";
import type { Domain } from "./domain";
import { type Find, isClosed, isDamaged, isProven } from "./find";
import { isOpen, type PieceRoom, secondPiece } from "./second-piece";

/** How far beyond a damaged file everything must have been looked through before its second piece is searched. */
const LOOK_BEYOND = 1 << 25;

/**
 * Puts the finds of one stretch after the other together: ties those that stand in others to them, drops false beginnings,
 * searches second pieces. A find is given out when nothing can change it any more, in the order of the disk.
 */
export class Settler {
  #waiting: Find[] = [];
  readonly #taken = new RangeSet();
  /** How many of those waiting need no second piece any more. */
  #pieces = 0;

  constructor(
    private readonly disk: ByteSource,
    private readonly domain: Domain,
    private readonly cluster: number,
    private readonly origin: number,
  ) {}

  /** Takes the finds of the stretch that ends at `to`, and gives out what is settled. */
  add(finds: readonly Find[], to: number, last: boolean): Find[] {
    for (const find of finds) this.#place(find);
    // Second pieces are searched when enough behind them is known; what they take away from others lies near.
    for (; this.#pieces < this.#waiting.length; this.#pieces += 1) {
      const find = this.#waiting[this.#pieces] as Find;
      if (!last && find.at + find.size + (isOpen(find) ? LOOK_BEYOND : 0) > to) break;
      if (isOpen(find) && find.inside === null) this.#piece(find);
    }
    const reach = this.#pieces < this.#waiting.length ? (this.#waiting[this.#pieces] as Find).at : to;
    let settled = 0;
    while (settled < this.#pieces && (last || (this.#waiting[settled] as Find).at + LOOK_BEYOND <= reach)) settled += 1;
    this.#pieces -= settled;
    return this.#waiting.splice(0, settled);
  }

  /** What was found and is not given out yet, because it may still change; what stands in others left out. */
  sighted(): Find[] {
    return this.#waiting.filter((find) => find.inside === null);
  }

  /** Where to go on after an interruption so that nothing is lost or given twice. */
  resume(to: number): number {
    return this.#waiting[0]?.at ?? to;
  }

  #place(find: Find): void {
    // The innermost find that reaches over its beginning.
    let parent: Find | null = null;
    for (const other of this.#waiting) if (other.at < find.at && find.at < other.at + other.size && !isLooseText(other)) parent = other;
    if (this.#taken.overlap(find.at, find.at + 1) > 0 && !parent) return;
    let placed: Find | null = find;
    if (parent) placed = isDamaged(parent) ? this.#afterBreak(parent, find) : this.#nested(parent, find);
    if (!placed) return;
    this.#waiting.push(placed);
    if (isProven(placed) && placed.inside === null) this.#taken.add(placed.at, placed.at + placed.size);
    // Text that nothing closes ends where a file begins.
    this.#cutText(placed);
  }

  #nested(parent: Find, find: Find): Find | null {
    const fits = find.at + find.size <= parent.at + parent.size;
    if (traitsOf(parent.format).holdsNothing || (parent.format.loose && !fits)) {
      if (!isProven(find) || isProven(parent)) return null;
      this.#cut(parent, find.at, "another file begins inside it");
      return find;
    }
    return fits && isNestable(parent, find) ? { ...find, inside: parent.at } : null;
  }

  /** In what a damaged file was followed for, another may begin where the first was cut. */
  #afterBreak(parent: Find, find: Find): Find | null {
    const { verdict } = parent.extent;
    const at = verdict.verdict === "damaged" ? parent.at + verdict.at : parent.at + parent.size;
    const aligned = (find.at - this.origin) % this.cluster === 0;
    const atBreak = aligned && at >= find.at && at - find.at <= 16 * this.cluster && !isText(find);
    if (!atBreak) {
      if (isText(find) || !isClosed(find)) return null;
      if (find.at + find.size <= parent.at + parent.size) return isNestable(parent, find) ? { ...find, inside: parent.at } : null;
      return aligned && isProven(find) ? find : null;
    }
    this.#cut(parent, find.at, "another file begins where it should go on");
    return find;
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

  #piece(find: Find): void {
    const { disk, domain, cluster, origin } = this;
    const room: PieceRoom = {
      disk,
      cluster,
      origin,
      limitOf: (at) => domain.limitOf(at),
      isTaken: (at) => this.#taken.overlap(at, at + 1) > 0 || isZero(readBytes(disk, at, 64)),
    };
    const whole = secondPiece(room, find);
    if (!whole) return;
    const [first, second] = whole.segments as [DiskRun, DiskRun];
    for (const { at, length } of whole.segments) this.#taken.add(at, at + length);
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
    const inside = ({ at }: Find) => (at > first.at && at < first.at + first.length) || (at >= second.at && at < second.at + second.length);
    let kept = 0;
    this.#waiting = this.#waiting.flatMap((other, index) => {
      const now = other === find ? joined : !inside(other) ? other : isNestable(joined, other) ? { ...other, inside: find.at } : null;
      if (now && index < this.#pieces) kept += 1;
      return now ? [now] : [];
    });
    this.#pieces = kept;
  }
}

/** Whether a find that stands in another is worth telling: its own check has passed, and the other is no film or picture full of such. */
function isNestable(parent: Find, find: Find): boolean {
  if (!isClosed(find) || isText(find) || traitsOf(parent.format).holdsNothing) return false;
  if (parent.format.kind === "video" || find.format.id === "tiff") return false;
  return true;
}

const isText = ({ format }: Find) => format.id === "words" || format.id === "csv" || format.id === "json" || format.id === "text";
const isLooseText = (find: Find) => (find.format.id === "words" || find.format.id === "csv") && !find.extent.closed;

function isZero(bytes: Uint8Array): boolean {
  return bytes.every((byte) => byte === 0);
}
