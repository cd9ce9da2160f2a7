import { Cursor } from "../../bytes/cursor";
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

export interface FileEntry {
  readonly kind: "file";
  readonly facts: ReturnType<typeof FILE_RECORD.read>;
  readonly data: Fork;
  readonly resource: Fork;
  /** The record's data. */
  readonly bytes: Uint8Array;
}
export interface FolderEntry {
  readonly kind: "folder";
  readonly facts: ReturnType<typeof FOLDER_RECORD.read>;
  readonly bytes: Uint8Array;
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
  const { logicalSize, totalBlocks } = FORK.read(cursor, at);
  return { size: logicalSize, blocks: totalBlocks, extents: readExtents(cursor, at + EXTENTS_AT) };
}

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
    const bytes = cursor.slice(at, FILE_RECORD.size);
    const [data, resource] = [readFork(cursor, at + DATA_FORK_AT), readFork(cursor, at + RESOURCE_FORK_AT)];
    return { kind: "file", facts: FILE_RECORD.read(cursor, at), data, resource, bytes };
  }
  if (type === RECORD_TYPE.folder) {
    if (at + FOLDER_RECORD.size > to) return null;
    return { kind: "folder", facts: FOLDER_RECORD.read(cursor, at), bytes: cursor.slice(at, FOLDER_RECORD.size) };
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
  const cursor = new Cursor(entry.bytes);
  return (
    plausibleFork(cursor, DATA_FORK_AT, entry.data, volume.totalBlocks, volume.blockSize) &&
    plausibleFork(cursor, RESOURCE_FORK_AT, entry.resource, volume.totalBlocks, volume.blockSize)
  );
}

/** A stored name as a Mac's shell shows it: composed, a slash as a colon (and stored zeros as U+FFFD). */
export function shownName(rawName: Uint8Array): string {
  const name = decodeUtf16be(rawName);
  const safe = /[/\0]/.test(name) ? name.replaceAll("/", ":").replaceAll("\0", "\uFFFD") : name;
  return /[^\0-\u02ff]/.test(safe) ? safe.normalize("NFC") : safe;
}
