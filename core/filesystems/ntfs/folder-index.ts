import type { ByteSource } from "../../bytes/byte-source";
import { readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { LayoutSource } from "../../bytes/layout";
import type { Geometry } from "./boot-sector";
import { ATTRIBUTE_TYPE, FILE_NAME, INDEX, INDEX_ENTRY, INDEX_HEADER, NAMESPACE } from "./layout";
import { applyFixups, type FileName, type MftRecord, type MftReference, parseFileName, readReference, residentValue } from "./mft-record";
import { type StreamPiece, streamContent } from "./stream-layout";

/** A name in a folder's index. */
export interface IndexName {
  /** The file's record. */
  readonly reference: MftReference;
  readonly name: FileName;
  /** In the index's unused end: the name of a file that was there once. */
  readonly slack: boolean;
}

const MAX_INDEX_BYTES = 1 << 26;
const BLOCK_SIZES = [4096, 1024, 2048, 8192, 16_384, 32_768, 65_536];

/** What a folder's index holds. */
export interface FolderIndex {
  readonly names: readonly IndexName[];
  /** The names the folder has now, in lower case. */
  live(): Set<string>;
}

/** A node of the index with its places worked out. */
interface Node {
  readonly cursor: Cursor;
  readonly first: number;
  readonly end: number;
}

/** Where the name of an entry stands. */
interface Key {
  readonly cursor: Cursor;
  readonly at: number;
  readonly length: number;
}

/**
 * The names in a folder's index (ntfs-3g `layout.h`: INDEX_ROOT, INDEX_ALLOCATION), those in unused ends included.
 * @param settled whether the file a reference means is known already: an entry of it that only repeats the folder's own is left out
 */
export function readFolderIndex(
  folder: MftRecord,
  extensions: readonly MftRecord[],
  disk: ByteSource,
  volumeStart: number,
  geometry: Geometry,
  recordAt: (record: MftRecord) => number,
  settled: (reference: MftReference) => boolean = () => false,
): FolderIndex {
  const nodes = indexNodes(folder, extensions, disk, volumeStart, geometry, recordAt);
  const names: IndexName[] = [];
  // Entries come by the million, and nearly all repeat what a record holds: their names are not even decoded.
  const own = new Map<number, Key>();
  for (const node of nodes)
    for (const at of liveEntries(node)) {
      const reference = readReference(node.cursor, at + INDEX_ENTRY.reference);
      if (settled(reference)) {
        own.set(reference.record, keyOf(node.cursor, at));
        continue;
      }
      const entry = entryAt(node.cursor, at, folder.number, false);
      if (entry) names.push(entry);
    }
  for (const node of nodes) readUnusedEnd(node, folder.number, own, settled, names);
  const live = () => {
    const all = new Set<string>();
    for (const { cursor, at, length } of own.values()) {
      const name = parseFileName(cursor, at, length);
      if (name) all.add(name.name.toLowerCase());
    }
    for (const { slack, name } of names) if (!slack) all.add(name.name.toLowerCase());
    return all;
  };
  return { names, live };
}

function indexNodes(
  folder: MftRecord,
  extensions: readonly MftRecord[],
  disk: ByteSource,
  volumeStart: number,
  geometry: Geometry,
  recordAt: (record: MftRecord) => number,
): Node[] {
  const nodes: Node[] = [];
  const pieces: StreamPiece[] = [];
  let blockSize = 4096;
  for (const record of [folder, ...extensions]) {
    for (const attribute of record.attributes) {
      if (attribute.name !== INDEX.name) continue;
      if (attribute.type === ATTRIBUTE_TYPE.indexRoot && !attribute.nonResident) {
        const { bytes } = residentValue(record, attribute);
        if (bytes.length < INDEX.rootHeader + 16) continue;
        const stated = new Cursor(bytes).u32(INDEX.blockSize);
        if (BLOCK_SIZES.includes(stated)) blockSize = stated;
        nodes.push(nodeOf(new Cursor(bytes), INDEX.rootHeader));
      } else if (attribute.type === ATTRIBUTE_TYPE.indexAllocation && attribute.nonResident) {
        pieces.push({ record, attribute, recordAt: recordAt(record) });
      }
    }
  }
  const content = streamContent(pieces, geometry, volumeStart);
  if (!content) return nodes;
  const bytes = readBytes(new LayoutSource(disk, content.layout), 0, Math.min(content.size, MAX_INDEX_BYTES));
  for (let at = 0; at + blockSize <= bytes.length; at += blockSize) {
    const block = bytes.subarray(at, at + blockSize);
    const cursor = new Cursor(block);
    if (cursor.u32(0) !== INDEX.blockMagic || applyFixups(block) < blockSize) continue;
    nodes.push(nodeOf(cursor, INDEX.blockHeader));
  }
  return nodes;
}

function nodeOf(cursor: Cursor, header: number): Node {
  const first = header + cursor.u32(header + INDEX_HEADER.entriesOffset);
  return { cursor, first, end: Math.min(cursor.size, header + cursor.u32(header + INDEX_HEADER.indexLength)) };
}

/** The places of a node's entries, up to its end. */
function* liveEntries({ cursor, first, end }: Node): Generator<number, void, void> {
  for (let at = first; at + INDEX_ENTRY.key <= end; ) {
    const length = cursor.u16(at + INDEX_ENTRY.length);
    if (length < INDEX_ENTRY.key || at + length > end) return;
    if ((cursor.u16(at + INDEX_ENTRY.flags) & INDEX_ENTRY.last) !== 0) return;
    yield at;
    at += length;
  }
}

const keyOf = (cursor: Cursor, at: number): Key => ({ cursor, at: at + INDEX_ENTRY.key, length: cursor.u16(at + INDEX_ENTRY.keyLength) });

/** What the unused rest of a node still shows. */
function readUnusedEnd(
  { cursor, first, end }: Node,
  folder: number,
  own: ReadonlyMap<number, Key>,
  settled: (reference: MftReference) => boolean,
  into: IndexName[],
): void {
  for (let rest = Math.max(first, end - (end % 8)); rest + INDEX_ENTRY.key + FILE_NAME.name < cursor.size; rest += 8) {
    if (!mayBeEntry(cursor, rest, folder)) continue;
    const reference = readReference(cursor, rest + INDEX_ENTRY.reference);
    const known = settled(reference) ? own.get(reference.record) : undefined;
    // Entries move when a node is split: what is left behind is most often the folder's own entry once more.
    const entry = known && sameName(known, keyOf(cursor, rest)) ? null : entryAt(cursor, rest, folder, true);
    if (entry) into.push(entry);
    else if (!known) continue;
    rest += INDEX_ENTRY.key + cursor.u16(rest + INDEX_ENTRY.keyLength) - 8;
    rest -= rest % 8;
  }
}

/** Whether an entry of this folder may stand at a place: its lengths fit, and it names the folder as its parent. */
function mayBeEntry(cursor: Cursor, at: number, folder: number): boolean {
  const keyLength = cursor.u16(at + INDEX_ENTRY.keyLength);
  const key = at + INDEX_ENTRY.key;
  return keyLength >= FILE_NAME.name + 2 && key + keyLength <= cursor.size && cursor.u32(key) === folder % 4_294_967_296;
}

/** Whether two keys hold the same name in the same namespace. */
function sameName(one: Key, other: Key): boolean {
  if (one.length !== other.length || one.at + one.length > one.cursor.size) return false;
  for (let inside = FILE_NAME.length; inside < one.length; inside += 1)
    if (one.cursor.bytes[one.at + inside] !== other.cursor.bytes[other.at + inside]) return false;
  return true;
}

/** The entry at a place. In unused ends everything must fit together: the parent is this folder, the lengths and times make sense. */
function entryAt(cursor: Cursor, at: number, folder: number, slack: boolean): IndexName | null {
  if (!mayBeEntry(cursor, at, folder)) return null;
  const keyLength = cursor.u16(at + INDEX_ENTRY.keyLength);
  const name = parseFileName(cursor, at + INDEX_ENTRY.key, keyLength);
  if (!name || name.parent.record !== folder || name.namespace === NAMESPACE.dos) return null;
  if (keyLength !== FILE_NAME.name + name.raw.length) return null;
  if (
    slack &&
    (name.namespace > NAMESPACE.win32AndDos ||
      !name.created ||
      !name.modified ||
      cursor.u16(at + INDEX_ENTRY.length) < keyLength + INDEX_ENTRY.key)
  )
    return null;
  return { reference: readReference(cursor, at + INDEX_ENTRY.reference), name: { ...name, raw: name.raw.slice() }, slack };
}
