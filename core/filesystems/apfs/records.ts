import type { Cursor } from "../../bytes/cursor";
import { pathComponent } from "../../bytes/text";
import {
  ATTRIBUTE,
  ATTRIBUTE_FLAG,
  ATTRIBUTE_STREAM,
  ENTRY,
  ENTRY_KIND,
  EXTENT,
  FIELD_TYPE,
  HASHED_LENGTH,
  INODE,
  KEY_SIZE,
} from "./layout";
import type { Compare, Stretch, TreeNode } from "./tree";

const utf8 = new TextDecoder();

/** The number of a key (`j_key_t`): what the record belongs to. */
export const numberOf = ({ cursor, keys }: TreeNode, index: number): number => {
  const { at } = keys[index] as Stretch;
  return (cursor.u32(at + 4) & 0x0fff_ffff) * 4_294_967_296 + cursor.u32(at);
};

/** The type of a key. */
export const typeOf = ({ cursor, keys }: TreeNode, index: number): number => cursor.u32((keys[index] as Stretch).at + 4) >>> 28;

/** Compares keys with a number, all types alike. */
export const byNumber =
  (number: number): Compare =>
  (node, index) =>
    numberOf(node, index) - number;

/** A name as a Mac's shell shows it: UTF-8, composed, a slash as a colon. */
export function shownName(raw: Uint8Array): string {
  const end = raw.indexOf(0);
  const name = utf8.decode(end < 0 ? raw : raw.subarray(0, end));
  const shown = name.includes("/") ? name.replaceAll("/", ":") : name;
  return pathComponent(/[^\0-\u02ff]/.test(shown) ? shown.normalize("NFC") : shown);
}

export interface Inode {
  readonly facts: ReturnType<typeof INODE.read>;
  readonly name: Uint8Array | null;
  /** Bytes of the content; null: the record gives none (a folder, a compressed file). */
  readonly size: number | null;
}

/** Reads `j_inode_val_t` with the extended fields that matter; null: it breaks off. */
export function parseInode({ cursor, values }: TreeNode, index: number): Inode | null {
  const { at, length } = values[index] as Stretch;
  if (length < INODE.size) return null;
  const facts = INODE.read(cursor, at);
  let name: Uint8Array | null = null;
  let size: number | null = null;
  for (const { type, data } of extendedFields(cursor, at + INODE.size, at + length)) {
    if (type === FIELD_TYPE.name) name = cursor.slice(data.at, data.length);
    else if (type === FIELD_TYPE.dataStream && data.length >= 8) size = cursor.u64(data.at);
  }
  return { facts, name, size };
}

/** Whether an inode's record is whole and has no name in it: then a folder's entry alone knows that. */
export function isNameless({ cursor, values }: TreeNode, index: number): boolean {
  const { at, length } = values[index] as Stretch;
  if (length < INODE.size) return false;
  for (const { type } of extendedFields(cursor, at + INODE.size, at + length)) if (type === FIELD_TYPE.name) return false;
  return true;
}

/** Reads the fields behind a fixed record (`xf_blob_t`): each padded to eight bytes. */
function* extendedFields(cursor: Cursor, at: number, to: number): Generator<{ type: number; data: Stretch }, void, void> {
  if (at + 4 > to) return;
  const count = cursor.u16(at);
  let place = at + 4 + count * 4;
  for (let index = 0; index < count; index += 1) {
    const field = at + 4 + index * 4;
    if (field + 4 > to) return;
    const length = cursor.u16(field + 2);
    if (place + length > to) return;
    yield { type: cursor.u8(field), data: { at: place, length } };
    place += Math.ceil(length / 8) * 8;
  }
}

export interface Entry {
  readonly name: Uint8Array;
  readonly fileId: number;
  readonly folder: boolean;
}

/** Reads a folder's entry (`j_drec_val_t`). @param hashed whether keys carry a hash of the name */
export function parseEntry({ cursor, keys, values }: TreeNode, index: number, hashed: boolean): Entry | null {
  const key = keys[index] as Stretch;
  const value = values[index] as Stretch;
  const name = nameIn(cursor, key, KEY_SIZE, hashed);
  if (!name || value.length < ENTRY.size) return null;
  const { fileId, flags } = ENTRY.read(cursor, value.at);
  return { name, fileId, folder: (flags & ENTRY_KIND.mask) === ENTRY_KIND.folder };
}

/** Whether the key of a folder's entry carries a hash of the name, by its length; null: both may be. */
export function isHashed({ cursor, keys }: TreeNode, index: number): boolean | null {
  const { at, length } = keys[index] as Stretch;
  if (length < KEY_SIZE + 4) return null;
  const hashed = KEY_SIZE + 4 + (cursor.u32(at + KEY_SIZE) & HASHED_LENGTH) === length;
  const plain = KEY_SIZE + 2 + cursor.u16(at + KEY_SIZE) === length;
  return hashed === plain ? null : hashed;
}

/** A name that ends in zero, with its length before it. */
function nameIn(cursor: Cursor, { at, length }: Stretch, from: number, hashed: boolean): Uint8Array | null {
  const width = hashed ? 4 : 2;
  if (length < from + width) return null;
  const bytes = hashed ? cursor.u32(at + from) & HASHED_LENGTH : cursor.u16(at + from);
  if (bytes === 0 || from + width + bytes > length) return null;
  const name = cursor.slice(at + from + width, bytes);
  return name.at(-1) === 0 ? name.subarray(0, -1) : name;
}

export interface AttributeRecord {
  readonly name: string;
  /** Bytes kept in the record, and where they stand in the node; null: they stand in a data stream. */
  readonly held: { readonly bytes: Uint8Array; readonly at: number } | null;
  readonly stream: { readonly id: number; readonly size: number } | null;
}

export function parseAttribute({ cursor, keys, values }: TreeNode, index: number): AttributeRecord | null {
  const rawName = nameIn(cursor, keys[index] as Stretch, KEY_SIZE, false);
  const value = values[index] as Stretch;
  if (!rawName || value.length < ATTRIBUTE.size) return null;
  const name = utf8.decode(rawName);
  const { flags, length } = ATTRIBUTE.read(cursor, value.at);
  const at = value.at + ATTRIBUTE.size;
  if ((flags & ATTRIBUTE_FLAG.stream) !== 0) {
    if (value.length < ATTRIBUTE.size + ATTRIBUTE_STREAM.size) return null;
    const { streamId, size } = ATTRIBUTE_STREAM.read(cursor, at);
    return { name, held: null, stream: { id: streamId, size } };
  }
  const bytes = cursor.slice(at, Math.min(length, value.length - ATTRIBUTE.size)).slice();
  return { name, held: { bytes, at }, stream: null };
}

/** A stretch of a data stream. */
export interface Extent {
  /** Bytes from the stream's beginning. */
  readonly logical: number;
  readonly length: number;
  /** First block; 0: a hole. */
  readonly block: number;
}

/** Reads `j_file_extent_val_t`. */
export function parseExtent({ cursor, keys, values }: TreeNode, index: number): Extent | null {
  const key = keys[index] as Stretch;
  const value = values[index] as Stretch;
  if (key.length < KEY_SIZE + 8 || value.length < EXTENT.size - 8) return null;
  const length = (cursor.u32(value.at + 4) & 0x00ff_ffff) * 4_294_967_296 + cursor.u32(value.at);
  return { logical: cursor.u64(key.at + KEY_SIZE), length, block: cursor.u64(value.at + 8) };
}

/** One of several names of a file (`j_sibling_val_t`). The name is a copy: siblings are kept beyond their node. */
export function parseSibling({ cursor, values }: TreeNode, index: number): { readonly parentId: number; readonly name: Uint8Array } | null {
  const { at, length } = values[index] as Stretch;
  if (length < 10) return null;
  const bytes = cursor.u16(at + 8);
  if (bytes === 0 || 10 + bytes > length) return null;
  const name = cursor.slice(at + 10, bytes).slice();
  return { parentId: cursor.u64(at), name: name.at(-1) === 0 ? name.subarray(0, -1) : name };
}
