import type { BlockReader } from "../bytes/block-reader";
import { canBeginBlock } from "../bytes/inflate";
import { PastEnd } from "../bytes/past-end";
import { type Range, RangeSet, without } from "../bytes/range-set";
import { CENTRAL, END, LOCAL, METHOD } from "../formats/zip/layout";
import { centralMember, descriptorEnd, findDescriptor, localMember, MOST_MEMBERS, type ZipMember } from "../formats/zip/members";
import { decodeMember, isRead } from "./zip-codings";
import { HeldArchive } from "./zip-held";

/** A member with all that is known of it, and how its content stands. */
export interface SalvagedMember {
  /** null: neither its header nor its entry in the list of contents is there. */
  readonly member: ZipMember | null;
  /** Where its packed bytes begin; null: they are lost. */
  readonly dataAt: number | null;
  /** Packed bytes that are its own, and the plain ones they give. */
  readonly packed: number;
  readonly plain: number;
  /** Its checksum was compared and agrees; it does not agree; nothing was there to compare with; it was not looked at. */
  readonly checksum: "agrees" | "differs" | "none" | "unlooked";
  /** Plain bytes from its beginning that its packed bytes give. */
  readonly present: number;
  /** By what it was found. */
  readonly by: "header" | "list" | "data" | "bytes";
}

type Local = ZipMember & { dataAt: number; sized: boolean };

interface Scanned {
  readonly locals: readonly Local[];
  readonly centrals: readonly (ZipMember & { readonly entryAt: number })[];
  /** Stretches of lists of contents and end records. */
  readonly lists: RangeSet;
  /** Places of end records. */
  readonly ends: readonly number[];
}

/** Versions of the format needed to read a member (APPNOTE, 4.4.3.2), the highest. */
const HIGHEST_VERSION = 63;
const LONGEST_NAME = 4096;

/** Names have no control characters, and there is one. */
const isName = (raw: Uint8Array): boolean => raw.length > 0 && raw.length <= LONGEST_NAME && raw.every((byte) => byte >= 0x20);

/** Looks for headers of members and entries of lists of contents at every byte. */
function scan(reader: BlockReader, part: Range): Scanned {
  const locals: Local[] = [];
  const centrals: (ZipMember & { entryAt: number })[] = [];
  const lists = new RangeSet();
  const ends: number[] = [];
  for (let at = reader.find("PK", part.start, part.end); at >= 0; at = reader.find("PK", at + 1, part.end)) {
    if (locals.length + centrals.length + ends.length >= MOST_MEMBERS) break;
    try {
      if (reader.has(at, LOCAL.mark)) {
        const local = (reader.u16(at + 4) & 0xff) <= HIGHEST_VERSION ? localMember(reader, at) : null;
        if (local && isName(local.raw)) locals.push(local);
      } else if (reader.has(at, CENTRAL.mark)) {
        const entry = centralMember(reader, at);
        if (!entry || !isName(entry.member.raw)) continue;
        centrals.push({ ...entry.member, entryAt: at });
        lists.add(at, entry.next);
      } else if (reader.has(at, END.mark) && at + END.size <= reader.size) {
        lists.add(at, at + END.size);
        ends.push(at);
      }
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
    }
  }
  return { locals, centrals, lists, ends };
}

const keyOf = ({ raw }: ZipMember) => Buffer.from(raw).toString("latin1");

/** Bytes behind a member's data that its descriptor may take (4.3.9): none, with or without its mark, sizes of 32 or 64 bits. */
const DESCRIPTOR_SIZES = [0, 16, 12, 24, 20];
/** Plain bytes that all tries together may cost, as a multiple of the archive's size, and at least. */
const TRIES = { times: 8, least: 1 << 24 } as const;
/** Bytes of a stretch without headers in which packed data may begin at any. */
const MOST_OF_A_GAP = 1 << 20;
/** Fewer plain bytes than this prove nothing. */
const FEWEST_PLAIN = 16;

/**
 * Finds every member of an archive, or of a part of it, whatever is damaged: by headers, by entries of lists of contents, and where both are
 * gone by packed data that end where the next thing begins.
 * @param bases where each part of a split archive begins
 */
export function* salvageZip(reader: BlockReader, part: Range, bases: readonly number[]): Generator<SalvagedMember, void, void> {
  const { locals, centrals, lists, ends } = scan(reader, part);
  /** What is another's, and what a member with a wrong checksum takes for its own besides. */
  const used = RangeSet.from(lists.ranges);
  const claimed = RangeSet.from(lists.ranges);
  const places = new Places(centrals, bases);
  let covered = part.start;
  let held: HeldArchive | null = null;
  for (const local of locals) {
    // What stands in the data of another member is that one's content.
    if (local.at < covered) continue;
    const soundEnd = () => {
      const { checksum, packed } = ofLocal(reader, local, null);
      return checksum === "agrees" ? local.dataAt + packed : null;
    };
    if (held?.owns(local.at, soundEnd)) continue;
    const entry = places.take(local);
    const found = ofLocal(reader, local, entry);
    const end = (found.dataAt ?? local.dataAt) + Math.max(0, found.packed);
    claimed.add(local.at, end);
    used.add(local.at, found.checksum === "differs" ? local.dataAt : end);
    if (found.checksum === "agrees") covered = local.dataAt + found.packed;
    else if (holdsArchive(reader, local, found)) held = new HeldArchive(reader, local.dataAt, local.dataAt + found.packed, ends);
    yield found;
  }
  /** Where the data of members begin whose header is damaged: what stands before them is that header. */
  const byList = new Set<number>();
  let left = Math.max(TRIES.least, TRIES.times * (part.end - part.start));
  const isWhole = part.start === 0 && part.end >= reader.size;
  for (const entry of places.left()) {
    if (covered > entry.entryAt) continue;
    const tried = left > 0 ? searchData(reader, entry, places, { used, claimed }, part) : null;
    left -= tried?.cost ?? 0;
    if (tried?.found) {
      const { dataAt = 0, packed } = tried.found as { dataAt: number; packed: number };
      used.add(dataAt, dataAt + packed);
      claimed.add(dataAt, dataAt + packed);
      byList.add(dataAt);
      yield tried.found;
    } else if (entry.plain === 0 || isWhole || (entry.at + places.shiftNear(entry.at) >= part.start && entry.at < part.end))
      yield {
        member: entry,
        dataAt: null,
        packed: 0,
        plain: entry.plain,
        checksum: entry.plain === 0 ? "agrees" : "none",
        present: 0,
        by: "list",
      };
  }
  for (const gap of without(part, claimed.ranges)) {
    if (left <= 0) break;
    const { found, cost } = namelessIn(reader, gap);
    left -= cost;
    yield* found;
    const isOfList = lists.overlap(gap.start - 1, gap.start) > 0 || lists.overlap(gap.end, gap.end + 1) > 0;
    if (found.length === 0 && gap.start > part.start && !isOfList && !byList.has(gap.end)) yield* remainsIn(reader, gap);
  }
}

/** Which entries of lists of contents belong to which headers, and by how much places in the archive differ from those in the lists. */
class Places {
  readonly #byKey = new Map<string, (ZipMember & { entryAt: number })[]>();
  readonly #shifts: { at: number; shift: number }[] = [];
  readonly #taken = new Set<ZipMember>();

  constructor(
    private readonly centrals: readonly (ZipMember & { readonly entryAt: number })[],
    private readonly bases: readonly number[],
  ) {
    for (const central of centrals) {
      const key = keyOf(central);
      const same = this.#byKey.get(key);
      if (same) same.push(central);
      else this.#byKey.set(key, [central]);
    }
  }

  placeOf({ disk, at }: ZipMember): number {
    return (this.bases[Math.min(disk, this.bases.length - 1)] ?? 0) + at;
  }

  /** The entry of a header: of the same name and in the same place, or with the same checksum, the nearest. */
  take(local: Local): ZipMember | null {
    const shift = this.shiftNear(local.at);
    const off = (each: ZipMember) => Math.abs(this.placeOf(each) + shift - local.at);
    const same = (this.#byKey.get(keyOf(local)) ?? []).filter(
      (each) => !this.#taken.has(each) && (local.crc === 0 || local.crc === each.crc || off(each) === 0),
    );
    const best = same.reduce<ZipMember | null>((a, b) => (a === null || off(b) < off(a) ? b : a), null);
    if (!best) return null;
    this.#taken.add(best);
    this.#shifts.push({ at: local.at, shift: local.at - this.placeOf(best) });
    return best;
  }

  shiftNear(at: number): number {
    // Headers are taken in their order: the last shift is the nearest before.
    const last = this.#shifts.at(-1);
    if (last && last.at <= at) return last.shift;
    return (
      this.#shifts.reduce<{ at: number; shift: number } | null>(
        (best, each) => (best === null || Math.abs(each.at - at) < Math.abs(best.at - at) ? each : best),
        null,
      )?.shift ?? 0
    );
  }

  get shifts(): number[] {
    return [...new Set(this.#shifts.map(({ shift }) => shift))];
  }

  left(): (ZipMember & { readonly entryAt: number })[] {
    return this.centrals.filter((each) => !this.#taken.has(each));
  }
}

/** How a member stands whose header is there: by what that says, or by its entry in a list of contents, where one of them is damaged. */
function ofLocal(reader: BlockReader, local: Local, entry: ZipMember | null): SalvagedMember {
  const found = judgedBy(reader, local, entry);
  if (!entry || found.checksum === "agrees" || found.member?.encrypted) return found;
  const others = [
    ...(local.sized ? [judgedBy(reader, local, null)] : []),
    ...(entry.method === local.method ? [] : [judgedBy(reader, { ...local, method: entry.method }, entry)]),
  ];
  return others.find(({ checksum }) => checksum === "agrees") ?? found;
}

function judgedBy(reader: BlockReader, local: Local, entry: ZipMember | null): SalvagedMember {
  const { dataAt, method } = local;
  const stated = entry ?? (local.sized ? local : null);
  const member: ZipMember = {
    ...local,
    ...(entry ? { crc: entry.crc, packed: entry.packed, plain: entry.plain, utc: entry.utc ?? local.utc, marks: entry.marks } : {}),
  };
  const shared = { member, dataAt, by: "header" as const };
  const known = stated ? { packed: stated.packed, plain: stated.plain } : { packed: 0, plain: 0 };
  if (member.encrypted || !isRead(method)) {
    const found = stated ? null : findDescriptor(reader, dataAt);
    return { ...shared, ...(found ?? known), checksum: "none", present: 0 };
  }
  if (method === METHOD.stored) {
    const sizes = stated ? stated : findDescriptor(reader, dataAt);
    // Without a size the data end nowhere: nothing is claimed of them.
    if (!sizes) return { ...shared, packed: 0, plain: 0, checksum: "none", present: 0 };
    const decoded = decodeMember(reader, method, dataAt, dataAt + sizes.packed, sizes.packed);
    const agrees = decoded.end !== null && decoded.crc === sizes.crc;
    return {
      ...shared,
      member: { ...member, crc: sizes.crc },
      packed: sizes.packed,
      plain: sizes.packed,
      checksum: agrees ? "agrees" : "differs",
      present: decoded.present,
    };
  }
  // Compressed data say themselves where they end: a damaged size in the header does not matter.
  const decoded = decodeMember(reader, method, dataAt, reader.size, stated?.plain ?? -1);
  const packed = (decoded.end ?? dataAt) - dataAt;
  if (decoded.end !== null) {
    const agrees = stated
      ? [entry, local].some((each) => each !== null && each.crc === decoded.crc && each.plain === decoded.present)
      : descriptorEnd(reader, { verdict: { verdict: "sound" }, end: decoded.end, packed, plain: decoded.present, crc: decoded.crc }) >= 0;
    if (agrees) return { ...shared, packed, plain: decoded.present, checksum: "agrees", present: decoded.present };
    if (!stated) return { ...shared, packed, plain: decoded.present, checksum: "none", present: decoded.present };
  }
  const plain = Math.max(stated?.plain ?? 0, decoded.present);
  return { ...shared, packed: Math.max(known.packed, packed), plain, checksum: "differs", present: Math.min(plain, decoded.present) };
}

/** Whether a member that is not whole is an archive kept as it is: headers in it are its own. */
const holdsArchive = (reader: BlockReader, { dataAt, method }: Local, { packed }: SalvagedMember): boolean =>
  method === METHOD.stored && packed > 0 && dataAt + 4 <= reader.size && reader.has(dataAt, LOCAL.mark);

/** Looks for the data of a member whose header is gone: where the list says, where such a header would end, and before what comes next. */
function searchData(
  reader: BlockReader,
  entry: ZipMember & { readonly entryAt: number },
  places: Places,
  { used, claimed }: { readonly used: RangeSet; readonly claimed: RangeSet },
  part: Range,
): { found: SalvagedMember | null; cost: number } {
  let cost = 0;
  if (entry.encrypted || !isRead(entry.method) || entry.plain === 0 || entry.name.endsWith("/")) return { found: null, cost };
  const fits = (from: number) => {
    if (from < part.start || from + entry.packed > reader.size || used.overlap(from, from + entry.packed) > 0) return null;
    const decoded = decodeMember(
      reader,
      entry.method,
      from,
      entry.method === METHOD.stored ? from + entry.packed : reader.size,
      entry.plain,
    );
    cost += decoded.present + 1024;
    return decoded.end !== null && decoded.crc === entry.crc && decoded.present === entry.plain
      ? ({
          member: entry,
          dataAt: from,
          packed: entry.packed,
          plain: entry.plain,
          checksum: "agrees",
          present: entry.plain,
          by: "list",
        } as const)
      : null;
  };
  const near = places.placeOf(entry) + places.shiftNear(entry.at) + LOCAL.size + entry.raw.length;
  const within = { start: part.start, end: Math.min(part.end, reader.size) };
  const gaps = [used, claimed].flatMap(({ ranges }) => without(within, ranges)).filter(({ start, end }) => end - start >= entry.packed);
  const ends = [...new Set(gaps.map(({ end }) => end))];
  const byEnd = ends.flatMap((end) => DESCRIPTOR_SIZES.map((size) => end - size - entry.packed));
  for (const from of [...byEnd].sort((a, b) => Math.abs(a - near) - Math.abs(b - near)).slice(0, 64)) {
    const found = fits(from);
    if (found) return { found, cost };
  }
  // The extra fields of a header are seldom longer than these.
  for (const shift of [places.shiftNear(entry.at), ...places.shifts].slice(0, 8)) {
    const first = places.placeOf(entry) + shift + LOCAL.size + entry.raw.length;
    for (let extra = 0; extra <= 64; extra += 1) {
      const found = fits(first + extra);
      if (found) return { found, cost };
    }
  }
  return { found: null, cost };
}

/** Deflated data in a stretch without any header, as long as they end just before it does, or before a descriptor that agrees. */
function namelessIn(reader: BlockReader, gap: Range): { found: SalvagedMember[]; cost: number } {
  const found: SalvagedMember[] = [];
  let cost = 0;
  const end = Math.min(gap.end, gap.start + MOST_OF_A_GAP);
  for (let at = gap.start; at < end; at += 1) {
    const head = reader.bytes(at, Math.min(80, reader.size - at));
    if (!mayBeginDeflate(head)) continue;
    const decoded = decodeMember(reader, METHOD.deflated, at, gap.end, -1);
    cost += decoded.present + 64;
    if (decoded.end === null || decoded.present < FEWEST_PLAIN) continue;
    const packed = decoded.end - at;
    const described =
      descriptorEnd(reader, { verdict: { verdict: "sound" }, end: decoded.end, packed, plain: decoded.present, crc: decoded.crc }) >= 0;
    if (!described && decoded.end !== gap.end && !reader.has(decoded.end, LOCAL.mark) && !reader.has(decoded.end, CENTRAL.mark)) continue;
    found.push({
      member: null,
      dataAt: at,
      packed,
      plain: decoded.present,
      checksum: described ? "agrees" : "none",
      present: decoded.present,
      by: "data",
    });
    at = decoded.end - 1;
  }
  return { found, cost };
}

/** What stands in a stretch without any header and is no packed data: it may be a member kept as it is, with more before it. */
function* remainsIn(reader: BlockReader, { start, end }: Range): Generator<SalvagedMember, void, void> {
  let first = start;
  for (const { at, bytes } of reader.blocks(start, end)) {
    const inside = bytes.findIndex((byte) => byte !== 0);
    first = inside < 0 ? at + bytes.length : at + inside;
    if (inside >= 0) break;
  }
  const length = end - first;
  if (length < FEWEST_PLAIN + LOCAL.size) return;
  yield { member: null, dataAt: first, packed: length, plain: length, checksum: "none", present: length, by: "bytes" };
}

/** Whether a block with codes of its own may begin with these bytes: nearly all packed data of some length begin with one. */
const mayBeginDeflate = (bytes: Uint8Array): boolean => bytes.length > 20 && canBeginBlock(bytes, 0);
