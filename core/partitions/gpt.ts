import { crc32 } from "node:zlib";
import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { guidText } from "../bytes/guid";
import { decodeUtf16le } from "../bytes/text";
import { GPT_ENTRY, GPT_HEADER } from "./layout";
import type { Partition } from "./partition";

/** A table larger than this is damage: 128 entries of 128 bytes are the rule (UEFI Specification 5.3.1). */
const MAX_TABLE_BYTES = 4 << 20;
const UNUSED = "00000000-0000-0000-0000-000000000000";

export interface GptTable {
  partitions: Partition[];
  notes: string[];
}

interface Attempt {
  table?: GptTable;
  /** Why the header or its table cannot be used. Absent: there is no GPT header here at all. */
  problem?: string;
}

/** Reads the GUID partition table: the first header, or the backup in the last sector when the first is bad. */
export function readGpt(source: ByteSource, sectorSize: number): GptTable | null {
  const first = readHeader(source, sectorSize, 1);
  if (first.table) return first.table;
  const backupLba = Math.floor(source.size / sectorSize) - 1;
  const backup = backupLba > 1 ? readHeader(source, sectorSize, backupLba) : {};
  if (!backup.table) return null;
  const why = first.problem ?? "it is not there";
  backup.table.notes.unshift(`The first partition table cannot be used (${why}); the backup at the end of the disk was used.`);
  return backup.table;
}

function readHeader(source: ByteSource, sectorSize: number, lba: number): Attempt {
  if ((lba + 1) * sectorSize > source.size) return {};
  const sector = readBytes(source, lba * sectorSize, sectorSize);
  const cursor = new Cursor(sector);
  if (String.fromCharCode(...sector.subarray(0, 8)) !== GPT_HEADER.magic) return {};
  const headerSize = cursor.u32(GPT_HEADER.headerSize);
  if (headerSize < GPT_HEADER.smallestSize || headerSize > sectorSize) {
    return { problem: `its header says it is ${headerSize} bytes long` };
  }
  const header = sector.slice(0, headerSize);
  header.fill(0, GPT_HEADER.headerCrc, GPT_HEADER.headerCrc + 4);
  if (crc32(header) !== cursor.u32(GPT_HEADER.headerCrc)) return { problem: "the checksum of its header does not match" };

  const count = cursor.u32(GPT_HEADER.entryCount);
  const entrySize = cursor.u32(GPT_HEADER.entrySize);
  const at = cursor.u64(GPT_HEADER.entriesLba) * sectorSize;
  const bytes = count * entrySize;
  if (entrySize < GPT_ENTRY.smallestSize || bytes > MAX_TABLE_BYTES || at + bytes > source.size) {
    return { problem: `its table of ${count} entries of ${entrySize} bytes does not fit` };
  }
  const entries = readBytes(source, at, bytes);
  if (crc32(entries) !== cursor.u32(GPT_HEADER.entriesCrc)) return { problem: "the checksum of its table does not match" };
  return { table: readEntries(entries, count, entrySize, sectorSize, source.size) };
}

function readEntries(bytes: Uint8Array, count: number, entrySize: number, sectorSize: number, diskSize: number): GptTable {
  const table: GptTable = { partitions: [], notes: [] };
  for (let index = 0; index < count; index += 1) {
    const cursor = new Cursor(bytes.subarray(index * entrySize, (index + 1) * entrySize));
    const type = guidText(cursor.slice(GPT_ENTRY.type, 16));
    if (type === UNUSED) continue;
    const first = cursor.u64(GPT_ENTRY.firstLba);
    const last = cursor.u64(GPT_ENTRY.lastLba);
    if (last < first || first * sectorSize >= diskSize) {
      table.notes.push(`Partition ${index + 1} of the table lies past the end of the disk or ends before it begins: left out.`);
      continue;
    }
    const name = decodeUtf16le(cursor.slice(GPT_ENTRY.name, GPT_ENTRY.nameBytes)).replace(/\0.*$/s, "");
    table.partitions.push({ start: first * sectorSize, length: (last - first + 1) * sectorSize, type, name: name || null });
  }
  table.partitions.sort((a, b) => a.start - b.start);
  return table;
}
