import { Cursor } from "../../bytes/cursor";
import { decodeUtf16le, pathComponent } from "../../bytes/text";
import { filetimeToMs } from "../../bytes/times";
import { ATTRIBUTE, ATTRIBUTE_TYPE, FILE_NAME, FIXUP_STRIDE, NAMESPACE, RECORD, RECORD_FLAG, STANDARD } from "./layout";

/** A record holds at most a few dozen attributes; a damaged one may claim thousands of tiny ones. */
const MAX_ATTRIBUTES = 512;

export interface MftReference {
  readonly record: number;
  readonly sequence: number;
}

/** One attribute; the offsets are inside its record, the lengths are checked to lie in it. */
export interface Attribute {
  readonly type: number;
  readonly name: string;
  readonly flags: number;
  readonly nonResident: boolean;
  /** Offset of the attribute in the record. */
  readonly at: number;
  readonly length: number;
}

export interface MftRecord {
  readonly number: number;
  /** Disk byte offset where it was found; 0 for one of the present table, which knows its places itself. */
  readonly at: number;
  readonly sequence: number;
  readonly inUse: boolean;
  readonly directory: boolean;
  /** The record this one extends; null for a base record. */
  readonly base: MftReference | null;
  readonly cursor: Cursor;
  readonly attributes: readonly Attribute[];
  readonly bytesInUse: number;
  /** What was wrong with the record, in plain words. */
  readonly notes: readonly string[];
}

export interface FileName {
  readonly parent: MftReference;
  readonly namespace: number;
  readonly name: string;
  readonly raw: Uint8Array;
  readonly created: number | null;
  readonly modified: number | null;
  /** As the folder's entry gave it last; bytes. */
  readonly size: number;
  readonly directory: boolean;
}

export function readReference(cursor: Cursor, at: number): MftReference {
  return { record: cursor.u32(at) + cursor.u16(at + 4) * 4_294_967_296, sequence: cursor.u16(at + 6) };
}

/**
 * Puts back the bytes the update sequence replaced at the end of each 512 bytes, in place.
 * @returns how many bytes from the start are sound: less than the whole when a write of the record was cut short
 */
export function applyFixups(bytes: Uint8Array): number {
  const cursor = new Cursor(bytes);
  const usaOffset = cursor.u16(RECORD.usaOffset);
  const strides = cursor.u16(RECORD.usaCount) - 1;
  if (strides < 1 || usaOffset + 2 * (strides + 1) > bytes.length || strides * FIXUP_STRIDE > bytes.length) return 0;
  const mark = cursor.u16(usaOffset);
  let sound = 0;
  for (let stride = 0; stride < strides; stride += 1) {
    const end = (stride + 1) * FIXUP_STRIDE;
    if (cursor.u16(end - 2) !== mark) return sound;
    bytes[end - 2] = bytes[usaOffset + 2 + 2 * stride] as number;
    bytes[end - 1] = bytes[usaOffset + 3 + 2 * stride] as number;
    sound = end;
  }
  return sound;
}

/**
 * Reads one MFT record. `bytes` is changed (fix-ups) and kept by the result.
 * @returns null when there is no FILE record here (never used, or overwritten)
 */
export function parseMftRecord(bytes: Uint8Array, number: number, at = 0): MftRecord | null {
  const cursor = new Cursor(bytes);
  if (cursor.u32(RECORD.magic) !== RECORD.magicValue) return null;
  const notes: string[] = [];
  const sound = applyFixups(bytes);
  if (sound < FIXUP_STRIDE) return null;
  if (sound < bytes.length) notes.push(`Only the first ${sound} of the ${bytes.length} bytes of the file record are sound.`);
  const flags = cursor.u16(RECORD.flags);
  const base = readReference(cursor, RECORD.baseMftRecord);
  const bytesInUse = cursor.u32(RECORD.bytesInUse);
  const attributes = readAttributes(cursor, cursor.u16(RECORD.attrsOffset), Math.min(sound, bytesInUse), notes);
  return {
    number,
    at,
    sequence: cursor.u16(RECORD.sequenceNumber),
    inUse: (flags & RECORD_FLAG.inUse) !== 0,
    directory: (flags & RECORD_FLAG.isDirectory) !== 0,
    base: base.record === 0 && base.sequence === 0 ? null : base,
    cursor,
    attributes,
    bytesInUse: Math.min(bytesInUse, sound),
    notes,
  };
}

function readAttributes(cursor: Cursor, start: number, limit: number, notes: string[]): Attribute[] {
  const attributes: Attribute[] = [];
  let at = start;
  while (at + 4 <= limit && attributes.length < MAX_ATTRIBUTES) {
    const type = cursor.u32(at);
    if (type === ATTRIBUTE_TYPE.end) return attributes;
    const attribute = readAttribute(cursor, at, limit);
    if (!attribute) {
      notes.push(`The file record is damaged at byte ${at}; what stood before it was used.`);
      return attributes;
    }
    attributes.push(attribute);
    at += attribute.length;
  }
  return attributes;
}

/** One attribute at `at`, or null when its lengths cannot be. */
function readAttribute(cursor: Cursor, at: number, limit: number): Attribute | null {
  if (at + ATTRIBUTE.residentHeader > limit) return null;
  const type = cursor.u32(at);
  const length = cursor.u32(at + ATTRIBUTE.length);
  const nonResident = cursor.u8(at + ATTRIBUTE.nonResident) !== 0;
  const header = nonResident ? ATTRIBUTE.nonResidentHeader : ATTRIBUTE.residentHeader;
  if (type === 0 || type % 0x10 !== 0 || length < header || length % 8 !== 0 || at + length > limit) return null;
  const nameLength = cursor.u8(at + ATTRIBUTE.nameLength) * 2;
  const nameOffset = cursor.u16(at + ATTRIBUTE.nameOffset);
  if (nameLength > 0 && nameOffset + nameLength > length) return null;
  if (!nonResident) {
    const valueEnd = cursor.u16(at + ATTRIBUTE.valueOffset) + cursor.u32(at + ATTRIBUTE.valueLength);
    if (valueEnd > length) return null;
  } else if (cursor.u16(at + ATTRIBUTE.mappingPairsOffset) > length) {
    return null;
  }
  return {
    type,
    name: nameLength > 0 ? decodeUtf16le(cursor.slice(at + nameOffset, nameLength)) : "",
    flags: cursor.u16(at + ATTRIBUTE.flags),
    nonResident,
    at,
    length,
  };
}

/** The value of a resident attribute. */
export function residentValue(record: MftRecord, attribute: Attribute): { at: number; bytes: Uint8Array } {
  const { at, length } = valuePlace(record.cursor, attribute);
  return { at, bytes: record.cursor.slice(at, length) };
}

export function readTime(cursor: Cursor, at: number): number | null {
  return filetimeToMs(cursor.u32(at), cursor.u32(at + 4));
}

/** The `$FILE_NAME` value of `length` bytes at a place, or null when it is cut short. Read in place: names come by the million. */
export function parseFileName(cursor: Cursor, at: number, length: number): FileName | null {
  if (length < FILE_NAME.name || at + length > cursor.size) return null;
  const bytes = cursor.u8(at + FILE_NAME.length) * 2;
  if (bytes === 0 || FILE_NAME.name + bytes > length) return null;
  const raw = cursor.slice(at + FILE_NAME.name, bytes);
  return {
    parent: readReference(cursor, at + FILE_NAME.parent),
    namespace: cursor.u8(at + FILE_NAME.namespace),
    name: pathComponent(decodeUtf16le(raw)),
    raw,
    created: readTime(cursor, at + FILE_NAME.created),
    modified: readTime(cursor, at + FILE_NAME.modified),
    size: cursor.u64(at + FILE_NAME.dataSize),
    directory: (cursor.u32(at + FILE_NAME.flags) & FILE_NAME.directoryFlag) !== 0,
  };
}

/** Where the value of a resident attribute stands in its record. */
function valuePlace(cursor: Cursor, attribute: Attribute): { at: number; length: number } {
  return { at: attribute.at + cursor.u16(attribute.at + ATTRIBUTE.valueOffset), length: cursor.u32(attribute.at + ATTRIBUTE.valueLength) };
}

export function fileNames(record: MftRecord): FileName[] {
  const names: FileName[] = [];
  for (const attribute of record.attributes) {
    if (attribute.type !== ATTRIBUTE_TYPE.fileName || attribute.nonResident) continue;
    const { at, length } = valuePlace(record.cursor, attribute);
    const name = parseFileName(record.cursor, at, length);
    if (name) names.push(name);
  }
  return names;
}

/**
 * `$FILE_NAME` attributes left in the unused end of a record. When a file with an attribute list is deleted, its
 * name is taken out of the extension record and stands only there; the end mark may have been written over the
 * attribute's type and length, so these are not asked for: the rest must fit together.
 */
export function fileNamesInSlack(record: MftRecord): FileName[] {
  const found: FileName[] = [];
  const { cursor } = record;
  const start = Math.max(RECORD.headerSize, (record.bytesInUse & ~7) - 8);
  for (let at = start; at + ATTRIBUTE.residentHeader + FILE_NAME.name < cursor.size; at += 8) {
    const length = cursor.u32(at + ATTRIBUTE.valueLength);
    const valueAt = at + cursor.u16(at + ATTRIBUTE.valueOffset);
    if (cursor.u16(at + ATTRIBUTE.valueOffset) !== ATTRIBUTE.residentHeader || valueAt + length > cursor.size) continue;
    const name = parseFileName(cursor, valueAt, length);
    if (name && length === FILE_NAME.name + name.raw.length && name.namespace <= NAMESPACE.win32AndDos && name.created) found.push(name);
  }
  return found;
}

/** The file's attributes ([MS-FSCC] 2.6), from `$STANDARD_INFORMATION`; 0 where it has none. */
export function fileAttributes(record: MftRecord): number {
  const attribute = record.attributes.find((each) => each.type === ATTRIBUTE_TYPE.standardInformation && !each.nonResident);
  if (!attribute) return 0;
  const { at, length } = valuePlace(record.cursor, attribute);
  return length < STANDARD.smallestSize ? 0 : record.cursor.u32(at + STANDARD.attributes);
}

/** Creation, change of content and change of the record, from `$STANDARD_INFORMATION`; null where not set. */
export function standardTimes(record: MftRecord): { created: number | null; modified: number | null; mftChanged: number | null } | null {
  const attribute = record.attributes.find((each) => each.type === ATTRIBUTE_TYPE.standardInformation && !each.nonResident);
  if (!attribute) return null;
  const { cursor } = record;
  const { at, length } = valuePlace(cursor, attribute);
  if (length < STANDARD.smallestSize) return null;
  return {
    created: readTime(cursor, at + STANDARD.created),
    modified: readTime(cursor, at + STANDARD.modified),
    mftChanged: readTime(cursor, at + STANDARD.mftChanged),
  };
}
