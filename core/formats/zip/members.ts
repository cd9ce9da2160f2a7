import { crc32 } from "node:zlib";
import type { BlockReader } from "../../bytes/block-reader";
import { marksOfAttributes, marksOfMode } from "../../bytes/file-marks";
import { InflateError, inflate, TooMuch } from "../../bytes/inflate";
import { dosTimeToMs, filetimeToMs } from "../../bytes/times";
import { cannotTell, damaged, SOUND, type Verdict } from "../format";
import { CENTRAL, DESCRIPTOR, END, END64, EXTRA_TIMES, EXTRA64, FLAG, LOCAL, LOCATOR64, METHOD } from "./layout";

/** One file in an archive, as its header or the list of contents gives it. Sizes in bytes. */
export interface ZipMember {
  readonly name: string;
  /** The name's bytes, and whether they are said to be UTF-8. */
  readonly raw: Uint8Array;
  readonly utf8: boolean;
  readonly method: number;
  readonly encrypted: boolean;
  readonly crc: number;
  readonly packed: number;
  readonly plain: number;
  /** Offset of the local header, and of the packed bytes where it was read. */
  readonly at: number;
  readonly dataAt?: number;
  /** The file in which it begins, of an archive that is split over several; from 0. */
  readonly disk: number;
  /** When it was written to last, as an extra field says: UTC milliseconds; null: none does. */
  readonly utc: number | null;
  /** The same as a local time, as if it were UTC. */
  readonly local: number | null;
  /** Which of `FILE_MARK` it has, added up; only the list of contents keeps them. */
  readonly marks: number;
}

/** Systems an archive was made on (4.4.2.2): those whose attributes are FAT's (FAT, NTFS, VFAT), and those with Unix modes (Unix, OS X). */
const WITH_ATTRIBUTES: ReadonlySet<number> = new Set([0, 10, 14]);
const WITH_MODES: ReadonlySet<number> = new Set([3, 19]);

/** The marks in an entry's external attributes: FAT's in the lowest byte (4.4.15); a Unix mode in the highest 16 bits (common practice). */
function marksIn(madeBy: number, attributes: number): number {
  const system = madeBy >>> 8;
  if (WITH_ATTRIBUTES.has(system)) return marksOfAttributes(attributes & 0xff);
  return WITH_MODES.has(system) ? marksOfMode(attributes >>> 16) : 0;
}

export const MOST_MEMBERS = 4_000_000;

const decoder = new TextDecoder();

interface Sizes {
  readonly packed: number;
  readonly plain: number;
  readonly at: number;
}

/** The 64-bit values of the extra fields in the order of the fields that are full (4.5.3). */
function wide(reader: BlockReader, from: number, length: number, { packed, plain, at }: Sizes): Sizes {
  const full = 0xffff_ffff;
  if (packed !== full && plain !== full && at !== full) return { packed, plain, at };
  for (let field = from; field + 4 <= from + length; field += 4 + reader.u16(field + 2)) {
    if (reader.u16(field) !== EXTRA64) continue;
    let next = field + 4;
    const take = (value: number) => {
      if (value !== full || next + 8 > field + 4 + reader.u16(field + 2)) return value;
      next += 8;
      return reader.u64(next - 8);
    };
    const plainWide = take(plain);
    const packedWide = take(packed);
    return { plain: plainWide, packed: packedWide, at: take(at) };
  }
  return { packed, plain, at };
}

/** When a member was written to last, by its extra fields; null: none says so. */
function utcOf(reader: BlockReader, from: number, length: number): number | null {
  for (let field = from; field + 4 <= from + length; field += 4 + reader.u16(field + 2)) {
    const id = reader.u16(field);
    const size = reader.u16(field + 2);
    if (field + 4 + size > from + length) return null;
    if (id === EXTRA_TIMES.unix && size >= 5 && (reader.u8(field + 4) & 1) === 1) return (reader.u32(field + 5) | 0) * 1000;
    // Four reserved bytes, then tags: 1 has the times, the first of them that of the last writing.
    if (id === EXTRA_TIMES.ntfs && size >= 32 && reader.u16(field + 8) === 1)
      return filetimeToMs(reader.u32(field + 12), reader.u32(field + 16));
  }
  return null;
}

/** The ways of packing there are (APPNOTE, 4.4.5). */
const METHODS: ReadonlySet<number> = new Set([...Array.from({ length: 21 }, (_, i) => i), 93, 94, 95, 96, 97, 98, 99]);
const MOST_QUOTED = 80;

/** A member's name in a sentence: whatever it is made of. */
export const quoted = (name: string) => {
  const shown = name.slice(0, MOST_QUOTED).replace(/[\p{Cc}\p{Cf}\ufffd]+/gu, "·");
  return `“${shown}${name.length > MOST_QUOTED ? "…" : ""}”`;
};

/** The member whose local header stands at `at`; its sizes are -1 where they come after its data. Null: none stands there. */
export function localMember(reader: BlockReader, at: number): (ZipMember & { dataAt: number; sized: boolean }) | null {
  if (!reader.has(at, LOCAL.mark) || !METHODS.has(reader.u16(at + LOCAL.method))) return null;
  const flags = reader.u16(at + LOCAL.flags);
  const nameLength = reader.u16(at + LOCAL.nameLength);
  const extraLength = reader.u16(at + LOCAL.extraLength);
  const extra = at + LOCAL.size + nameLength;
  const raw = reader.bytes(at + LOCAL.size, nameLength).slice();
  const { packed, plain } = wide(reader, extra, extraLength, {
    packed: reader.u32(at + LOCAL.packed),
    plain: reader.u32(at + LOCAL.plain),
    at: 0,
  });
  return {
    name: decoder.decode(raw),
    raw,
    utf8: (flags & FLAG.utf8) !== 0,
    method: reader.u16(at + LOCAL.method),
    encrypted: (flags & FLAG.encrypted) !== 0,
    crc: reader.u32(at + LOCAL.crc),
    packed,
    plain,
    at,
    disk: 0,
    utc: utcOf(reader, extra, extraLength),
    local: dosTimeToMs(reader.u16(at + LOCAL.date), reader.u16(at + LOCAL.time), 0),
    marks: 0,
    dataAt: extra + extraLength,
    sized: (flags & FLAG.descriptor) === 0 || packed > 0,
  };
}

/** An entry of the list of contents, and where the next one stands; null: none stands there. */
export function centralMember(reader: BlockReader, at: number): { member: ZipMember; next: number } | null {
  if (!reader.has(at, CENTRAL.mark)) return null;
  const nameLength = reader.u16(at + CENTRAL.nameLength);
  const extraLength = reader.u16(at + CENTRAL.extraLength);
  const extra = at + CENTRAL.size + nameLength;
  const sizes = wide(reader, extra, extraLength, {
    packed: reader.u32(at + CENTRAL.packed),
    plain: reader.u32(at + CENTRAL.plain),
    at: reader.u32(at + CENTRAL.offset),
  });
  const raw = reader.bytes(at + CENTRAL.size, nameLength).slice();
  return {
    member: {
      name: decoder.decode(raw),
      raw,
      utf8: (reader.u16(at + CENTRAL.flags) & FLAG.utf8) !== 0,
      method: reader.u16(at + CENTRAL.method),
      encrypted: (reader.u16(at + CENTRAL.flags) & FLAG.encrypted) !== 0,
      disk: reader.u16(at + CENTRAL.disk),
      utc: utcOf(reader, extra, extraLength),
      local: dosTimeToMs(reader.u16(at + CENTRAL.date), reader.u16(at + CENTRAL.time), 0),
      marks: marksIn(reader.u16(at + CENTRAL.madeBy), reader.u32(at + CENTRAL.attributes)),
      crc: reader.u32(at + CENTRAL.crc),
      ...sizes,
    },
    next: extra + extraLength + reader.u16(at + CENTRAL.commentLength),
  };
}

/** A list of contents that can be read to its end, with the end records behind it. */
export interface ZipList {
  readonly at: number;
  /** Entries in it. */
  readonly count: number;
  /** Where the end record says it stands (32 bits). */
  readonly statedAt: number;
  /** How many files the archive is split over; 1: it is not. */
  readonly parts: number;
  /** The byte after the archive's end record and comment. */
  readonly end: number;
}

export interface ZipDirectory extends ZipList {
  readonly members: readonly ZipMember[];
}

/** The members that a list of contents names, up to its end or its first damage. */
export function* listedMembers(reader: BlockReader, at: number): Generator<{ member: ZipMember; next: number }, void, void> {
  let count = 0;
  for (let entry = centralMember(reader, at); entry && count < MOST_MEMBERS; entry = centralMember(reader, entry.next)) {
    count += 1;
    yield entry;
  }
}

/** The list of contents that begins at `at` with the end records behind it, or why it cannot be read. */
export function directoryAt(reader: BlockReader, at: number): ZipDirectory | Verdict {
  const members: ZipMember[] = [];
  const list = readList(reader, at, (member) => members.push(member));
  return "verdict" in list ? list : { ...list, members };
}

function readList(reader: BlockReader, at: number, take: (member: ZipMember) => void): ZipList | Verdict {
  let next = at;
  let found = 0;
  for (const entry of listedMembers(reader, at)) {
    take(entry.member);
    next = entry.next;
    found += 1;
  }
  const listEnd = next;
  let count = -1;
  if (reader.has(next, END64.mark)) {
    count = reader.u64(next + END64.count);
    next += 12 + reader.u64(next + END64.length);
    if (reader.has(next, LOCATOR64.mark)) next += LOCATOR64.size;
  }
  if (!reader.has(next, END.mark)) return damaged(next, "the archive's list of contents is damaged");
  if (count < 0 && reader.u16(next + END.count) !== 0xffff) count = reader.u16(next + END.count);
  if (count >= 0 && count !== found && found < MOST_MEMBERS) return damaged(listEnd, "the archive's list of contents is damaged");
  const [statedAt, size] = [reader.u32(next + END.directoryAt), reader.u32(next + END.directorySize)];
  // A program in front of the archive moves the list, not its size.
  if (size !== 0xffff_ffff && size !== listEnd - at) return damaged(next, "the archive's end is damaged");
  return { at, count: found, statedAt, parts: statedParts(reader, next), end: next + END.size + reader.u16(next + END.commentLength) };
}

/** How many files an archive with this end record is split over: 1, unless it is (4.4.19). */
const statedParts = (reader: BlockReader, end: number) => {
  const disk = reader.u16(end + END.disk);
  return disk === 0xffff ? 1 : disk + 1;
};

/** Where the archive's end record stands, from the end of the source; -1: nowhere. */
function endRecord(reader: BlockReader): number {
  const tailAt = Math.max(0, reader.size - END.size - END.maxComment);
  const tail = reader.size < END.size ? new Uint8Array(0) : reader.bytes(tailAt, reader.size - tailAt).slice();
  for (let i = tail.length - END.size; i >= 0; i -= 1) if (tail[i] === 0x50 && reader.has(tailAt + i, END.mark)) return tailAt + i;
  return -1;
}

/** How many files the archive that the source ends is split over; 1 when it is not, or no archive ends here. */
export function partsAtEnd(reader: BlockReader): number {
  const end = endRecord(reader);
  return end < 0 ? 1 : statedParts(reader, end);
}

/** The list of contents that the end of the source names; for a whole file, whatever stands before its members. */
export function directoryFromEnd(reader: BlockReader): ZipDirectory | Verdict {
  const place = listFromEnd(reader);
  if ("verdict" in place) return place;
  const { at, size, endsAt } = place;
  return at + size > endsAt ? damaged(endsAt, "the archive's list of contents would stand past its end") : directoryAt(reader, at);
}

/**
 * The same without its members, which may be many: `listedMembers` gives them. It stands before the end records also where a program in front of the archive
 * moves everything, or its beginning is cut off: `moved` says by how many bytes.
 */
export function findList(reader: BlockReader): (ZipList & { readonly moved: number }) | Verdict {
  const place = listFromEnd(reader);
  if ("verdict" in place) return place;
  const isThere = (at: number) => at >= 0 && at + place.size <= place.endsAt && reader.has(at, CENTRAL.mark);
  const at = !isThere(place.at) && isThere(place.endsAt - place.size) ? place.endsAt - place.size : place.at;
  const list = readList(reader, at, () => undefined);
  return "verdict" in list ? list : { ...list, moved: at - place.at };
}

/** Where the list of contents begins by the end records, which begin at `endsAt`; or why they do not lead to one. */
function listFromEnd(reader: BlockReader): { at: number; size: number; endsAt: number } | Verdict {
  const end = endRecord(reader);
  if (end < 0) return damaged(reader.size, "the archive's list of contents at its end is missing");
  let [size, at, endsAt] = [reader.u32(end + END.directorySize), reader.u32(end + END.directoryAt), end];
  if (end >= LOCATOR64.size && reader.has(end - LOCATOR64.size, LOCATOR64.mark)) {
    endsAt = reader.u64(end - LOCATOR64.size + LOCATOR64.endAt);
    if (!reader.has(endsAt, END64.mark)) return damaged(end - LOCATOR64.size, "the archive's end is damaged");
    size = reader.u64(endsAt + END64.directorySize);
    at = reader.u64(endsAt + END64.directoryAt);
  }
  return { at, size, endsAt };
}

export interface MemberEnd {
  readonly verdict: Verdict;
  /** The byte after the packed data; where it broke off when they are damaged. */
  readonly end: number;
  readonly packed: number;
  readonly plain: number;
  readonly crc: number;
}

/**
 * Unpacks a member and compares its checksum, when it has one.
 * @param sized whether `packed` is known; else the data end where the packing says
 * @param most plain bytes that are unpacked at most
 */
export function checkMember(
  reader: BlockReader,
  member: ZipMember & { dataAt: number },
  sized: boolean,
  most: number,
  take: (plain: Uint8Array) => void = () => undefined,
): MemberEnd {
  const { dataAt, name } = member;
  const limit = sized ? dataAt + member.packed : reader.size;
  const at = { end: sized ? limit : dataAt, packed: member.packed, plain: member.plain, crc: member.crc };
  if (limit > reader.size) return { ...at, end: reader.size, verdict: damaged(reader.size, `${quoted(name)} breaks off`) };
  if (member.encrypted) return { ...at, verdict: cannotTell("the archive is protected by a password") };
  if (member.method !== METHOD.stored && member.method !== METHOD.deflated)
    return { ...at, verdict: cannotTell("a compression in it is not followed") };
  let crc = 0;
  const add = (plain: Uint8Array) => {
    crc = crc32(plain, crc);
    take(plain);
  };
  let [end, plain] = [limit, member.packed];
  try {
    if (member.method === METHOD.stored) {
      if (member.packed > most) throw new TooMuch();
      for (const { bytes } of reader.blocks(dataAt, limit)) add(bytes);
    } else ({ end, plain } = inflate(reader, dataAt, limit, add, most));
  } catch (error) {
    if (error instanceof TooMuch) return { ...at, verdict: cannotTell("the archive unpacks to more than is checked") };
    if (!(error instanceof InflateError)) throw error;
    return { ...at, end: error.at, verdict: damaged(Math.min(error.at, reader.size), `${quoted(name)} cannot be unpacked`) };
  }
  const found = { end, packed: end - dataAt, plain, crc };
  if (sized && (crc !== member.crc || plain !== member.plain))
    return { ...found, verdict: damaged(dataAt, `${quoted(name)} has the wrong checksum`, end) };
  return { ...found, verdict: SOUND };
}

/** The descriptor behind data whose sizes were not known before (4.3.9): with or without its mark, sizes of 32 or 64 bits. */
export function descriptorEnd(reader: BlockReader, { end, packed, plain, crc }: MemberEnd): number {
  for (const from of [end + (reader.has(end, DESCRIPTOR.mark) ? 4 : 0), end]) {
    if (from + 12 > reader.size || reader.u32(from) !== crc) continue;
    if (reader.u32(from + 4) === packed && reader.u32(from + 8) === plain % 0x1_0000_0000) return from + 12;
    if (from + 20 <= reader.size && reader.u64(from + 4) === packed && reader.u64(from + 12) === plain) return from + 20;
  }
  return -1;
}

/** Where the descriptor of stored or unfollowed data of unknown length stands: before it lie as many bytes as it says. */
export function findDescriptor(reader: BlockReader, dataAt: number): { end: number; packed: number; plain: number; crc: number } | null {
  for (let at = reader.find(DESCRIPTOR.mark, dataAt); at >= 0; at = reader.find(DESCRIPTOR.mark, at + 1)) {
    if (at + 16 > reader.size) return null;
    const packed = reader.u32(at + 8);
    if (packed === at - dataAt) return { end: at + 16, packed, plain: reader.u32(at + 12), crc: reader.u32(at + 4) };
  }
  return null;
}

/** Bytes of a descriptor with its mark and without, with sizes of 32 and of 64 bits (4.3.9). */
const DESCRIPTORS = [16, 12, 24, 20] as const;

/** The sizes in a descriptor that ends at a place, of data that begin at another and reach up to it; null: none stands there. */
export function descriptorBefore(reader: BlockReader, dataAt: number, end: number): { packed: number; plain: number; crc: number } | null {
  for (const length of DESCRIPTORS) {
    const at = end - length;
    const isMarked = length % 8 === 0;
    if (at < dataAt || (isMarked && !reader.has(at, DESCRIPTOR.mark))) continue;
    const from = isMarked ? at + 4 : at;
    const isWide = length >= 20;
    const packed = isWide ? reader.u64(from + 4) : reader.u32(from + 4);
    if (packed === at - dataAt) return { packed, plain: isWide ? reader.u64(from + 12) : reader.u32(from + 8), crc: reader.u32(from) };
  }
  return null;
}
