import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource, WindowSource } from "../bytes/byte-source";
import { MOST_AT_ONCE } from "../bytes/codecs";
import { ConcatSource } from "../bytes/concat-source";
import { LayoutSource } from "../bytes/layout";
import { METHOD } from "../formats/zip/layout";
import { checkMember, descriptorEnd, findDescriptor, type ZipMember } from "../formats/zip/members";
import { type ArchiveEntry, type ArchiveReading, MOST_CHECKED, ownPath } from "./archive";
import { decodeName } from "./member-names";
import { CODING_OF, decodeMember, isRead, packedThere } from "./zip-codings";
import type { SalvagedMember } from "./zip-judge";
import { describeListing, describeUnread, findListing, UNSIZED } from "./zip-listing";

/** A member whose data begin at a known place. */
type Found = ZipMember & { readonly dataAt: number };

/**
 * Reads a ZIP archive: by its list of contents, or where that is gone by the headers before its members. Members are looked at when somebody
 * asks how they stand.
 * @param parts the files it is split over, in their order; one alone where it is not @param most plain bytes that are unpacked for listing and comparing
 */
export function readZipArchive(parts: readonly ByteSource[], most = MOST_CHECKED): ArchiveReading {
  const whole = parts.length === 1 && parts[0] ? parts[0] : new ConcatSource(parts);
  const reader = new BlockReader(whole);
  const bases: number[] = [0];
  for (const part of parts.slice(0, -1)) bases.push((bases.at(-1) as number) + part.size);
  const listing = findListing(whole, reader, bases);
  const notes = describeListing(listing);
  const isAll = notes.length === 0;
  /** Sizes are told by members in all, contents are looked at each by itself, when somebody asks. */
  const budget = { left: most };
  let left = most;
  const entries: ArchiveEntry[] = [];
  for (const listed of listing.members()) {
    const found = listed.unsized ? sizedByItsData(reader, listed, budget) : listed;
    const entry = entryOf(reader, whole, found, left >= 0);
    if (!entry) continue;
    left -= entry.size;
    entries.push(entry);
  }
  const sealed = entries.filter(({ encrypted }) => encrypted).length;
  if (sealed > 0) notes.push(`${sealed} of its files are protected by a password: their names can be read, their content cannot.`);
  return { entries, listings: new Map(), notes, isAll };
}

/**
 * Takes the sizes of a member from what stands behind its data: packed ones say themselves where they end, others are held to the sizes that stand there.
 * @param budget bytes that may still be unpacked or searched
 */
function sizedByItsData(reader: BlockReader, found: SalvagedMember, budget: { left: number }): SalvagedMember {
  const { member, dataAt } = found;
  if (!member || dataAt === null || member.encrypted || !isRead(member.method) || budget.left <= 0) return found;
  const unpack = () => {
    const end = checkMember(reader, { ...member, dataAt }, false, budget.left, ({ length }) => {
      budget.left -= length;
    });
    return descriptorEnd(reader, end) < 0 ? null : end;
  };
  const sizes = member.method === METHOD.deflated ? unpack() : findDescriptor(reader, dataAt);
  budget.left -= (sizes ? dataAt + sizes.packed : reader.size) - dataAt;
  if (!sizes) return found;
  const { packed, plain, crc } = sizes;
  return { member: { ...member, packed, plain, crc }, dataAt, packed, plain, present: plain, checksum: "unlooked", by: "header" };
}

const NOTHING = { size: 0, present: 0, stored: null, open: () => new MemorySource(new Uint8Array()) } as const;

function entryOf(reader: BlockReader, whole: ByteSource, { member, dataAt, unsized }: SalvagedMember, check: boolean): ArchiveEntry | null {
  if (!member) return null;
  const name = decodeName(member.raw, member.utf8);
  const path = ownPath(name);
  if (path === null) return null;
  const shared = { path, modified: member.utc ?? member.local, localTime: member.utc === null && member.local !== null };
  if (/[/\\]$/.test(name)) return { ...NOTHING, ...shared, marks: 0, type: "folder", encrypted: false, standing: "sound", note: null };
  const { marks, encrypted } = member;
  if (unsized && !encrypted) return { ...NOTHING, ...shared, marks, type: "file", encrypted, standing: "not-followed", note: UNSIZED };
  const file: Found = { ...member, dataAt: dataAt ?? reader.size };
  // Its content is unpacked when somebody asks how it stands: a list of names alone must not cost that.
  let found: ReturnType<typeof standingOf> | undefined;
  const look = () => {
    found ??= standingOf(reader, whole, file, check);
    return found;
  };
  return {
    ...shared,
    marks,
    type: "file",
    encrypted,
    size: file.plain,
    get standing() {
      return look().standing;
    },
    get present() {
      return look().present;
    },
    get note() {
      return look().note;
    },
    stored: encrypted || !isRead(file.method) ? null : { at: file.dataAt, length: file.packed, coding: CODING_OF[file.method] ?? null },
    open: () => contentOf(reader, whole, file),
  };
}

const BREAKS_OFF = "The archive breaks off in this file.";
const GOES_ON_IN_A_GAP = "It goes on in a part of the archive that is missing or cannot be read: what is before that is given.";
const NOT_THERE = "Where the list of contents says that it begins, nothing of it stands: its content is not found.";

function standingOf(
  reader: BlockReader,
  whole: ByteSource,
  member: Found,
  check: boolean,
): Pick<ArchiveEntry, "standing" | "present" | "note"> {
  const unread = describeUnread(member);
  if (unread !== null) return { standing: member.encrypted ? "encrypted" : "not-followed", present: 0, note: unread };
  if (member.dataAt >= reader.size && member.plain > 0)
    return { standing: "broken-off", present: 0, note: member.at < reader.size ? NOT_THERE : BREAKS_OFF };
  if (!check) return { standing: "not-checked", present: member.plain, note: null };
  const there = packedThere(whole, member.dataAt, member.packed);
  if (there < member.packed && member.dataAt + there < reader.size && member.method !== METHOD.stored)
    return { standing: "damaged", present: presentOf(reader, member, there), note: GOES_ON_IN_A_GAP };
  const { isSound, present } = checked(reader, member);
  if (isSound) return { standing: "sound", present: member.plain, note: null };
  if (member.dataAt + member.packed > reader.size)
    return { standing: "broken-off", present: presentOf(reader, member, there), note: BREAKS_OFF };
  return {
    standing: "damaged",
    present: Math.min(present, member.plain),
    note: "Its checksum in the archive does not agree: a part of it is damaged.",
  };
}

/** Unpacks a member to hold it to its checksum. @returns whether it is right, and plain bytes from its beginning that there are */
function checked(reader: BlockReader, member: Found): { isSound: boolean; present: number } {
  if (member.method !== METHOD.stored && member.method !== METHOD.deflated) {
    const { present, crc } = decodeMember(reader, member.method, member.dataAt, member.dataAt + member.packed, member.plain, member.plain);
    return { isSound: present === member.plain && crc === member.crc, present: Math.min(present, member.plain) };
  }
  let present = 0;
  const { verdict } = checkMember(reader, member, true, member.plain, (plain) => {
    present += plain.length;
  });
  return { isSound: verdict.verdict === "sound", present };
}

/** How many bytes of a member can be unpacked of which so many packed ones are there. */
function presentOf(reader: BlockReader, member: Found, there: number): number {
  if (member.method === METHOD.stored) return Math.min(member.plain, Math.max(0, reader.size - member.dataAt));
  return Math.min(checked(reader, { ...member, packed: there }).present, member.plain);
}

function contentOf(reader: BlockReader, whole: ByteSource, member: Found): ByteSource {
  if (member.method === METHOD.stored) return new WindowSource(whole, member.dataAt, member.plain);
  const rest = Math.max(0, reader.size - member.dataAt);
  const coding = CODING_OF[member.method];
  if (coding && (coding !== "deflate" || member.plain > MOST_AT_ONCE)) {
    // A large one is unpacked while it is read.
    const from = [{ at: member.dataAt, length: Math.min(member.packed, rest) }];
    return new LayoutSource(whole, { size: member.plain, segments: [{ kind: "coded", coding, length: member.plain, from }] });
  }
  const bytes = new Uint8Array(member.plain);
  let done = 0;
  checkMember(reader, { ...member, packed: packedThere(whole, member.dataAt, member.packed) }, true, bytes.length, (plain) => {
    bytes.set(plain.subarray(0, Math.max(0, bytes.length - done)), Math.min(done, bytes.length));
    done += plain.length;
  });
  return new MemorySource(bytes, done < bytes.length ? [{ start: done, end: bytes.length }] : []);
}
