import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { be, struct } from "../bytes/struct";
import type { Partition } from "./partition";

/** Apple partition map, big-endian ("Inside Macintosh: Devices", SCSI Manager, "Driver Descriptor Record" and "Partition Map"). */
const DRIVER_RECORD = struct(8, { signature: be.u16(0), blockSize: be.u16(2) });
const ENTRY = struct(80, { signature: be.u16(0), mapBlocks: be.u32(4), start: be.u32(8), blocks: be.u32(12) });
const TEXT = { name: 16, type: 48, length: 32 } as const;
const [DRIVER_MARK, ENTRY_MARK] = [0x4552, 0x504d];
const BLOCK_SIZES = [512, 2048, 4096] as const;
const MOST_ENTRIES = 256;
/** Parts of the map that hold no volume: the map itself, free space, drivers. */
const NO_VOLUME = /_(partition_map|free|void|scratch|patches|driver.*)$/i;

export interface ApmTable {
  readonly blockSize: number;
  readonly partitions: Partition[];
  readonly notes: string[];
}

/** Reads an Apple partition map. The first block says how large blocks are; where it is damaged, the entries do. @returns null: there is none */
export function readApm(disk: ByteSource): ApmTable | null {
  if (disk.size < 4096) return null;
  const { signature, blockSize } = DRIVER_RECORD.read(new Cursor(readBytes(disk, 0, DRIVER_RECORD.size)), 0);
  const said = signature === DRIVER_MARK ? BLOCK_SIZES.filter((size) => size === blockSize) : [];
  let best: ApmTable | null = null;
  // Entries may stand in blocks of another size than the disk's own: discs have them both ways.
  for (const size of [...said, ...BLOCK_SIZES.filter((each) => each !== blockSize || said.length === 0)]) {
    const table = readEntries(disk, size, said.length > 0);
    if (table && table.partitions.length > (best?.partitions.length ?? 0)) best = table;
  }
  return best;
}

function readEntries(disk: ByteSource, blockSize: number, sound: boolean): ApmTable | null {
  const partitions: Partition[] = [];
  const damaged: number[] = [];
  let count = 0;
  let entries = 0;
  for (let index = 1; index <= MOST_ENTRIES && (index + 1) * blockSize <= disk.size; index += 1) {
    if (count > 0 && index > count) break;
    const cursor = new Cursor(readBytes(disk, index * blockSize, ENTRY.size));
    const { signature, mapBlocks, start, blocks } = ENTRY.read(cursor, 0);
    if (signature !== ENTRY_MARK) {
      damaged.push(index);
      // Without any entry that says how many there are, nothing far behind the first is one.
      if (count === 0 && index > 4) break;
      continue;
    }
    entries += 1;
    count = Math.max(count, Math.min(mapBlocks, MOST_ENTRIES));
    const [name, type] = [textAt(cursor, TEXT.name), textAt(cursor, TEXT.type)];
    if (blocks === 0 || NO_VOLUME.test(type)) continue;
    if (start * blockSize >= disk.size) continue;
    partitions.push({ start: start * blockSize, length: blocks * blockSize, type, name: name || null });
  }
  if (entries === 0) return null;
  const notes: string[] = [];
  if (!sound)
    notes.push("The first block of the disk does not say how large blocks are; it was found by the entries of the partition map.");
  const inMap = damaged.filter((index) => index <= count);
  if (inMap.length > 0)
    notes.push(
      `${inMap.length === 1 ? "An entry" : `${inMap.length} entries`} of the partition map (${inMap.slice(0, 5).join(", ")}) ${inMap.length === 1 ? "is" : "are"} damaged; the others were used.`,
    );
  return { blockSize, partitions, notes };
}

function textAt(cursor: Cursor, at: number): string {
  const bytes = cursor.slice(at, TEXT.length);
  const end = bytes.indexOf(0);
  return String.fromCharCode(...bytes.subarray(0, end < 0 ? bytes.length : end)).trim();
}
