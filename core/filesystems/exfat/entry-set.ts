import { Cursor } from "../../bytes/cursor";
import { marksOfAttributes } from "../../bytes/file-marks";
import { decodeUtf16le, pathComponent } from "../../bytes/text";
import { dosTimeToMs } from "../../bytes/times";
import type { TreeEntry } from "../folder-entry";
import { BITMAP, ENTRY_SIZE, FILE, LABEL, NAME, STREAM, TYPE } from "./layout";

/** A name has at most 255 units, which take seventeen entries. */
const MOST_SECONDARIES = 18;

/** One of the file system's own tables (7.1 Allocation Bitmap, 7.2 Up-case Table). Bytes. */
export interface Allocated {
  readonly firstCluster: number;
  readonly length: number;
}

export interface ExfatDirectory {
  readonly entries: readonly TreeEntry[];
  readonly label: string | null;
  readonly bitmap: Allocated | null;
  readonly upcase: Allocated | null;
}

/** Reads the entry sets of a folder up to its end mark, the deleted ones too. */
export function readExfatDirectory(bytes: Uint8Array): ExfatDirectory {
  const cursor = new Cursor(bytes);
  const entries: TreeEntry[] = [];
  let label: string | null = null;
  let bitmap: Allocated | null = null;
  let upcase: Allocated | null = null;
  const allocated = (at: number) => ({ firstCluster: cursor.u32(at + BITMAP.firstCluster), length: cursor.u64(at + BITMAP.dataLength) });
  for (let at = 0; at + ENTRY_SIZE <= bytes.length; at += ENTRY_SIZE) {
    const type = cursor.u8(at);
    if (type === 0) break;
    if (type === TYPE.label) {
      const count = Math.min(11, cursor.u8(at + LABEL.count));
      label = decodeUtf16le(cursor.slice(at + LABEL.text, count * 2)) || null;
    } else if (type === TYPE.bitmap) {
      bitmap ??= allocated(at);
    } else if (type === TYPE.upcase) {
      upcase ??= allocated(at);
    } else if ((type | TYPE.inUse) === TYPE.file) {
      const entry = readSet(cursor, at);
      if (entry) entries.push(entry);
    }
  }
  return { entries, label, bitmap, upcase };
}

/** 6.3.3 SetChecksum: over all bytes of the set but the checksum itself; of a deleted set with the bits of use put back. */
export function setChecksum(bytes: Uint8Array): number {
  let sum = 0;
  for (let i = 0; i < bytes.length; i += 1) {
    if (i === 2 || i === 3) continue;
    const byte = (bytes[i] as number) | (i % ENTRY_SIZE === 0 ? TYPE.inUse : 0);
    sum = (((sum & 1) << 15) + (sum >>> 1) + byte) & 0xffff;
  }
  return sum;
}

function readSet(cursor: Cursor, at: number): TreeEntry | null {
  const deleted = (cursor.u8(at) & TYPE.inUse) === 0;
  const secondaries = cursor.u8(at + FILE.secondaryCount);
  const length = (1 + secondaries) * ENTRY_SIZE;
  if (secondaries < 2 || secondaries > MOST_SECONDARIES || at + length > cursor.size) return null;
  const stream = at + ENTRY_SIZE;
  if ((cursor.u8(stream) | TYPE.inUse) !== TYPE.stream) return null;
  const sound = setChecksum(cursor.slice(at, length)) === cursor.u16(at + FILE.checksum);
  // A live set with a wrong checksum is damaged but still the file's; a deleted one may be patched together from several.
  if (deleted && !sound) return null;
  const units = cursor.u8(stream + STREAM.nameLength);
  const raw = new Uint8Array(Math.min(units, (secondaries - 1) * NAME.units) * 2);
  for (let part = 0; part * NAME.units * 2 < raw.length; part += 1) {
    const from = stream + (1 + part) * ENTRY_SIZE;
    if ((cursor.u8(from) | TYPE.inUse) !== TYPE.name) return null;
    raw.set(cursor.slice(from + NAME.text, Math.min(NAME.units * 2, raw.length - part * NAME.units * 2)), part * NAME.units * 2);
  }
  if (raw.length === 0) return null;
  const size = cursor.u64(stream + STREAM.dataLength);
  return {
    name: pathComponent(decodeUtf16le(raw)),
    rawName: raw,
    deleted,
    directory: (cursor.u16(at + FILE.attributes) & FILE.directory) !== 0,
    firstCluster: cursor.u32(stream + STREAM.firstCluster),
    size: size <= Number.MAX_SAFE_INTEGER ? size : 0,
    contiguous: (cursor.u8(stream + STREAM.flags) & STREAM.noFatChain) !== 0,
    validSize: Math.min(size, cursor.u64(stream + STREAM.validLength)),
    created: timestamp(cursor, at + FILE.created, at + FILE.createdTenths, at + FILE.createdOffset),
    modified: timestamp(cursor, at + FILE.modified, at + FILE.modifiedTenths, at + FILE.modifiedOffset),
    ...(zoned(cursor, at) ? {} : { localTimes: true }),
    marks: marksOfAttributes(cursor.u16(at + FILE.attributes)),
    at,
    notes: sound ? [] : ["The checksum of its entries does not match: some of what stands here may be wrong."],
  };
}

/** Whether the distance of a file's times from UTC is set (7.4.10 UtcOffset fields: the highest bit says that it is valid). */
const zoned = (cursor: Cursor, at: number) => (cursor.u8(at + FILE.modifiedOffset) & 0x80) !== 0;

/** 7.4.8 Timestamp fields: date and time as FAT has them, and the distance from UTC in quarters of an hour where it is set. */
function timestamp(cursor: Cursor, at: number, tenthsAt: number, offsetAt: number): number | null {
  const local = dosTimeToMs(cursor.u16(at + 2), cursor.u16(at), cursor.u8(tenthsAt));
  const offset = cursor.u8(offsetAt);
  if (local === null || (offset & 0x80) === 0) return local;
  const quarters = (offset & 0x7f) >= 0x40 ? (offset & 0x7f) - 0x80 : offset & 0x7f;
  return local - quarters * 15 * 60_000;
}
