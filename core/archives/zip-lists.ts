import { crc32 } from "node:zlib";
import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import { type Range, RangeSet } from "../bytes/range-set";
import { CENTRAL, END } from "../formats/zip/layout";
import { centralMember, MOST_MEMBERS, type ZipMember } from "../formats/zip/members";
import type { Local } from "./zip-judge";

/** An entry of a list of contents, and where it stands. */
export type CentralEntry = ZipMember & { readonly entryAt: number };

const LONGEST_NAME = 4096;
/** Bytes that are read, and searched, at once. */
const BLOCK = 1 << 20;
const SLICE = 1 << 26;
/** Differences of places that are told apart. */
const MOST_SHIFTS = 4096;
/** Bytes of a mark, and what all of them begin with (APPNOTE, 4.3). */
const MARK = 4;
const BEGIN = "PK";
/** Entries of one name, or of one name and content, that are weighed for a header. */
const MOST_ALIKE = 32;

/** Names have no control characters, and there is one. */
export const isName = (raw: Uint8Array): boolean => raw.length > 0 && raw.length <= LONGEST_NAME && raw.every((byte) => byte >= 0x20);

/**
 * Finds marks in a part of a source, place after place; null after each slice without any.
 * @param marks those of the format, of four characters
 * @param covered before which nothing is looked at, asked anew each time
 */
export function* marksIn(
  source: ByteSource,
  marks: readonly string[],
  part: Range,
  covered = () => 0,
): Generator<number | null, void, void> {
  // A mark that begins in the part may end behind it.
  const end = Math.min(part.end + MARK - 1, source.size);
  const buffer = Buffer.allocUnsafe(Math.max(0, Math.min(BLOCK, end - part.start)) + MARK);
  let told = part.start;
  for (let at = Math.max(part.start, covered()); at + MARK <= end; ) {
    const block = buffer.subarray(0, Math.min(buffer.length, end - at));
    source.read(at, block);
    let next = at + block.length - MARK + 1;
    for (let found = block.indexOf(BEGIN, 0, "latin1"); found >= 0; found = block.indexOf(BEGIN, found + 1, "latin1")) {
      if (!marks.includes(block.toString("latin1", found, found + MARK))) continue;
      yield at + found;
      told = at;
      const from = covered();
      if (from >= next) {
        next = from;
        break;
      }
      found = Math.max(found, from - at - 1);
    }
    at = next;
    if (at - told < SLICE) continue;
    told = at;
    yield null;
  }
}

/** Numbers that have others of the same kind, the last first. */
class Chains {
  readonly #last = new Map<number, number>();
  readonly #before: number[] = [];

  /** @param index larger than those before */
  add(key: number, index: number): void {
    this.#before[index] = this.#last.get(key) ?? -1;
    this.#last.set(key, index);
  }

  /** Those of a kind that are left, as far as many are weighed. */
  *of(key: number, isLeft: (index: number) => boolean): Generator<number, void, void> {
    let index = this.#last.get(key) ?? -1;
    // What is not left at the beginning is not gone through again and again.
    while (index >= 0 && !isLeft(index)) index = this.#before[index] as number;
    this.#last.set(key, index);
    for (let steps = 0; index >= 0 && steps < MOST_ALIKE; index = this.#before[index] as number, steps += 1) if (isLeft(index)) yield index;
  }
}

/** The lists of contents in an archive, or in a part of one: of each entry its place alone is kept. */
export class ZipLists {
  /** Stretches of lists of contents and end records. */
  readonly stretches = new RangeSet();
  /** Places of end records, in their order. */
  readonly ends: number[] = [];
  readonly #reader: BlockReader;
  /** Where each entry stands. */
  readonly #places: number[] = [];
  /** Made when they are first asked for: mostly places alone tell which entry is a header's. */
  #byName: Chains | null = null;
  #byContent: Chains | null = null;
  /** The last entry that says of a place that its member begins there. */
  readonly #byMember = new Map<number, number>();

  /** @param bases where each part of a split archive begins */
  constructor(
    private readonly source: ByteSource,
    private readonly bases: readonly number[],
  ) {
    this.#reader = new BlockReader(source);
  }

  /** Looks for lists at every byte; yields after each slice up to where it has looked. */
  *scan(part: Range): Generator<number, void, void> {
    const reader = this.#reader;
    let reached = part.start;
    for (const at of marksIn(this.source, [CENTRAL.mark, END.mark], part)) {
      if (at === null || at - reached > SLICE) {
        reached = at ?? reached + SLICE;
        yield reached;
      }
      if (at === null) continue;
      if (this.#places.length + this.ends.length >= MOST_MEMBERS) return;
      try {
        if (reader.has(at, CENTRAL.mark)) {
          const entry = centralMember(reader, at);
          if (!entry || !isName(entry.member.raw)) continue;
          this.#add(at, entry.member);
          this.stretches.add(at, entry.next);
        } else if (reader.has(at, END.mark) && at + END.size <= reader.size) {
          this.stretches.add(at, at + END.size);
          this.ends.push(at);
        }
      } catch (error) {
        if (!(error instanceof PastEnd)) throw error;
      }
    }
  }

  #add(at: number, member: ZipMember): void {
    const index = this.#places.length;
    this.#places.push(at);
    this.#byMember.set(this.placeOf(member), index);
  }

  placeOf({ disk, at }: ZipMember): number {
    return (this.bases[Math.min(disk, this.bases.length - 1)] ?? 0) + at;
  }

  get count(): number {
    return this.#places.length;
  }

  /** @returns null: a drive that fails gives it no more */
  entry(index: number): CentralEntry | null {
    const entryAt = this.#places[index] as number;
    try {
      const found = centralMember(this.#reader, entryAt);
      return found && { ...found.member, entryAt };
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      return null;
    }
  }

  /** The entry that says that a member of a name begins at a place, if it is left. */
  at(place: number, raw: Uint8Array, isLeft: (index: number) => boolean): Listed | null {
    const index = this.#byMember.get(place);
    return index !== undefined && isLeft(index) ? this.#named(index, raw) : null;
  }

  /** Entries with a name, and with a checksum unless that is 0, that are left, as far as many are weighed. */
  *alike(raw: Uint8Array, crc: number, isLeft: (index: number) => boolean): Generator<Listed, void, void> {
    for (const index of this.#chainsFor(crc).of(crc === 0 ? nameKey(raw) : contentKey(raw, crc), isLeft)) {
      const found = this.#named(index, raw);
      if (found && (crc === 0 || found.entry.crc === crc)) yield found;
    }
  }

  #chainsFor(crc: number): Chains {
    if (crc === 0) {
      this.#byName ??= this.#chained((entry) => nameKey(entry.raw));
      return this.#byName;
    }
    this.#byContent ??= this.#chained((entry) => contentKey(entry.raw, entry.crc));
    return this.#byContent;
  }

  #chained(keyOf: (entry: CentralEntry) => number): Chains {
    const chains = new Chains();
    for (let index = 0; index < this.count; index += 1) {
      const entry = this.entry(index);
      if (entry) chains.add(keyOf(entry), index);
    }
    return chains;
  }

  #named(index: number, raw: Uint8Array): Listed | null {
    const entry = this.entry(index);
    return entry && Buffer.compare(entry.raw, raw) === 0 ? { index, entry } : null;
  }
}

interface Listed {
  readonly index: number;
  readonly entry: CentralEntry;
}

const nameKey = (raw: Uint8Array): number => crc32(raw);
/** A number of a name and a checksum together, exact. */
const contentKey = (raw: Uint8Array, crc: number): number => crc32(raw) * 2 ** 21 + (crc >>> 11);

/** Which entries of lists of contents belong to which headers, and by how much places in the archive differ from those in the lists. */
export class ListedPlaces {
  /** Stretches of headers whose places differ by the same. */
  readonly #shifts: { start: number; end: number; shift: number }[] = [];
  readonly #taken: Uint8Array;

  constructor(private readonly lists: ZipLists) {
    this.#taken = new Uint8Array(lists.count);
  }

  placeOf(member: ZipMember): number {
    return this.lists.placeOf(member);
  }

  /** The entry of a header: of the same name and in the same place, or with the same checksum, the nearest. */
  take(local: Local): ZipMember | null {
    const shift = this.shiftNear(local.at);
    const isLeft = (index: number) => this.#taken[index] === 0;
    let best = this.lists.at(local.at - shift, local.raw, isLeft);
    if (!best) {
      let nearest = Number.POSITIVE_INFINITY;
      for (const each of this.lists.alike(local.raw, local.crc, isLeft)) {
        const off = Math.abs(this.placeOf(each.entry) + shift - local.at);
        if (off < nearest) [best, nearest] = [each, off];
      }
    }
    if (!best) return null;
    this.#taken[best.index] = 1;
    this.#note(local.at, local.at - this.placeOf(best.entry));
    return best.entry;
  }

  #note(at: number, shift: number): void {
    const last = this.#shifts.at(-1);
    if (last?.shift === shift) last.end = at;
    else if (this.#shifts.length < MOST_SHIFTS) this.#shifts.push({ start: at, end: at, shift });
  }

  shiftNear(at: number): number {
    // Headers are taken in their order: the last shift is the nearest before.
    const last = this.#shifts.at(-1);
    if (!last || last.end <= at) return last?.shift ?? 0;
    const offOf = ({ start, end }: { start: number; end: number }) => Math.max(0, start - at, at - end);
    return this.#shifts.reduce((best, each) => (offOf(each) < offOf(best) ? each : best)).shift;
  }

  get shifts(): number[] {
    return [...new Set(this.#shifts.map(({ shift }) => shift))];
  }

  /** Entries that no header took, from one on. */
  *left(from: number): Generator<{ index: number; entry: CentralEntry }, void, void> {
    for (let index = from; index < this.#taken.length; index += 1) {
      const entry = this.#taken[index] === 0 ? this.lists.entry(index) : null;
      if (entry) yield { index, entry };
    }
  }
}
