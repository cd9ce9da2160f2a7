import { Cursor } from "../../bytes/cursor";
import { decodeUtf16le, pathComponent } from "../../bytes/text";
import { dosTimeToMs } from "../../bytes/times";
import { marksOfAttributes } from "../file-record";
import type { TreeEntry } from "../folder-entry";
import { ATTRIBUTE, ENTRY, LONG, SMALL } from "./layout";

export interface DirectoryContent {
  readonly entries: readonly TreeEntry[];
  readonly label: string | null;
}

/** Reads the entries of a folder up to its end mark. `highWords`: FAT32, whose first clusters have 32 bits. */
export function readDirectory(bytes: Uint8Array, highWords: boolean): DirectoryContent {
  const cursor = new Cursor(bytes);
  const entries: TreeEntry[] = [];
  let label: string | null = null;
  let long: number[] = [];
  for (let at = 0; at + ENTRY.size <= bytes.length; at += ENTRY.size) {
    const first = cursor.u8(at);
    if (first === ENTRY.endMark) break;
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
  }
  return { entries, label };
}

function namedSoundly(short: Uint8Array): boolean {
  for (let i = 1; i < short.length; i += 1) if ((short[i] as number) < 0x20) return false;
  return true;
}

function readEntry(cursor: Cursor, at: number, parts: readonly number[], highWords: boolean): TreeEntry | null {
  const short = cursor.slice(at, ENTRY.nameBytes);
  const attributes = cursor.u8(at + ENTRY.attributes);
  // Bits 6 and 7 are reserved and zero; names below the space do not occur: what has them is no entry.
  if ((attributes & 0xc0) !== 0 || !namedSoundly(short)) return null;
  const deleted = short[0] === ENTRY.deletedMark;
  const long = longName(cursor, parts, short, deleted);
  const notes: string[] = [];
  if (deleted && !long) notes.push("The first letter of its name is lost; “_” stands in its place.");
  const directory = (attributes & ATTRIBUTE.directory) !== 0;
  const high = highWords ? cursor.u16(at + ENTRY.clusterHigh) : 0;
  return {
    ...(deleted && !long ? { incompleteName: true } : {}),
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
function longName(cursor: Cursor, parts: readonly number[], short: Uint8Array, deleted: boolean): { name: string; raw: Uint8Array } | null {
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
  return { name: decodeUtf16le(raw), raw };
}

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
