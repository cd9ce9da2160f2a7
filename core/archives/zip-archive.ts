import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource, WindowSource } from "../bytes/byte-source";
import { MOST_AT_ONCE } from "../bytes/codecs";
import { ConcatSource } from "../bytes/concat-source";
import { LayoutSource } from "../bytes/layout";
import { PastEnd } from "../bytes/past-end";
import { dosTimeToMs } from "../bytes/times";
import { FLAG, LOCAL, METHOD, SPLIT_MARK } from "../formats/zip/layout";
import {
  checkMember,
  descriptorEnd,
  directoryFromEnd,
  findDescriptor,
  localMember,
  MOST_MEMBERS,
  type ZipMember,
} from "../formats/zip/members";
import { type ArchiveEntry, type ArchiveReading, MOST_CHECKED, ownPath } from "./archive";
import { decodeName } from "./member-names";
import { CODING_OF, decodeMember, isRead, packedThere } from "./zip-codings";

interface Found {
  readonly member: ZipMember & { dataAt: number };
  readonly sized: boolean;
}

/**
 * Reads a ZIP archive: by its list of contents, or where that is gone by the headers before its members.
 * @param parts the files it is split over, in their order; one alone where it is not
 */
export function readZipArchive(parts: readonly ByteSource[]): ArchiveReading {
  const whole = parts.length === 1 && parts[0] ? parts[0] : new ConcatSource(parts);
  const reader = new BlockReader(whole);
  const listed = listedMembers(parts, reader);
  const notes = listed ? [] : ["The list of contents of this archive is gone: its files were found by what stands before each of them."];
  let checked = 0;
  const entries: ArchiveEntry[] = [];
  for (const found of listed ?? membersByHeaders(reader)) {
    const entry = entryOf(reader, whole, found, checked <= MOST_CHECKED);
    if (!entry) continue;
    checked += entry.size;
    entries.push(entry);
  }
  const sealed = entries.filter(({ encrypted }) => encrypted).length;
  if (sealed > 0) notes.push(`${sealed} of its files are protected by a password: their names can be read, their content cannot.`);
  return { entries, listings: new Map(), notes };
}

/** The members that the list of contents names; null: it is gone or damaged. */
function listedMembers(parts: readonly ByteSource[], reader: BlockReader): Found[] | null {
  const last = parts.at(-1);
  if (!last) return null;
  try {
    const directory = directoryFromEnd(new BlockReader(last));
    if (!("members" in directory)) return null;
    // Each member names the part in which it begins.
    const begins: number[] = [0];
    for (const part of parts) begins.push((begins.at(-1) as number) + part.size);
    return directory.members.flatMap((member): Found[] => {
      const at = (begins[Math.min(member.disk, parts.length - 1)] as number) + member.at;
      const dataAt = dataBehind(reader, at);
      return [{ member: { ...member, at, dataAt: dataAt ?? reader.size }, sized: true }];
    });
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return null;
  }
}

/** Where the data of a member begin whose header stands at a place; null: no header stands there. */
function dataBehind(reader: BlockReader, at: number): number | null {
  if (at + LOCAL.size > reader.size || !reader.has(at, LOCAL.mark)) return null;
  return at + LOCAL.size + reader.u16(at + LOCAL.nameLength) + reader.u16(at + LOCAL.extraLength);
}

function* membersByHeaders(reader: BlockReader): Generator<Found, void, void> {
  let count = 0;
  for (let at = reader.has(0, SPLIT_MARK) ? 4 : 0; at >= 0 && count < MOST_MEMBERS; ) {
    let next = -1;
    try {
      const member = localMember(reader, at);
      if (member) {
        const sized = member.sized ? member : sizedByItsData(reader, member);
        if (sized) {
          count += 1;
          yield { member: sized, sized: true };
          next = sized.dataAt + sized.packed;
          if (reader.size - next >= 4 && !reader.has(next, LOCAL.mark)) next = -1;
        }
      }
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
    }
    at = next >= 0 ? next : reader.find(LOCAL.mark, at + 1);
    if (at >= reader.size) return;
  }
}

/** The sizes of a member that come after its data; null: they are not found. */
function sizedByItsData(reader: BlockReader, member: ZipMember & { dataAt: number }): (ZipMember & { dataAt: number }) | null {
  if (member.method === METHOD.deflated && !member.encrypted) {
    const end = checkMember(reader, member, false, MOST_CHECKED);
    return descriptorEnd(reader, end) >= 0 ? { ...member, packed: end.packed, plain: end.plain, crc: end.crc } : null;
  }
  const found = findDescriptor(reader, member.dataAt);
  return found && { ...member, packed: found.packed, plain: found.plain, crc: found.crc };
}

function entryOf(reader: BlockReader, whole: ByteSource, { member, sized }: Found, check: boolean): ArchiveEntry | null {
  const details = detailsOf(reader, member.at);
  const name = details?.name ?? member.name;
  const path = ownPath(name);
  if (path === null) return null;
  const shared = { path, modified: member.utc ?? details?.local ?? null, localTime: member.utc === null && details !== null };
  if (name.endsWith("/"))
    return {
      ...shared,
      marks: 0,
      type: "folder",
      encrypted: false,
      size: 0,
      standing: "sound",
      present: 0,
      note: null,
      stored: null,
      open: () => new MemorySource(new Uint8Array()),
    };
  // Its content is unpacked when somebody asks how it stands: a list of names alone must not cost that.
  let found: ReturnType<typeof standingOf> | undefined;
  const look = () => {
    found ??= standingOf(reader, whole, member, sized, check);
    return found;
  };
  return {
    ...shared,
    marks: member.marks,
    type: "file",
    encrypted: member.encrypted,
    size: member.plain,
    get standing() {
      return look().standing;
    },
    get present() {
      return look().present;
    },
    get note() {
      return look().note;
    },
    stored:
      member.encrypted || !isRead(member.method)
        ? null
        : { at: member.dataAt, length: member.packed, coding: CODING_OF[member.method] ?? null },
    open: () => contentOf(reader, whole, member, sized),
  };
}

const BREAKS_OFF = "The archive breaks off in this file.";
const GOES_ON_IN_A_GAP = "It goes on in a part of the archive that is missing or cannot be read: what is before that is given.";
const NOT_THERE = "Where the list of contents says that it begins, nothing of it stands: its content is not found.";

function standingOf(
  reader: BlockReader,
  whole: ByteSource,
  member: ZipMember & { dataAt: number },
  sized: boolean,
  check: boolean,
): Pick<ArchiveEntry, "standing" | "present" | "note"> {
  if (member.encrypted)
    return {
      standing: "encrypted",
      present: 0,
      note: "It is protected by a password in the archive: name, size and date can be read, its content cannot.",
    };
  if (!isRead(member.method)) return { standing: "not-followed", present: 0, note: "It is compressed in a way that is not followed here." };
  if (member.dataAt >= reader.size && member.plain > 0)
    return { standing: "broken-off", present: 0, note: member.at < reader.size ? NOT_THERE : BREAKS_OFF };
  if (!check) return { standing: "not-checked", present: member.plain, note: null };
  const there = packedThere(whole, member.dataAt, member.packed);
  if (there < member.packed && member.dataAt + there < reader.size && member.method !== METHOD.stored)
    return { standing: "damaged", present: presentOf(reader, member, there), note: GOES_ON_IN_A_GAP };
  const { isSound, present } = checked(reader, member, sized);
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
function checked(reader: BlockReader, member: ZipMember & { dataAt: number }, sized: boolean): { isSound: boolean; present: number } {
  if (member.method !== METHOD.stored && member.method !== METHOD.deflated) {
    const { present, crc } = decodeMember(reader, member.method, member.dataAt, member.dataAt + member.packed, member.plain, member.plain);
    return { isSound: present === member.plain && crc === member.crc, present: Math.min(present, member.plain) };
  }
  let present = 0;
  const { verdict } = checkMember(reader, member, sized, member.plain, (plain) => {
    present += plain.length;
  });
  return { isSound: verdict.verdict === "sound", present };
}

/** How many bytes of a member can be unpacked of which so many packed ones are there. */
function presentOf(reader: BlockReader, member: ZipMember & { dataAt: number }, there: number): number {
  if (member.method === METHOD.stored) return Math.min(member.plain, Math.max(0, reader.size - member.dataAt));
  return Math.min(checked(reader, { ...member, packed: there }, true).present, member.plain);
}

function contentOf(reader: BlockReader, whole: ByteSource, member: ZipMember & { dataAt: number }, sized: boolean): ByteSource {
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
  checkMember(reader, { ...member, packed: packedThere(whole, member.dataAt, member.packed) }, sized, bytes.length, (plain) => {
    bytes.set(plain.subarray(0, Math.max(0, bytes.length - done)), Math.min(done, bytes.length));
    done += plain.length;
  });
  return new MemorySource(bytes, done < bytes.length ? [{ start: done, end: bytes.length }] : []);
}

/** The name and local time that stand before a member's data; null: no header stands there. */
function detailsOf(reader: BlockReader, at: number): { name: string; local: number | null } | null {
  try {
    if (at + LOCAL.size > reader.size || !reader.has(at, LOCAL.mark)) return null;
    const raw = reader.bytes(at + LOCAL.size, reader.u16(at + LOCAL.nameLength)).slice();
    const name = decodeName(raw, (reader.u16(at + LOCAL.flags) & FLAG.utf8) !== 0);
    return { name, local: dosTimeToMs(reader.u16(at + LOCAL.date), reader.u16(at + LOCAL.time), 0) };
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return null;
  }
}
