import { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { PastEnd } from "../../bytes/past-end";
import { following } from "../following";
import {
  breaksAt,
  cannotTell,
  damaged,
  type Extent,
  endsAt,
  type Format,
  hasAscii,
  type Kind,
  type Summary,
  type Verdict,
} from "../format";
import { CENTRAL, END, LOCAL, MOST_LOOKED_THROUGH, SPLIT_MARK } from "./layout";
import {
  checkMember,
  descriptorEnd,
  directoryAt,
  directoryFromEnd,
  findDescriptor,
  localMember,
  MOST_MEMBERS,
  partsAtEnd,
  quoted,
  type ZipDirectory,
  type ZipMember,
} from "./members";
import { archiveType, packageFacts } from "./packages";

/** Bytes of a member without a length in which the archive may have been cut. */
const MOST_WITHOUT_LENGTH = 1 << 21;
/** More than this is not unpacked to check it: a small archive can claim to hold terabytes. */
const MAX_UNPACKED = 1 << 28;

/** The members a ZIP's list of contents names, or the verdict that says why it cannot be read. */
export function readZipDirectory(source: ByteSource): ZipMember[] | Verdict {
  try {
    const directory = directoryFromEnd(new BlockReader(source));
    return "members" in directory ? [...directory.members] : directory;
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return damaged(source.size, "the archive's list of contents is damaged");
  }
}

/**
 * Follows an archive from member to member to its list of contents and end. One that does not begin with a member, or has
 * something between them, is taken by its end, which is then that of `source`.
 */
export function followZip(source: ByteSource): Extent | null {
  const reader = new BlockReader(source);
  let forward: Extent;
  try {
    forward = walk(reader);
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    forward = breaksAt(source.size, "the archive breaks off before its end");
  }
  if (forward.verdict.verdict !== "damaged") return forward;
  // A wrong member is what it is; where the way is lost, the end of the source may know more.
  const backward = fromEnd(reader);
  return backward && (!forward.closed || backward.verdict.verdict === "sound") ? backward : forward;
}

const lastOf = (parts: number) => cannotTell(`it is the last of ${parts} parts of an archive and opens only beside the others`);

/** Follows the first part of a split archive; the last member in it goes on in the next. */
function followFirstPart(source: ByteSource): Extent | null {
  const extent = following(source, "the archive breaks off before its end", (reader) => walk(reader, SPLIT_MARK.length));
  if (extent?.verdict.verdict !== "damaged" || extent.size < source.size) return extent;
  return { ...extent, verdict: cannotTell("it is the first of several parts of an archive and opens only beside the others") };
}

function walk(reader: BlockReader, from = 0): Extent {
  const found: ZipMember[] = [];
  let unpacked = 0;
  let doubt: Verdict | null = null;
  let wrong: Verdict | null = null;
  /** Bytes before the first member that is wrong. */
  let proven: number | null = null;
  let at = from;
  for (; found.length < MOST_MEMBERS; ) {
    const member = localMember(reader, at);
    if (!member) break;
    if (member.dataAt > reader.size) return breaksAt(reader.size, "the archive breaks off before its end");
    const known = member.sized || member.method === 8 ? null : findDescriptor(reader, member.dataAt);
    const sized = member.sized || known !== null;
    if (!sized && (member.encrypted || member.method !== 8)) {
      const upTo = Math.min(reader.size, member.dataAt + MOST_WITHOUT_LENGTH);
      const verdict = damaged(member.dataAt, `where ${quoted(member.name)} ends is not recorded`, upTo);
      return { size: upTo, closed: false, verdict, proven: proven ?? at };
    }
    const end = checkMember(reader, known ? { ...member, ...known, at } : member, sized, MAX_UNPACKED - unpacked);
    unpacked += Math.min(end.plain, MAX_UNPACKED);
    if (end.verdict.verdict === "cannot-tell") doubt ??= end.verdict;
    let next = known ? known.end : sized ? member.dataAt + member.packed : descriptorEnd(reader, end);
    if (end.verdict.verdict === "damaged") {
      // With its size known the walk may go on behind it, when another part of the archive stands there.
      if (!sized || !isPart(reader, next)) return { size: end.end, closed: false, verdict: end.verdict, proven: proven ?? at };
      wrong ??= end.verdict;
      proven ??= at;
    }
    if (next < 0)
      return {
        size: end.end,
        closed: false,
        verdict: damaged(end.end, `${quoted(member.name)} has the wrong checksum`),
        proven: proven ?? at,
      };
    // Sizes that were known all the same are followed by a descriptor now and then.
    if (member.sized && !isPart(reader, next) && reader.has(next, "PK\x07\x08")) next += 16;
    found.push({ ...member, packed: end.packed, plain: end.plain, crc: end.crc, at });
    at = next;
  }
  const list = at;
  if (found.length === 0 && !reader.has(0, END.mark)) return breaksAt(0, "no member of the archive begins here");
  if (!reader.has(at, CENTRAL.mark) && !reader.has(at, END.mark)) {
    const breaks =
      at >= reader.size
        ? breaksAt(reader.size, "the archive's list of contents at its end is missing")
        : breaksAt(at, "no member of the archive begins where the next one should");
    // A member that is wrong is where it broke, though the way went on behind it for a while.
    return { ...breaks, ...(wrong ? { verdict: wrong } : {}), proven: proven ?? at };
  }
  const directory = directoryAt(reader, at);
  if (!("members" in directory))
    return { size: directory.verdict === "damaged" ? directory.at : at, closed: false, verdict: wrong ?? directory, proven: proven ?? at };
  if (directory.end > reader.size) return breaksAt(reader.size, "the archive breaks off before its end");
  if (directory.parts > 1) return endsAt(directory.end, lastOf(directory.parts));
  const missing = disagreement(directory, found, list);
  return { ...endsAt(directory.end, missing ?? wrong ?? doubt ?? undefined), ...(proven === null ? {} : { proven }) };
}

const isPart = (reader: BlockReader, at: number) => [LOCAL.mark, CENTRAL.mark, END.mark].some((mark) => reader.has(at, mark));

/** Members that the list of contents names but that are not there, or otherwise. */
function disagreement(directory: ZipDirectory, found: readonly ZipMember[], list: number): Verdict | null {
  const byPlace = new Map(found.map((member) => [member.at, member]));
  // A list may count from somewhere else than the archive's first byte (a program in front of it).
  const shift = directory.members.length > 0 && found.length > 0 ? (found[0] as ZipMember).at - (directory.members[0] as ZipMember).at : 0;
  for (const member of directory.members) {
    const there = byPlace.get(member.at) ?? byPlace.get(member.at + shift);
    if (!there) return damaged(Math.min(member.at, list), `${quoted(member.name)} is not where the list of contents says`);
    if (!there.encrypted && there.crc !== member.crc)
      return damaged(there.at, `${quoted(member.name)} has the wrong checksum`, there.at + there.packed);
    if (there.name !== member.name || there.method !== member.method || there.packed !== member.packed || there.plain !== member.plain)
      return damaged(there.at, `what the archive says of ${quoted(member.name)} does not agree with its list of contents`);
  }
  if (directory.statedAt !== 0xffff_ffff && directory.statedAt !== (list - shift) % 0x1_0000_0000)
    return damaged(list, "the archive's end is damaged");
  return null;
}

function fromEnd(reader: BlockReader): Extent | null {
  try {
    const parts = partsAtEnd(reader);
    if (parts > 1) return endsAt(reader.size, lastOf(parts));
    const directory = directoryFromEnd(reader);
    if (!("members" in directory)) return null;
    let unpacked = 0;
    let doubt: Verdict | null = null;
    for (const member of directory.members) {
      const local = localMember(reader, member.at);
      if (!local) return endsAt(directory.end, damaged(member.at, `${quoted(member.name)} is not where the list of contents says`));
      if (local.name !== member.name || local.method !== member.method)
        return endsAt(
          directory.end,
          damaged(member.at, `what the archive says of ${quoted(member.name)} does not agree with its list of contents`),
        );
      const { verdict } = checkMember(reader, { ...member, dataAt: local.dataAt }, true, MAX_UNPACKED - unpacked);
      unpacked += Math.min(member.plain, MAX_UNPACKED);
      if (verdict.verdict === "damaged") return endsAt(directory.end, verdict);
      if (verdict.verdict === "cannot-tell") doubt ??= verdict;
    }
    return endsAt(directory.end, doubt ?? undefined);
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return null;
  }
}

/** The name of the first member and, for OpenDocument and EPUB, its stored content: they show what the archive is. */
function firstMember(head: Uint8Array): { name: string; content: string } | null {
  if (!hasAscii(head, 0, LOCAL.mark) || head.length < LOCAL.size) return null;
  const u16 = (at: number) => (head[at] as number) | ((head[at + 1] as number) << 8);
  const nameLength = u16(LOCAL.nameLength);
  const contentAt = LOCAL.size + nameLength + u16(LOCAL.extraLength);
  const text = (from: number, to: number) => String.fromCharCode(...head.subarray(from, Math.min(to, head.length)));
  return { name: text(LOCAL.size, LOCAL.size + nameLength), content: text(contentAt, contentAt + 80) };
}

const isZip = (head: Uint8Array) => hasAscii(head, 0, LOCAL.mark) || hasAscii(head, 0, END.mark);
const OFFICE_FOLDERS = ["word/", "xl/", "ppt/"] as const;
/** Office archives differ in the folder their parts stand in; the first of its names mostly shows in the first bytes. */
const isOffice = (folder: (typeof OFFICE_FOLDERS)[number]) => (head: Uint8Array) => {
  if (!/^(\[Content_Types\]|_rels\/|docProps\/|word\/|xl\/|ppt\/)/.test(firstMember(head)?.name ?? "")) return false;
  const text = String.fromCharCode(...head);
  const shown = OFFICE_FOLDERS.filter((each) => text.includes(each));
  return shown.length === 0 || shown.includes(folder);
};
const isOpenDocument = (type: string) => (head: Uint8Array) => {
  const first = firstMember(head);
  return first?.name === "mimetype" && first.content.startsWith(`application/${type}`);
};

type Members = () => readonly { name: string }[];
const names =
  (source: ByteSource): Members =>
  () => {
    const listed = readZipDirectory(source);
    if (Array.isArray(listed)) return listed;
    const found: ZipMember[] = [];
    const reader = new BlockReader(source);
    try {
      const limit = Math.min(source.size, MOST_LOOKED_THROUGH);
      for (let at = reader.find(LOCAL.mark, 0, limit); at >= 0 && found.length < 2000; at = reader.find(LOCAL.mark, at + 1, limit)) {
        const member = localMember(reader, at);
        if (member) found.push(member);
      }
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
    }
    return found;
  };

const family = {
  signatures: [
    { at: 0, mark: LOCAL.mark },
    { at: 0, mark: "PK\x05\x06\0\0\0\0" },
  ],
  follow: followZip,
  resolve: (source: ByteSource) => archiveType(new BlockReader(source), names(source)),
  summarise: (source: ByteSource): Summary => packageFacts(source),
};
const office = (id: string, kind: Kind, title: string, extensions: string[], folder: (typeof OFFICE_FOLDERS)[number]): Format => ({
  id,
  kind,
  title,
  extensions,
  recognise: isOffice(folder),
  ...family,
});
const open = (id: string, kind: Kind, title: string, extensions: string[], type: string): Format => ({
  id,
  kind,
  title,
  extensions,
  recognise: isOpenDocument(type),
  ...family,
});
const bundle = (id: string, kind: Kind, title: string, extensions: string[]): Format => ({
  id,
  kind,
  title,
  extensions,
  recognise: (head) => isZip(head) && String.fromCharCode(...head).includes("Index/"),
  ...family,
});

/** ZIP and what is built on it, the more special first. */
export const zipFormats: readonly Format[] = [
  open("odt", "documents", "OpenDocument text", ["odt", "ott"], "vnd.oasis.opendocument.text"),
  open("ods", "sheets", "OpenDocument sheet", ["ods", "ots"], "vnd.oasis.opendocument.spreadsheet"),
  open("odp", "documents", "OpenDocument slides", ["odp", "otp"], "vnd.oasis.opendocument.presentation"),
  open("odg", "drawings", "OpenDocument drawing", ["odg", "otg"], "vnd.oasis.opendocument.graphics"),
  open("epub", "documents", "EPUB book", ["epub"], "epub+zip"),
  office("docx", "documents", "Office Open XML text", ["docx", "docm", "dotx"], "word/"),
  office("xlsx", "sheets", "Office Open XML sheet", ["xlsx", "xlsm", "xltx"], "xl/"),
  office("pptx", "documents", "Office Open XML slides", ["pptx", "pptm", "ppsx"], "ppt/"),
  bundle("pages", "documents", "Mac text document", ["pages"]),
  bundle("numbers", "sheets", "Mac sheet", ["numbers"]),
  bundle("keynote", "documents", "Mac slides", ["key"]),
  {
    id: "zip-part",
    kind: "archives",
    title: "first part of a split ZIP archive",
    extensions: ["z01"],
    recognise: (head) => hasAscii(head, 0, SPLIT_MARK + LOCAL.mark),
    signatures: [{ at: 0, mark: SPLIT_MARK + LOCAL.mark }],
    follow: followFirstPart,
  },
  {
    id: "zip",
    kind: "archives",
    title: "ZIP archive",
    extensions: ["zip", "jar", "kmz", "apk"],
    recognise: isZip,
    recogniseElsewhere: (source) => partsAtEnd(new BlockReader(source)) > 1,
    ...family,
  },
];
