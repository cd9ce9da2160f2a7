import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { MBR, MBR_ENTRY, MBR_TYPE } from "./layout";
import type { Partition } from "./partition";

/** Extended partitions form a chain on the disk; a damaged chain may run in a circle. */
const MAX_LOGICAL = 128;

interface Entry {
  status: number;
  type: number;
  startLba: number;
  sectors: number;
}

/** The four entries of a boot record, or null when the sector has no boot-record signature. */
function readEntries(source: ByteSource, at: number): Entry[] | null {
  const cursor = new Cursor(readBytes(source, at, 512));
  if (cursor.u16(MBR.signature) !== MBR.signatureValue) return null;
  return Array.from({ length: MBR.entryCount }, (_, index) => {
    const entry = MBR.entries + index * MBR.entrySize;
    return {
      status: cursor.u8(entry + MBR_ENTRY.status),
      type: cursor.u8(entry + MBR_ENTRY.type),
      startLba: cursor.u32(entry + MBR_ENTRY.startLba),
      sectors: cursor.u32(entry + MBR_ENTRY.sectors),
    };
  });
}

export interface MbrTable {
  partitions: Partition[];
  protective: boolean;
  notes: string[];
}

/**
 * Reads a master boot record with its chain of extended partitions.
 * @returns null when sector 0 is no boot record with plausible entries (a volume's own boot sector ends in the same mark)
 */
export function readMbr(source: ByteSource, sectorSize: number): MbrTable | null {
  const entries = readEntries(source, 0);
  if (!entries) return null;
  const used = entries.filter((entry) => entry.type !== MBR_TYPE.empty && entry.sectors > 0);
  // The status byte is 0x00 or 0x80 in every real table; boot code of a bare volume fails this.
  if (entries.some((entry) => (entry.status & 0x7f) !== 0)) return null;
  const table: MbrTable = { partitions: [], protective: false, notes: [] };
  for (const entry of used) {
    const start = entry.startLba * sectorSize;
    if (entry.type === MBR_TYPE.gptProtective) {
      table.protective = true;
    } else if (start >= source.size || start === 0) {
      table.notes.push(`The partition table names a partition at sector ${entry.startLba}, past the end of the disk: left out.`);
    } else if (MBR_TYPE.extended.includes(entry.type)) {
      readLogical(source, sectorSize, entry.startLba, table);
    } else {
      table.partitions.push({ start, length: entry.sectors * sectorSize, type: typeText(entry.type), name: null });
    }
  }
  return used.length === 0 ? null : table;
}

function readLogical(source: ByteSource, sectorSize: number, extendedLba: number, table: MbrTable): void {
  const seen = new Set<number>();
  let lba = extendedLba;
  while (seen.size < MAX_LOGICAL) {
    if (seen.has(lba)) {
      table.notes.push(`The chain of extended partitions runs in a circle at sector ${lba}: stopped there.`);
      return;
    }
    seen.add(lba);
    const entries = lba * sectorSize < source.size ? readEntries(source, lba * sectorSize) : null;
    if (!entries) {
      table.notes.push(`The chain of extended partitions breaks off at sector ${lba}: partitions after it are not listed.`);
      return;
    }
    const [volume, next] = entries as [Entry, Entry, Entry, Entry];
    if (volume.type !== MBR_TYPE.empty && volume.sectors > 0 && (lba + volume.startLba) * sectorSize < source.size) {
      // A logical partition counts from its own boot record, the next link from the first one.
      const start = (lba + volume.startLba) * sectorSize;
      table.partitions.push({ start, length: volume.sectors * sectorSize, type: typeText(volume.type), name: null });
    }
    if (!MBR_TYPE.extended.includes(next.type) || next.sectors === 0) return;
    lba = extendedLba + next.startLba;
  }
  table.notes.push(`The chain of extended partitions has more than ${MAX_LOGICAL} links: the rest is not read.`);
}

const typeText = (type: number) => `0x${type.toString(16).padStart(2, "0")}`;
