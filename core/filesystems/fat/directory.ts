import { Cursor } from "../../bytes/cursor";
import { marksOfAttributes } from "../../bytes/file-marks";
import { decodeUtf16le, pathComponent } from "../../bytes/text";
import { dosTimeToMs } from "../../bytes/times";
import type { TreeEntry } from "../folder-entry";
import { ATTRIBUTE, ENTRY, LONG, SMALL } from "./layout";

export interface DirectoryContent {
  readonly entries: readonly TreeEntry[];
  readonly label: string | null;
  /** Slots of 32 bytes before the end mark, and how many of them hold nothing that stands in a folder. */
  readonly slots: number;
  readonly refused: number;
}

/** Reads the entries of a folder up to its end mark. `highWords`: FAT32, whose first clusters have 32 bits. */
export function readDirectory(bytes: Uint8Array, highWords: boolean): DirectoryContent {
  const cursor = new Cursor(bytes);
  const entries: TreeEntry[] = [];
  let label: string | null = null;
  let long: number[] = [];
  let [slots, refused] = [0, 0];
  for (let at = 0; at + ENTRY.size <= bytes.length; at += ENTRY.size) {
    const first = cursor.u8(at);
    if (first === ENTRY.endMark) break;
    slots += 1;
    const attributes = cursor.u8(at + ENTRY.attributes);
    if ((attributes & 0x3f) === ATTRIBUTE.longName) {
      // A first part in order begins a new name; deleted parts have lost their order and are described by what follows.
      if (first !== ENTRY.deletedMark && (first & LONG.lastMark) !== 0) long = [];
      if (long.length < LONG.most) long.push(at);
      continue;
    }
    const parts = long;
    long = [];
    if ((attributes & ATTRIBUTE.volumeId) !== 0) {
      if (first !== ENTRY.deletedMark) label = decodeShort(cursor.slice(at, 11)).replace(/\s+$/, "") || null;
      continue;
    }
    if (first === 0x2e) continue;
    const entry = readEntry(cursor, at, parts, highWords);
    if (entry) entries.push(entry);
    else refused += 1;
  }
  return { entries, label, slots, refused };
}

/** Whether a slot in use could be an entry or a part of a long name, without reading it further. */
export function mayBeSlot(bytes: Uint8Array, at: number): boolean {
  const attributes = bytes[at + ENTRY.attributes] as number;
  if (bytes[at] === ENTRY.endMark || (attributes & 0xc0) !== 0) return false;
  // Of a part of a long name the type and the cluster are zero ("Long Directory Entries").
  if (attributes === ATTRIBUTE.longName)
    return bytes[at + LONG.type] === 0 && bytes[at + ENTRY.clusterLow] === 0 && bytes[at + ENTRY.clusterLow + 1] === 0;
  return namedSoundly(bytes.subarray(at, at + ENTRY.nameBytes), bytes[at] === ENTRY.deletedMark);
}

/** Characters no short name has (DIR_Name): what has one was no entry. Those of a living one are taken as they are. */
const NEVER_NAMED = new Set([...'"*+,./:;<=>?[\\]|'].map((character) => character.charCodeAt(0)));

/** Names below the space do not occur, and none begins with one. */
function namedSoundly(short: Uint8Array, deleted: boolean): boolean {
  if (short[0] === 0x20) return false;
  for (let i = 1; i < short.length; i += 1)
    if ((short[i] as number) < 0x20 || (deleted && NEVER_NAMED.has(short[i] as number))) return false;
  return true;
}

function readEntry(cursor: Cursor, at: number, parts: readonly number[], highWords: boolean): TreeEntry | null {
  const short = cursor.slice(at, ENTRY.nameBytes);
  const attributes = cursor.u8(at + ENTRY.attributes);
  const deleted = short[0] === ENTRY.deletedMark;
  // Bits 6 and 7 are reserved and zero: what has them is no entry.
  if ((attributes & 0xc0) !== 0 || !namedSoundly(short, deleted)) return null;
  const long = longName(cursor, parts, short, deleted);
  const notes: string[] = [];
  if (deleted && !long) notes.push("The first letter of its name is lost; “_” stands in its place.");
  if (long?.mayBeCut) notes.push("The end of its name may be gone: nothing shows where it ended.");
  const directory = (attributes & ATTRIBUTE.directory) !== 0;
  const high = highWords ? cursor.u16(at + ENTRY.clusterHigh) : 0;
  return {
    ...(deleted && (!long || long.mayBeCut) ? { incompleteName: true } : {}),
    name: pathComponent(long?.name ?? shortName(short, cursor.u8(at + ENTRY.caseFlags), deleted)),
    rawName: (long?.raw ?? short).slice(),
    deleted,
    directory,
    firstCluster: high * 65_536 + cursor.u16(at + ENTRY.clusterLow),
    size: directory ? 0 : cursor.u32(at + ENTRY.fileSize),
    contiguous: false,
    validSize: cursor.u32(at + ENTRY.fileSize),
    created: dosTimeToMs(cursor.u16(at + ENTRY.createdDate), cursor.u16(at + ENTRY.createdTime), cursor.u8(at + ENTRY.createdTenths)),
    modified: dosTimeToMs(cursor.u16(at + ENTRY.modifiedDate), cursor.u16(at + ENTRY.modifiedTime), 0),
    marks: marksOfAttributes(attributes),
    at,
    notes,
  };
}

/** The checksum that ties long parts to their short name (ChkSum() of the specification). */
export function shortNameChecksum(name: Uint8Array): number {
  let sum = 0;
  for (let i = 0; i < ENTRY.nameBytes; i += 1) sum = (((sum & 1) << 7) + (sum >>> 1) + (name[i] as number)) & 0xff;
  return sum;
}

/**
 * The long name before a short entry, when its parts belong to it. A deleted short name has lost its first byte; just one
 * byte in its place gives the checksum, and it must be one that short names begin with.
 */
function longName(
  cursor: Cursor,
  parts: readonly number[],
  short: Uint8Array,
  deleted: boolean,
): { name: string; raw: Uint8Array; mayBeCut: boolean } | null {
  const last = parts[parts.length - 1];
  if (last === undefined) return null;
  const checksum = cursor.u8(last + LONG.checksum);
  // Parts stand in reverse: the nearest holds the beginning. Those of another checksum belong to something else.
  const own: number[] = [];
  for (let index = parts.length - 1; index >= 0; index -= 1) {
    const at = parts[index] as number;
    if (cursor.u8(at + LONG.checksum) !== checksum) break;
    const order = cursor.u8(at + LONG.order);
    if (!deleted && (order & ~LONG.lastMark) !== own.length + 1) return null;
    own.push(at);
    if (!deleted && (order & LONG.lastMark) !== 0) break;
  }
  if (!checksumFits(short, checksum, deleted)) return null;
  const units = new Uint8Array(own.length * LONG.bytes);
  let filled = 0;
  for (const at of own)
    for (const [from, length] of LONG.parts) for (let i = 0; i < length; i += 1) units[filled++] = cursor.bytes[at + from + i] as number;
  let length = 0;
  while (length + 1 < filled && !endsName(units[length] as number, units[length + 1] as number)) length += 2;
  if (length === 0) return null;
  const raw = units.subarray(0, length);
  const name = decodeUtf16le(raw);
  // Only a name that fills its last part has no end mark, and a longer one whose last parts were written over looks the same.
  const noEnd = deleted && length === filled && own.length < LONG.most;
  return { name, raw, mayBeCut: noEnd && (!hasExtension(name, short) || isTaken(cursor, (own.at(-1) as number) - ENTRY.size)) };
}

/** Whether a long name ends with the extension that its short one has (the first three characters, in capitals); one without any shows nothing. */
function hasExtension(name: string, short: Uint8Array): boolean {
  const extension = decodeShort(short.subarray(8)).trimEnd();
  const dot = name.lastIndexOf(".");
  const own =
    dot < 0
      ? ""
      : name
          .slice(dot + 1)
          .replaceAll(" ", "")
          .toUpperCase()
          .slice(0, 3);
  return own !== "" && (own === extension || /[^\x20-\x7e]/.test(own));
}

/** Whether a slot is in use by something, so that what had stood there before is gone; one before the bytes at hand is not known. */
const isTaken = (cursor: Cursor, at: number): boolean => at < 0 || (cursor.u8(at) !== ENTRY.deletedMark && cursor.u8(at) !== 0x2e);

/** What follows the name in its last part: a zero, then ones. */
const endsName = (low: number, high: number) => (low === 0 && high === 0) || (low === 0xff && high === 0xff);

function checksumFits(short: Uint8Array, checksum: number, deleted: boolean): boolean {
  if (!deleted) return shortNameChecksum(short) === checksum;
  const tried = short.slice();
  for (let first = 0x21; first < 0x100; first += 1) {
    tried[0] = first;
    if (shortNameChecksum(tried) === checksum) return !/[a-z"*+,./:;<=>?[\\\]|]/.test(String.fromCharCode(first));
  }
  return false;
}

function shortName(short: Uint8Array, flags: number, deleted: boolean): string {
  const bytes = short.slice();
  if (deleted) bytes[0] = 0x5f;
  else if (bytes[0] === ENTRY.kanjiMark) bytes[0] = ENTRY.deletedMark;
  const base = decodeShort(bytes.subarray(0, 8)).trimEnd();
  const extension = decodeShort(bytes.subarray(8)).trimEnd();
  const shownBase = (flags & SMALL.base) !== 0 ? base.toLowerCase() : base;
  const shownExtension = (flags & SMALL.extension) !== 0 ? extension.toLowerCase() : extension;
  return shownExtension ? `${shownBase}.${shownExtension}` : shownBase;
}

/** Upper half of code page 437, the first one of the format's home system (the Unicode Consortium's CP437.TXT). */
const UPPER =
  "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u00a0";

function decodeShort(bytes: Uint8Array): string {
  let text = "";
  for (const byte of bytes) text += byte < 0x80 ? String.fromCharCode(byte) : (UPPER[byte - 0x80] ?? "\uFFFD");
  return text;
}
