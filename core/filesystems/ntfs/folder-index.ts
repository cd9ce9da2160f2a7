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

/** The names in a folder's index (ntfs-3g `layout.h`: INDEX_ROOT, INDEX_ALLOCATION), those in unused ends included. */
export function indexNames(
  folder: MftRecord,
  extensions: readonly MftRecord[],
  disk: ByteSource,
  volumeStart: number,
  geometry: Geometry,
  recordAt: (record: MftRecord) => number,
): IndexName[] {
  const found: IndexName[] = [];
  const pieces: StreamPiece[] = [];
  let blockSize = 4096;
  for (const record of [folder, ...extensions]) {
    for (const attribute of record.attributes) {
      if (attribute.name !== INDEX.name) continue;
      if (attribute.type === ATTRIBUTE_TYPE.indexRoot && !attribute.nonResident) {
        const { bytes } = residentValue(record, attribute);
        if (bytes.length < INDEX.rootHeader + 16) continue;
        const told = new Cursor(bytes).u32(INDEX.blockSize);
        if (BLOCK_SIZES.includes(told)) blockSize = told;
        readNode(bytes, INDEX.rootHeader, folder.number, found);
      } else if (attribute.type === ATTRIBUTE_TYPE.indexAllocation && attribute.nonResident) {
        pieces.push({ record, attribute, recordAt: recordAt(record) });
      }
    }
  }
  const content = streamContent(pieces, geometry, volumeStart);
  if (!content) return found;
  const source = new LayoutSource(disk, content.layout);
  const length = Math.min(content.size, MAX_INDEX_BYTES);
  for (let at = 0; at + blockSize <= length; at += blockSize) {
    const block = readBytes(source, at, blockSize);
    if (new Cursor(block).u32(0) !== INDEX.blockMagic || applyFixups(block) < blockSize) continue;
    readNode(block, INDEX.blockHeader, folder.number, found);
  }
  return found;
}

/** The entries of one node up to its end, then what its unused rest still shows. */
function readNode(bytes: Uint8Array, header: number, folder: number, into: IndexName[]): void {
  const cursor = new Cursor(bytes);
  const first = header + cursor.u32(header + INDEX_HEADER.entriesOffset);
  const end = Math.min(bytes.length, header + cursor.u32(header + INDEX_HEADER.indexLength));
  let at = first;
  while (at + INDEX_ENTRY.key <= end) {
    const length = cursor.u16(at + INDEX_ENTRY.length);
    if (length < INDEX_ENTRY.key || at + length > end) break;
    if ((cursor.u16(at + INDEX_ENTRY.flags) & INDEX_ENTRY.last) !== 0) break;
    const entry = entryAt(cursor, at, folder, false);
    if (entry) into.push(entry);
    at += length;
  }
  for (let rest = Math.max(first, end - (end % 8)); rest + INDEX_ENTRY.key + FILE_NAME.name < bytes.length; rest += 8) {
    const entry = entryAt(cursor, rest, folder, true);
    if (!entry) continue;
    into.push(entry);
    rest += INDEX_ENTRY.key + FILE_NAME.name + entry.name.raw.length - 8;
    rest -= rest % 8;
  }
}

/** The entry at a place. In unused ends everything must fit together: the parent is this folder, the lengths and times make sense. */
function entryAt(cursor: Cursor, at: number, folder: number, slack: boolean): IndexName | null {
  const keyLength = cursor.u16(at + INDEX_ENTRY.keyLength);
  const key = at + INDEX_ENTRY.key;
  if (keyLength < FILE_NAME.name + 2 || key + keyLength > cursor.size) return null;
  if (cursor.u32(key) !== folder % 4_294_967_296) return null;
  const name = parseFileName(cursor, key, keyLength);
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
