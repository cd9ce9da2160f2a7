import { Inflate } from "fflate";
import { type ByteSource, readBytes } from "../bytes/byte-source";
import { crc32 } from "../bytes/crc32";
import { Cursor } from "../bytes/cursor";
import { damaged, type Format, hasAscii, type Kind, SOUND, type Verdict } from "./format";

/** ZIP: the published APPNOTE, 4.3 (local header 4.3.7, central directory 4.3.12, end record 4.3.16). */
const LOCAL = { magic: 0x04034b50, nameLength: 26, extraLength: 28, size: 30 } as const;
const CENTRAL = {
  magic: 0x02014b50,
  flags: 8,
  method: 10,
  crc: 16,
  packed: 20,
  plain: 24,
  nameLength: 28,
  extraLength: 30,
  commentLength: 32,
  offset: 42,
  size: 46,
} as const;
const END = { magic: 0x06054b50, count: 10, directorySize: 12, directoryAt: 16, commentLength: 20, size: 22, maxComment: 65_535 } as const;
const STORED = 0;
const DEFLATED = 8;
const ENCRYPTED = 1;
const STEP = 1 << 16;
/** More than this is not unpacked to check it: a small archive can claim to hold terabytes. */
const MAX_UNPACKED = 1 << 28;
const MAX_MEMBERS = 65_535;

export interface ZipMember {
  readonly name: string;
  readonly method: number;
  readonly encrypted: boolean;
  readonly crc: number;
  /** Bytes as stored and as unpacked. */
  readonly packed: number;
  readonly plain: number;
  /** Offset of the local header. */
  readonly at: number;
}

/** The members a ZIP's central directory lists, or the verdict that says why it cannot be read. */
export function readZipDirectory(source: ByteSource): ZipMember[] | Verdict {
  const tailAt = Math.max(0, source.size - END.size - END.maxComment);
  const tail = new Cursor(readBytes(source, tailAt, source.size - tailAt));
  let end = tail.size - END.size;
  while (end >= 0 && tail.u32(end) !== END.magic) end -= 1;
  if (end < 0) return damaged(source.size, "the archive's list of contents at its end is missing");
  const count = tail.u16(end + END.count);
  const size = tail.u32(end + END.directorySize);
  const at = tail.u32(end + END.directoryAt);
  if (count === 0xffff || at === 0xffffffff) return { verdict: "cannot-tell", reason: "archives of this size are not followed yet" };
  if (at + size > tailAt + end) return damaged(tailAt + end, "the archive's list of contents would stand past its end");
  const directory = new Cursor(readBytes(source, at, size));
  const members: ZipMember[] = [];
  let entry = 0;
  while (members.length < Math.min(count, MAX_MEMBERS)) {
    if (entry + CENTRAL.size > size || directory.u32(entry) !== CENTRAL.magic)
      return damaged(at + entry, "the archive's list of contents is damaged");
    const nameLength = directory.u16(entry + CENTRAL.nameLength);
    if (entry + CENTRAL.size + nameLength > size) return damaged(at + entry, "the archive's list of contents is damaged");
    members.push({
      name: new TextDecoder().decode(directory.slice(entry + CENTRAL.size, nameLength)),
      method: directory.u16(entry + CENTRAL.method),
      encrypted: (directory.u16(entry + CENTRAL.flags) & ENCRYPTED) !== 0,
      crc: directory.u32(entry + CENTRAL.crc),
      packed: directory.u32(entry + CENTRAL.packed),
      plain: directory.u32(entry + CENTRAL.plain),
      at: directory.u32(entry + CENTRAL.offset),
    });
    entry += CENTRAL.size + nameLength + directory.u16(entry + CENTRAL.extraLength) + directory.u16(entry + CENTRAL.commentLength);
  }
  return members;
}

export function checkZip(source: ByteSource): Verdict {
  const members = readZipDirectory(source);
  if (!Array.isArray(members)) return members;
  let unpacked = 0;
  for (const member of members) {
    unpacked += member.plain;
    if (unpacked > MAX_UNPACKED) return { verdict: "cannot-tell", reason: "the archive unpacks to more than is checked" };
    const verdict = checkMember(source, member);
    if (verdict.verdict !== "sound") return verdict;
  }
  return SOUND;
}

function checkMember(source: ByteSource, member: ZipMember): Verdict {
  if (member.at + LOCAL.size > source.size) return damaged(source.size, `“${member.name}” would stand past the end`);
  const local = new Cursor(readBytes(source, member.at, LOCAL.size));
  if (local.u32(0) !== LOCAL.magic) return damaged(member.at, `“${member.name}” is not where the list of contents says`);
  const at = member.at + LOCAL.size + local.u16(LOCAL.nameLength) + local.u16(LOCAL.extraLength);
  if (at + member.packed > source.size) return damaged(source.size, `“${member.name}” breaks off`);
  if (member.encrypted) return { verdict: "cannot-tell", reason: "the archive is protected by a password" };
  if (member.method !== STORED && member.method !== DEFLATED)
    return { verdict: "cannot-tell", reason: "a compression in it is not followed yet" };
  let crc = 0;
  let plain = 0;
  const take = (chunk: Uint8Array) => {
    crc = crc32(chunk, crc);
    plain += chunk.length;
    if (plain > member.plain) throw new Error("longer than it says");
  };
  try {
    const inflate = member.method === DEFLATED ? new Inflate(take) : null;
    for (let done = 0; done < member.packed; done += STEP) {
      const chunk = readBytes(source, at + done, Math.min(STEP, member.packed - done));
      if (inflate) inflate.push(chunk, done + STEP >= member.packed);
      else take(chunk);
    }
  } catch {
    return damaged(at, `“${member.name}” cannot be unpacked`);
  }
  return crc === member.crc && plain === member.plain ? SOUND : damaged(at, `“${member.name}” has the wrong checksum`);
}

/** The name of the first member and, for OpenDocument and EPUB, its stored content: they tell what the archive is. */
function firstMember(head: Uint8Array): { name: string; content: string } | null {
  if (!hasAscii(head, 0, "PK\x03\x04") || head.length < LOCAL.size) return null;
  const cursor = new Cursor(head);
  const nameLength = cursor.u16(LOCAL.nameLength);
  const contentAt = LOCAL.size + nameLength + cursor.u16(LOCAL.extraLength);
  const text = (from: number, to: number) => String.fromCharCode(...head.subarray(from, Math.min(to, head.length)));
  return { name: text(LOCAL.size, LOCAL.size + nameLength), content: text(contentAt, contentAt + 80) };
}

const isZip = (head: Uint8Array) => hasAscii(head, 0, "PK\x03\x04") || hasAscii(head, 0, "PK\x05\x06");
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
const office = (id: string, kind: Kind, title: string, extensions: string[], folder: (typeof OFFICE_FOLDERS)[number]): Format => ({
  id,
  kind,
  title,
  extensions,
  recognise: isOffice(folder),
  check: checkZip,
});
const open = (id: string, kind: Kind, title: string, extensions: string[], type: string): Format => ({
  id,
  kind,
  title,
  extensions,
  recognise: isOpenDocument(type),
  check: checkZip,
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
  { id: "zip", kind: "archives", title: "ZIP archive", extensions: ["zip", "jar", "kmz"], recognise: isZip, check: checkZip },
];
