import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import { type Range, RangeSet, without } from "../bytes/range-set";
import { LOCAL, METHOD } from "../formats/zip/layout";
import { localMember, type ZipMember } from "../formats/zip/members";
import { HeldArchive } from "./zip-held";
import { judgeLocal, type Local, type SalvagedMember } from "./zip-judge";
import { type CentralEntry, isName, ListedPlaces, marksIn, ZipLists } from "./zip-lists";
import { namelessIn, remainsIn, SHORTEST_GAP, searchData } from "./zip-lost";

/** Versions of the format needed to read a member (APPNOTE, 4.4.3.2), the highest. */
const HIGHEST_VERSION = 63;
/** Plain bytes that all tries together may cost, as a multiple of the archive's size, and at least. */
const TRIES = { times: 8, least: 1 << 24 } as const;
/** Members that are not as their headers say, of which a place to go on from keeps what was found. */
const MOST_KEPT = 5_000;

const CHECKSUMS = ["agrees", "differs", "none", "unlooked"] as const;

interface Reached {
  /** What is gone through: headers, entries of lists that no header took, stretches with neither. */
  readonly phase: "headers" | "lists" | "gaps";
  /** What comes next: the place of a header or stretch, the number of an entry. */
  readonly next: number;
  /** Members before it. */
  readonly count: number;
  /** Plain bytes that may still be spent on tries. */
  readonly left: number;
}

/** A place to go on from. What stands before it is gone through again, without unpacking anything. */
export interface SalvageFrom extends Reached {
  /** Members before it that are not as their headers and entries say: place of the header, checksum, packed bytes. */
  readonly odd: readonly (readonly [at: number, checksum: number, packed: number])[];
  /** Data before it that were found by an entry of a list: where they begin, packed bytes. */
  readonly byList: readonly (readonly [dataAt: number, packed: number])[];
}

/**
 * Finds every member of a ZIP archive, or of a part of it, whatever is damaged: by headers, by entries of lists of contents, and where both are
 * gone by packed data that end where the next thing begins. Memory grows with entries and stretches, some dozens of bytes each.
 */
export class ZipSalvage {
  readonly #reader: BlockReader;
  readonly #lists: ZipLists;
  readonly #odd: SalvageFrom["odd"][number][];
  readonly #byList: SalvageFrom["byList"][number][];
  #resume: Reached & { readonly odd: number; readonly byList: number };
  #left: number;
  #count: number;
  #reached: number;
  #isListed = false;

  /**
   * @param bases where each part of a split archive begins
   * @param from a place that an earlier salvage of the same bytes gave
   */
  constructor(
    private readonly source: ByteSource,
    private readonly part: Range,
    bases: readonly number[],
    private readonly from: SalvageFrom | null = null,
  ) {
    this.#reader = new BlockReader(source);
    this.#lists = new ZipLists(source, bases);
    this.#left = from?.left ?? Math.max(TRIES.least, TRIES.times * (part.end - part.start));
    this.#count = from?.count ?? 0;
    this.#odd = [...(from?.odd ?? [])];
    this.#byList = [...(from?.byList ?? [])];
    this.#reached = part.start;
    const { phase, next } = from ?? { phase: "headers", next: part.start };
    this.#resume = { phase, next, count: this.#count, left: this.#left, odd: this.#odd.length, byList: this.#byList.length };
  }

  /** Members that were given. */
  get count(): number {
    return this.#count;
  }

  /** How much of the work is done, from 0 to 1: all of it is searched for lists, and then for headers. */
  get share(): number {
    const { start, end } = this.part;
    return ((this.#isListed ? 1 : 0) + Math.min(1, (this.#reached - start) / Math.max(1, end - start))) / 2;
  }

  /** Where another salvage goes on. */
  checkpoint(): SalvageFrom {
    const { odd, byList, ...reached } = this.#resume;
    return { ...reached, odd: this.#odd.slice(0, odd), byList: this.#byList.slice(0, byList) };
  }

  /** The members, in the order in which they are found; null after much work without any. */
  *members(): Generator<SalvagedMember | null, void, void> {
    for (const at of this.#lists.scan(this.part)) {
      this.#reached = at;
      yield null;
    }
    this.#isListed = true;
    this.#reached = this.part.start;
    /** What is another's, and what a member with a wrong checksum takes for its own besides. */
    const used = RangeSet.from(this.#lists.stretches.ranges);
    const claimed = RangeSet.from(this.#lists.stretches.ranges);
    const places = new ListedPlaces(this.#lists);
    const covered = yield* this.#byHeaders(places, used, claimed);
    const starts = yield* this.#byLists(places, { used, claimed }, covered);
    yield* this.#inGaps(claimed, starts);
  }

  /** @returns the end of the last sound member: what stands in the data of another is that one's content */
  *#byHeaders(places: ListedPlaces, used: RangeSet, claimed: RangeSet): Generator<SalvagedMember | null, number, void> {
    const reader = this.#reader;
    const first = this.from && this.from.phase !== "headers" ? this.part.end : (this.from?.next ?? this.part.start);
    const known = new Map(this.from?.odd.map((each) => [each[0], each] as const));
    let covered = this.part.start;
    let held: HeldArchive | null = null;
    for (const at of marksIn(this.source, [LOCAL.mark], this.part, () => covered)) {
      if (at === null) yield null;
      this.#reached = Math.max(this.#reached, covered, at ?? 0);
      const local = at === null ? null : localAt(reader, at);
      if (local === null) continue;
      const soundEnd = () => {
        const { checksum, packed } = judgeLocal(reader, local, null);
        return checksum === "agrees" ? local.dataAt + packed : null;
      };
      if (held?.owns(local.at, soundEnd)) continue;
      const entry = places.take(local);
      const isGiven = local.at < first;
      const found = isGiven ? asGiven(local, entry, known.get(local.at)) : judgeLocal(reader, local, entry);
      const end = local.dataAt + Math.max(0, found.packed);
      claimed.add(local.at, end);
      used.add(local.at, found.checksum === "differs" ? local.dataAt : end);
      if (found.checksum === "agrees") covered = end;
      else if (holdsArchive(reader, local, found)) held = new HeldArchive(reader, local.dataAt, end, this.#lists.ends);
      if (isGiven) continue;
      if (found.checksum !== "agrees" || found.packed !== statedPacked(local, entry))
        this.#odd.push([local.at, CHECKSUMS.indexOf(found.checksum), found.packed]);
      yield this.#given(found, "headers", local.at + 1);
    }
    return covered;
  }

  /** @returns where the data of members begin whose header is damaged: what stands before them is that header */
  *#byLists(
    places: ListedPlaces,
    ranges: { readonly used: RangeSet; readonly claimed: RangeSet },
    covered: number,
  ): Generator<SalvagedMember | null, ReadonlySet<number>, void> {
    const { part, from } = this;
    const starts = new Set<number>();
    const take = (dataAt: number, packed: number) => {
      ranges.used.add(dataAt, dataAt + packed);
      ranges.claimed.add(dataAt, dataAt + packed);
      starts.add(dataAt);
    };
    for (const [dataAt, packed] of this.#byList) take(dataAt, packed);
    if (from?.phase === "gaps") return starts;
    const isWhole = part.start === 0 && part.end >= this.#reader.size;
    for (const { index, entry } of places.left(from?.phase === "lists" ? from.next : 0)) {
      if (covered > entry.entryAt) continue;
      const tried = this.#left > 0 ? searchData(this.#reader, entry, places, ranges, part) : null;
      this.#left -= tried?.cost ?? 0;
      const placed = entry.at + places.shiftNear(entry.at);
      if (tried?.found && tried.found.dataAt !== null) {
        const { dataAt, packed } = tried.found;
        take(dataAt, packed);
        this.#byList.push([dataAt, packed]);
        yield this.#given(tried.found, "lists", index + 1);
      } else if (entry.plain === 0 || isWhole || (placed >= part.start && entry.at < part.end))
        yield this.#given(notFound(entry), "lists", index + 1);
      else yield null;
    }
    return starts;
  }

  /** @param starts where the data of members begin that were found by a list */
  *#inGaps(claimed: RangeSet, starts: ReadonlySet<number>): Generator<SalvagedMember | null, void, void> {
    const { part } = this;
    const { stretches } = this.#lists;
    const first = this.from?.phase === "gaps" ? this.from.next : part.start;
    for (const gap of without({ start: first, end: part.end }, claimed.ranges)) {
      if (this.#left <= 0) return;
      if (gap.end - gap.start < SHORTEST_GAP) continue;
      const { found, cost } = namelessIn(this.#reader, gap);
      this.#left -= cost;
      const isOfList = stretches.overlap(gap.start - 1, gap.start) > 0 || stretches.overlap(gap.end, gap.end + 1) > 0;
      const isRest = found.length === 0 && gap.start > part.start && !isOfList && !starts.has(gap.end);
      const all = isRest ? [...remainsIn(this.#reader, gap)] : found;
      const last = all.pop();
      // A place to go on from lies behind all that one stretch gives.
      for (const each of all) {
        this.#count += 1;
        yield each;
      }
      yield last ? this.#given(last, "gaps", gap.end) : null;
    }
  }

  #given(member: SalvagedMember, phase: Reached["phase"], next: number): SalvagedMember {
    this.#count += 1;
    const [odd, byList] = [this.#odd.length, this.#byList.length];
    // With more than this to keep, a salvage goes on from the last place that had less.
    if (odd + byList <= MOST_KEPT) this.#resume = { phase, next, count: this.#count, left: this.#left, odd, byList };
    return member;
  }
}

function localAt(reader: BlockReader, at: number): Local | null {
  try {
    const local = (reader.u16(at + 4) & 0xff) <= HIGHEST_VERSION ? localMember(reader, at) : null;
    return local && isName(local.raw) ? local : null;
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return null;
  }
}

/** Packed bytes of a member by its entry, or by its header; -1: neither says. */
const statedPacked = (local: Local, entry: ZipMember | null): number => entry?.packed ?? (local.sized ? local.packed : -1);

/** A member that an earlier salvage gave, as far as others depend on it. @param odd what was found, where it is not as it should be */
function asGiven(local: Local, entry: ZipMember | null, odd: SalvageFrom["odd"][number] | undefined): SalvagedMember {
  const [, checksum, packed] = odd ?? [local.at, 0, statedPacked(local, entry)];
  return { member: local, dataAt: local.dataAt, packed, plain: 0, checksum: CHECKSUMS[checksum] ?? "none", present: 0, by: "header" };
}

const notFound = (entry: CentralEntry): SalvagedMember => ({
  member: entry,
  dataAt: null,
  packed: 0,
  plain: entry.plain,
  checksum: entry.plain === 0 ? "agrees" : "none",
  present: 0,
  by: "list",
});

/** Whether a member that is not whole is an archive kept as it is: headers in it are its own. */
const holdsArchive = (reader: BlockReader, { dataAt, method }: Local, { packed }: SalvagedMember): boolean =>
  method === METHOD.stored && packed > 0 && dataAt + 4 <= reader.size && reader.has(dataAt, LOCAL.mark);
