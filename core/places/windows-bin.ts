import { Cursor } from "../bytes/cursor";
import { decodeUtf16le } from "../bytes/text";
import { filetimeToMs } from "../bytes/times";

/** What the bin noted of a file that was put into it. */
export interface BinRecord {
  /** Where it was, for instance `C:\folder\name.ext`. */
  readonly original: string;
  /** Bytes; of a folder, of all that was in it. */
  readonly size: number;
  /** UTC milliseconds. */
  readonly deletedAt: number | null;
}

/** The record beside each content, since 2006 (common practice; the layout is from memory, no published source). */
const RECORD = { version: 0, size: 8, deleted: 16, path: 24, fixedChars: 260, length: 24, pathV2: 28 } as const;
const LONGEST_PATH = 32_767;

/** Reads a paired record, version 1 (a path field of fixed length) or 2 (its length before it). @returns null when it is none */
export function readBinRecord(bytes: Uint8Array): BinRecord | null {
  if (bytes.length < RECORD.pathV2 + 2) return null;
  const cursor = new Cursor(bytes);
  const version = cursor.u64(RECORD.version);
  if (version !== 1 && version !== 2) return null;
  const start = version === 1 ? RECORD.path : RECORD.pathV2;
  const chars = version === 1 ? RECORD.fixedChars : cursor.u32(RECORD.length);
  if (chars === 0 || chars > LONGEST_PATH) return null;
  const original = zeroEnded(bytes.subarray(start, Math.min(bytes.length, start + chars * 2)));
  if (!/^(?:[A-Za-z]:|\\)\\/.test(original)) return null;
  const size = cursor.u64(RECORD.size);
  return {
    original,
    size: size <= Number.MAX_SAFE_INTEGER ? size : 0,
    deletedAt: filetimeToMs(cursor.u32(RECORD.deleted), cursor.u32(RECORD.deleted + 4)),
  };
}

/** The single index file of older bins: a header, then records of one length (from memory, no published source). */
const INDEX = {
  header: 20,
  recordSize: 12,
  sizes: [280, 800],
  number: 260,
  drive: 264,
  deleted: 268,
  fileSize: 276,
  wide: 280,
} as const;
const MOST_RECORDS = 100_000;

/** A record of the older index, with the name its content has in the bin (without extension): `D`, the drive's letter, a number. */
export interface IndexedBinRecord extends BinRecord {
  readonly held: string;
}

/** Reads the index of an older bin. A record whose file was put back or removed has lost the first letter of its short path. */
export function readBinIndex(bytes: Uint8Array): IndexedBinRecord[] {
  if (bytes.length < INDEX.header) return [];
  const cursor = new Cursor(bytes);
  const size = cursor.u32(INDEX.recordSize);
  if (!(INDEX.sizes as readonly number[]).includes(size)) return [];
  const found: IndexedBinRecord[] = [];
  for (let at: number = INDEX.header; at + size <= bytes.length && found.length < MOST_RECORDS; at += size) {
    const drive = cursor.u32(at + INDEX.drive);
    if (drive > 25) continue;
    const letter = String.fromCharCode(0x61 + drive);
    const wide = size > INDEX.sizes[0] ? zeroEnded(cursor.slice(at + INDEX.wide, size - INDEX.wide)) : "";
    const short = shortPath(cursor.slice(at, INDEX.number), letter);
    const original = /^[A-Za-z]:\\/.test(wide) ? wide : short;
    if (!/^[A-Za-z]:\\/.test(original)) continue;
    found.push({
      held: `D${letter}${cursor.u32(at + INDEX.number)}`,
      original,
      size: cursor.u32(at + INDEX.fileSize),
      deletedAt: filetimeToMs(cursor.u32(at + INDEX.deleted), cursor.u32(at + INDEX.deleted + 4)),
    });
  }
  return found;
}

const ansi = new TextDecoder("windows-1252");

function shortPath(raw: Uint8Array, letter: string): string {
  const bytes = raw.slice();
  if (bytes[0] === 0) bytes[0] = letter.toUpperCase().charCodeAt(0);
  const end = bytes.indexOf(0);
  return ansi.decode(bytes.subarray(0, end < 0 ? bytes.length : end));
}

function zeroEnded(bytes: Uint8Array): string {
  const text = decodeUtf16le(bytes);
  const end = text.indexOf("\0");
  return end < 0 ? text : text.slice(0, end);
}
