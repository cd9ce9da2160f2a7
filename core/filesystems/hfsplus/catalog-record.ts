import type { Cursor } from "../../bytes/cursor";
import { decodeUtf16be } from "../../bytes/text";
import {
  CATALOG_KEY,
  CNID,
  DATA_FORK_AT,
  EXTENT_SIZE,
  EXTENTS_AT,
  EXTENTS_IN_RECORD,
  FILE_RECORD,
  FOLDER_RECORD,
  FORK,
  MOST_NAME,
  RECORD_TYPE,
  RESOURCE_FORK_AT,
  THREAD,
} from "./layout";

/** A stretch of a file in allocation blocks. */
export interface Extent {
  readonly start: number;
  readonly count: number;
}

/** What a record says of one fork. */
export interface Fork {
  /** Bytes. */
  readonly size: number;
  readonly blocks: number;
  /** At most eight; further ones stand in the extents overflow file. */
  readonly extents: readonly Extent[];
}

/** The key of a record: in which folder, under which name. */
export interface CatalogKey {
  readonly parent: number;
  /** The name as stored: UTF-16, big-endian. */
  readonly rawName: Uint8Array;
  /** Bytes of the key, its length field included. */
  readonly length: number;
}

/** Fields of a record, under the names that the note gives them. Dates are in Mac time. */
interface CommonFacts {
  readonly createDate: number;
  readonly contentModDate: number;
  readonly attributeModDate: number;
  readonly fileMode: number;
  readonly special: number;
}
export interface FileFacts extends CommonFacts {
  readonly fileID: number;
  readonly adminFlags: number;
  readonly ownerFlags: number;
  readonly fdType: number;
  readonly fdCreator: number;
  readonly fdFlags: number;
}
export interface FolderFacts extends CommonFacts {
  readonly folderID: number;
  readonly valence: number;
}

export interface FileEntry {
  readonly kind: "file";
  readonly facts: FileFacts;
  readonly data: Fork;
  readonly resource: Fork;
  /** Where the record's data stand. */
  readonly stored: { readonly cursor: Cursor; readonly at: number };
}
export interface FolderEntry {
  readonly kind: "folder";
  readonly facts: FolderFacts;
}
export interface ThreadEntry {
  readonly kind: "thread";
  readonly folder: boolean;
  readonly parent: number;
  readonly rawName: Uint8Array;
}
export type CatalogEntry = FileEntry | FolderEntry | ThreadEntry;

/** Reads a fork's sizes and its first extents. */
export function readFork(cursor: Cursor, at: number): Fork {
  return {
    size: cursor.u64be(at + FORK.logicalSize),
    blocks: cursor.u32be(at + FORK.totalBlocks),
    extents: readExtents(cursor, at + EXTENTS_AT),
  };
}

/** Reads the fields of a file's record. One by one, not by a list of them: files come by the million. */
const readFileFacts = (cursor: Cursor, at: number): FileFacts => ({
  fileID: cursor.u32be(at + FILE_RECORD.fileID),
  createDate: cursor.u32be(at + FILE_RECORD.createDate),
  contentModDate: cursor.u32be(at + FILE_RECORD.contentModDate),
  attributeModDate: cursor.u32be(at + FILE_RECORD.attributeModDate),
  adminFlags: cursor.u8(at + FILE_RECORD.adminFlags),
  ownerFlags: cursor.u8(at + FILE_RECORD.ownerFlags),
  fileMode: cursor.u16be(at + FILE_RECORD.fileMode),
  special: cursor.u32be(at + FILE_RECORD.special),
  fdType: cursor.u32be(at + FILE_RECORD.fdType),
  fdCreator: cursor.u32be(at + FILE_RECORD.fdCreator),
  fdFlags: cursor.u16be(at + FILE_RECORD.fdFlags),
});

const readFolderFacts = (cursor: Cursor, at: number): FolderFacts => ({
  valence: cursor.u32be(at + FOLDER_RECORD.valence),
  folderID: cursor.u32be(at + FOLDER_RECORD.folderID),
  createDate: cursor.u32be(at + FOLDER_RECORD.createDate),
  contentModDate: cursor.u32be(at + FOLDER_RECORD.contentModDate),
  attributeModDate: cursor.u32be(at + FOLDER_RECORD.attributeModDate),
  fileMode: cursor.u16be(at + FOLDER_RECORD.fileMode),
  special: cursor.u32be(at + FOLDER_RECORD.special),
});

/** The first block of the data fork of a file's record that begins at a place; 0: it has no content. */
export function firstBlockOf(cursor: Cursor, at: number): number {
  const extent = at + DATA_FORK_AT + EXTENTS_AT;
  return cursor.u32be(extent + 4) === 0 ? 0 : cursor.u32be(extent);
}

/** Reads up to eight extents; an empty one ends them. */
export function readExtents(cursor: Cursor, at: number): Extent[] {
  const found: Extent[] = [];
  for (let index = 0; index < EXTENTS_IN_RECORD; index += 1) {
    const count = cursor.u32be(at + index * EXTENT_SIZE + 4);
    if (count === 0) break;
    found.push({ start: cursor.u32be(at + index * EXTENT_SIZE), count });
  }
  return found;
}

/** The bytes of a key that begins at `at` and must end before `to`, its length field included; 0: there is none. */
export function keyLength(cursor: Cursor, at: number, to: number): number {
  if (at + 2 + CATALOG_KEY.smallest > to) return 0;
  const length = cursor.u16be(at) + 2;
  const characters = cursor.u16be(at + CATALOG_KEY.nameLength);
  return characters > MOST_NAME || length !== CATALOG_KEY.name + 2 * characters || at + length > to ? 0 : length;
}

/** Reads a key that begins at `at` and must end before `to`; null: there is none. */
export function readKey(cursor: Cursor, at: number, to: number): CatalogKey | null {
  const length = keyLength(cursor, at, to);
  if (length === 0) return null;
  return {
    parent: cursor.u32be(at + CATALOG_KEY.parentID),
    rawName: cursor.slice(at + CATALOG_KEY.name, length - CATALOG_KEY.name),
    length,
  };
}

/** Reads the data of a record that begins at `at` and must end before `to`; null: it is none, or it breaks off. */
export function readEntry(cursor: Cursor, at: number, to: number): CatalogEntry | null {
  if (at + 2 > to) return null;
  const type = cursor.u16be(at);
  if (type === RECORD_TYPE.file) {
    if (at + FILE_RECORD.size > to) return null;
    const [data, resource] = [readFork(cursor, at + DATA_FORK_AT), readFork(cursor, at + RESOURCE_FORK_AT)];
    return { kind: "file", facts: readFileFacts(cursor, at), data, resource, stored: { cursor, at } };
  }
  if (type === RECORD_TYPE.folder) {
    if (at + FOLDER_RECORD.size > to) return null;
    return { kind: "folder", facts: readFolderFacts(cursor, at) };
  }
  if (type !== RECORD_TYPE.folderThread && type !== RECORD_TYPE.fileThread) return null;
  if (at + THREAD.name > to) return null;
  const characters = cursor.u16be(at + THREAD.nameLength);
  if (characters > MOST_NAME || at + THREAD.name + 2 * characters > to) return null;
  return {
    kind: "thread",
    folder: type === RECORD_TYPE.folderThread,
    parent: cursor.u32be(at + THREAD.parentID),
    rawName: cursor.slice(at + THREAD.name, 2 * characters),
  };
}

/** Dates outside 1970 … 2106 in Mac time do not occur; zero is "not set". */
const plausibleDate = (seconds: number) => seconds === 0 || seconds >= 2_082_844_800;

/** Whether a fork could be one of a volume of so many blocks. */
function plausibleFork(cursor: Cursor, at: number, fork: Fork, totalBlocks: number, blockSize: number): boolean {
  if (fork.size > fork.blocks * blockSize || fork.blocks > totalBlocks) return false;
  let blocks = 0;
  for (let index = 0; index < EXTENTS_IN_RECORD; index += 1) {
    const start = cursor.u32be(at + EXTENTS_AT + index * EXTENT_SIZE);
    const count = cursor.u32be(at + EXTENTS_AT + index * EXTENT_SIZE + 4);
    // Behind the last extent there is nothing.
    if (index >= fork.extents.length && (count !== 0 || start !== 0)) return false;
    if (start + count > totalBlocks) return false;
    blocks += count;
  }
  return blocks === fork.blocks || (blocks < fork.blocks && fork.extents.length === EXTENTS_IN_RECORD);
}

/** Whether what was read where no record need be could be one. */
export function isPlausible(entry: CatalogEntry, volume: { readonly totalBlocks: number; readonly blockSize: number }): boolean {
  if (entry.kind === "thread") return entry.parent >= CNID.root && entry.rawName.length > 0;
  const { facts } = entry;
  const [created, modified, changed] = [facts.createDate, facts.contentModDate, facts.attributeModDate];
  if (![created, modified, changed].every(plausibleDate) || (created === 0 && modified === 0)) return false;
  if (entry.kind === "folder") return entry.facts.folderID >= CNID.firstUser && entry.facts.valence < 2 ** 28;
  if (entry.facts.fileID < CNID.firstUser) return false;
  const { cursor, at } = entry.stored;
  return (
    plausibleFork(cursor, at + DATA_FORK_AT, entry.data, volume.totalBlocks, volume.blockSize) &&
    plausibleFork(cursor, at + RESOURCE_FORK_AT, entry.resource, volume.totalBlocks, volume.blockSize)
  );
}

/** Whether all characters of a stored name are below U+0300, and none is a slash or zero: nothing of it is shown otherwise than it is stored. */
function isPlain(rawName: Uint8Array): boolean {
  for (let at = 0; at + 1 < rawName.length; at += 2) {
    const [high, low] = [rawName[at] as number, rawName[at + 1] as number];
    if (high > 2 || (high === 0 && (low === 0 || low === SLASH))) return false;
  }
  return true;
}

const SLASH = 0x2f;

/** A stored name as a Mac's shell shows it: composed, a slash as a colon (and stored zeros as U+FFFD). */
export function shownName(rawName: Uint8Array): string {
  const name = decodeUtf16be(rawName);
  if (isPlain(rawName)) return name;
  const safe = /[/\0]/.test(name) ? name.replaceAll("/", ":").replaceAll("\0", "\uFFFD") : name;
  return /[^\0-\u02ff]/.test(safe) ? safe.normalize("NFC") : safe;
}
