import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import { RangeSet } from "../bytes/range-set";
import { CENTRAL, DESCRIPTOR, LOCAL, METHOD } from "../formats/zip/layout";
import {
  descriptorBefore,
  findDescriptor,
  findList,
  listedMembers,
  localMember,
  MOST_MEMBERS,
  type ZipMember,
} from "../formats/zip/members";
import { decodeMember, isRead, packedThere } from "./zip-codings";
import type { Local, SalvagedMember } from "./zip-judge";

/** The members of an archive as a light reading gives them. */
export interface ZipListing {
  /** How many there are; null: the list of contents is gone, or leads to few of them, and headers lead from one to the next. */
  readonly count: number | null;
  /** Members of the list that are not found. */
  readonly missing: number;
  members(): Iterable<SalvagedMember>;
}

const LIST_IS_GONE =
  "The list of contents of this archive is gone, or leads to few of its files: they are found by what stands before each of them.";

export const UNSIZED = "How long it is stands behind its content, and is damaged there or gone.";

/** Says what is wrong with how the members of an archive are led to. */
export function describeListing({ count, missing }: ZipListing): string[] {
  if (count === null) return [LIST_IS_GONE];
  if (missing === 0) return [];
  const of = missing === 1 ? "One of its files does" : `${missing} of its files do`;
  return [`${of} not stand where the list of contents says, nor where other headers stand: a thorough reading looks for more.`];
}

/** Says why the content of a member cannot be read; null: it can. */
export function describeUnread({ encrypted, method }: Pick<ZipMember, "encrypted" | "method">): string | null {
  if (encrypted) return "It is protected by a password in the archive: name, size and date can be read, its content cannot.";
  return isRead(method) ? null : "It is compressed in a way that is not followed here.";
}

/**
 * Finds how the members of an archive are led to, by its list of contents or by headers. All of a list is gone through once; nothing of it is kept unless
 * it leads to a part of its members only.
 * @param bases where each part of a split archive begins
 */
export function findListing(disk: ByteSource, reader: BlockReader, bases: readonly number[]): ZipListing {
  try {
    const last = bases.at(-1) as number;
    // In a split archive the place of the list counts from the part it is in.
    const readers = [new BlockReader(disk), ...(last > 0 ? [new BlockReader(tailOf(disk, last))] : [])];
    for (const listReader of readers) {
      const list = findList(listReader);
      if ("verdict" in list) continue;
      // A program in front of the archive, or a beginning that is cut off, moves everything.
      const leads = new List(disk, reader, bases, listReader, list.at, bases.length === 1 ? list.moved : 0);
      return leads.listing(list.count) ?? byHeadersAlone(reader);
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return byHeadersAlone(reader);
}

const byHeadersAlone = (reader: BlockReader): ZipListing => ({ count: null, missing: 0, members: () => byHeaders(reader) });

class List {
  /** @param shift bytes by which everything stands elsewhere than the list says */
  constructor(
    private readonly disk: ByteSource,
    private readonly reader: BlockReader,
    private readonly bases: readonly number[],
    private readonly listReader: BlockReader,
    private readonly at: number,
    private readonly shift: number,
  ) {}

  /** One that leads to most of its members is completed by headers. @returns null: it leads to few, or is that of an archive which is a member */
  listing(count: number): ZipListing | null {
    let [led, there] = [0, 0];
    let lowest = Number.POSITIVE_INFINITY;
    for (const { member } of listedMembers(this.listReader, this.at)) {
      const at = this.#headerAt(member);
      if (at !== null) led += 1;
      lowest = Math.min(lowest, at ?? lowest);
      // That nothing can be read at a place says nothing against the list.
      if (at !== null || this.disk.unreadable(this.#placeOf(member), LOCAL.size).length > 0) there += 1;
    }
    const before = this.shift !== 0 && lowest >= this.shift ? this.#headersBefore(lowest) : "none";
    if (before === "around") return null;
    if (led === count && before === "none") return { count, missing: 0, members: () => this.#members() };
    if (there * 2 <= count) return null;
    const places = [...listedMembers(this.listReader, this.at)].map(({ member }) => this.#placeOf(member));
    const members = withHeaders([...this.#members()], places, byHeaders(this.reader));
    return { count: members.length, missing: members.filter(({ dataAt }) => dataAt === null).length, members: () => members };
  }

  *#members(): Generator<SalvagedMember, void, void> {
    for (const { member } of listedMembers(this.listReader, this.at)) yield this.#toMember(member);
  }

  /** Whether there are members before a place: of another archive that ends there, or one around it, which the list then is not of. */
  #headersBefore(place: number): "none" | "apart" | "around" {
    let found: "none" | "apart" = "none";
    for (const { member, dataAt, packed } of byHeaders(this.reader, place)) {
      const isKept = member?.method === METHOD.stored && dataAt !== null;
      if (isKept && dataAt <= place && dataAt + packed > place) return "around";
      found = "apart";
    }
    return found;
  }

  #placeOf({ disk, at }: ZipMember): number {
    return (this.bases[Math.min(disk, this.bases.length - 1)] as number) + at + this.shift;
  }

  /** Where the header of a member stands. Bytes that slipped in move only what comes behind them. */
  #headerAt(member: ZipMember): number | null {
    const { reader } = this;
    const place = this.#placeOf(member);
    return [place, place - this.shift].find((each) => each + LOCAL.size <= reader.size && reader.has(each, LOCAL.mark)) ?? null;
  }

  #toMember(member: ZipMember): SalvagedMember {
    const { reader } = this;
    const at = this.#headerAt(member);
    const dataAt = at === null ? null : at + LOCAL.size + reader.u16(at + LOCAL.nameLength) + reader.u16(at + LOCAL.extraLength);
    const there = dataAt === null ? { packed: member.packed, present: 0 } : this.#thereOf(member, dataAt);
    return { member, dataAt, plain: member.plain, checksum: dataAt === null ? "none" : "unlooked", by: "list", ...there };
  }

  /** What there is of a member, as far as that is known without looking: of one that reaches into what cannot be read, what stands before that. */
  #thereOf({ method, packed, plain, encrypted }: ZipMember, dataAt: number): { packed: number; present: number } {
    const isAsItIs = method === METHOD.stored || encrypted || !isRead(method);
    const there = isAsItIs ? packed : packedThere(this.disk, dataAt, packed);
    if (there === packed) return { packed, present: plain };
    return { packed: there, present: Math.min(plain, decodeMember(this.reader, method, dataAt, dataAt + there, plain).present) };
  }
}

/**
 * Completes a list of contents that does not lead to all it names by headers that stand elsewhere: they say where those files are, or are of files
 * that the list does not name. What stands within a file that the list does name is that one's content.
 * @param places where each of the listed is said to begin
 */
function withHeaders(listed: readonly SalvagedMember[], places: readonly number[], headers: Iterable<SalvagedMember>): SalvagedMember[] {
  const starts = new Set(listed.map(({ dataAt }) => dataAt));
  const rangesOf = (which: (member: SalvagedMember) => boolean) =>
    RangeSet.from(
      listed
        .map((each, index) => ({ each, start: each.dataAt ?? (places[index] as number) }))
        .filter(({ each }) => which(each))
        .map(({ each, start }) => ({ start, end: start + (each.member?.packed ?? each.packed) }))
        .sort((x, y) => x.start - y.start),
    );
  const [held, named] = [rangesOf(({ dataAt }) => dataAt !== null), rangesOf(() => true)];
  const isIn = (ranges: RangeSet, { dataAt }: SalvagedMember) => dataAt !== null && ranges.overlap(dataAt, dataAt + 1) > 0;
  const lost = new Map<string, SalvagedMember[]>();
  for (const each of listed) if (each.dataAt === null) lost.set(nameOf(each), [...(lost.get(nameOf(each)) ?? []), each]);
  const found = new Map<SalvagedMember, SalvagedMember>();
  const others: SalvagedMember[] = [];
  for (const header of headers) {
    // What stands within a file that was found is no lost one, whatever it is called.
    if (starts.has(header.dataAt) || isIn(held, header)) continue;
    const [same] = lost.get(nameOf(header)) ?? [];
    if (same?.member && header.member && (header.member.crc === 0 || header.member.crc === same.member.crc)) {
      found.set(same, { ...same, dataAt: header.dataAt, checksum: "unlooked", present: same.plain });
      lost.get(nameOf(header))?.shift();
    } else if (!isIn(named, header)) others.push(header);
  }
  return [...listed.map((each) => found.get(each) ?? each), ...others];
}

const nameOf = ({ member }: SalvagedMember) => Buffer.from(member?.raw ?? []).toString("latin1");

const tailOf = (source: ByteSource, from: number): ByteSource => ({
  size: source.size - from,
  read: (at, into) => source.read(from + at, into),
  unreadable: () => [],
});

/** Bytes that are searched for what stands behind members that are archives. */
const MOST_SEARCHED = 1 << 30;

/** Members from header to header, up to the last that begins before a place; one whose size comes after its data reaches to the next header. */
function* byHeaders(reader: BlockReader, end = reader.size): Generator<SalvagedMember, void, void> {
  let count = 0;
  let left = MOST_SEARCHED;
  for (let at = reader.find(LOCAL.mark, 0, end); at >= 0 && at < end && count < MOST_MEMBERS; count += 1) {
    let next = -1;
    try {
      let local = localMember(reader, at);
      if (local && !local.sized && isArchive(reader, local) && left > 0) {
        // Its own members are none of this archive's.
        const sizes = findDescriptor(reader, local.dataAt);
        left -= (sizes?.end ?? reader.size) - local.dataAt;
        if (sizes) local = { ...local, packed: sizes.packed, plain: sizes.plain, crc: sizes.crc, sized: true };
      }
      if (local) {
        next = nextHeader(reader, local);
        yield byHeader(reader, local, next);
      } else next = reader.find(LOCAL.mark, at + 1);
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      return;
    }
    at = next;
  }
}

/**
 * Where the next header stands; -1: none does. Where nothing of the archive stands behind a member of a known size, that is damaged, and headers are looked
 * for from its first byte on. Of one that is kept as it is both sizes say the same: where it reaches over the end, that is where the archive breaks off.
 */
function nextHeader(reader: BlockReader, { dataAt, packed, plain, sized, method }: Local): number {
  const end = dataAt + packed;
  const isLed = sized && (end === reader.size || (end < reader.size && BEHIND.some((mark) => reader.has(end, mark))));
  if (isLed) return reader.find(LOCAL.mark, end);
  return sized && end > reader.size && method === METHOD.stored && packed === plain ? -1 : reader.find(LOCAL.mark, dataAt);
}
const BEHIND = [LOCAL.mark, CENTRAL.mark, DESCRIPTOR.mark];

/** Whether a member is itself an archive of this kind, kept as it is. */
const isArchive = (reader: BlockReader, { method, dataAt }: Local): boolean =>
  method === METHOD.stored && dataAt < reader.size && reader.has(dataAt, LOCAL.mark);

/** @param next where the next header stands; -1: none does */
function byHeader(reader: BlockReader, local: Local, next: number): SalvagedMember {
  const shared = { member: local, dataAt: local.dataAt, checksum: "unlooked", by: "header" } as const;
  if (local.sized) return { ...shared, packed: local.packed, plain: local.plain, present: local.plain };
  const list = next < 0 ? reader.find(CENTRAL.mark, local.dataAt) : -1;
  const end = next >= 0 ? next : list >= 0 ? list : reader.size;
  const sizes = descriptorBefore(reader, local.dataAt, end);
  if (!sizes) return { ...shared, packed: end - local.dataAt, plain: 0, present: 0, unsized: true };
  return { ...shared, member: { ...local, ...sizes }, packed: sizes.packed, plain: sizes.plain, present: sizes.plain };
}
