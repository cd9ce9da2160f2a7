import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { geometryFromRecords } from "../filesystems/ntfs/found-geometry";
import { type FileSystemName, recogniseExfat, recogniseFat, recogniseNtfs } from "../filesystems/recognise";

/** A volume as one sector describes it. Offsets are bytes of the disk. */
export interface VolumeTrace {
  readonly start: number;
  readonly length: number;
  readonly filesystem: FileSystemName;
  /** What it was recognised by. */
  readonly by: "boot sector" | "backup boot sector" | "file records";
}

const ascii = (bytes: Uint8Array, at: number, length: number) => String.fromCharCode(...bytes.subarray(at, at + length));
const SIGNATURE = 0xaa55;

/** The volume that a sector at `at` gives evidence of; null: nothing, or nothing that the disk bears out. */
export function volumeTrace(disk: ByteSource, at: number, sector: Uint8Array): VolumeTrace | null {
  // The record by which the file table describes itself, for when both boot sectors are gone.
  if (sector[0] === 0x46 && ascii(sector, 0, 4) === "FILE") return recordTrace(disk, at, sector);
  if (sector[510] !== (SIGNATURE & 0xff) || sector[511] !== SIGNATURE >>> 8) return null;
  const oem = ascii(sector, 3, 8);
  const cursor = new Cursor(sector);
  if (oem === "NTFS    ") return ntfsTrace(disk, at, cursor);
  if (oem === "EXFAT   ") return exfatTrace(disk, at, cursor);
  return fatTrace(disk, at, cursor);
}

function ntfsTrace(disk: ByteSource, at: number, boot: Cursor): VolumeTrace | null {
  const { length, clusterSize } = recogniseNtfs(boot);
  if (length === null || clusterSize === null) return null;
  const sectorSize = boot.u16(0x0b);
  // The backup stands in the sector after the last one the volume counts.
  for (const start of [at, at - (length - sectorSize)]) {
    if (start < 0 || start >= disk.size) continue;
    const records = [boot.u64(0x30), boot.u64(0x38)].map((lcn) => start + lcn * clusterSize);
    const there = records.some((place) => place + 1024 <= disk.size && ascii(readBytes(disk, place, 4), 0, 4) === "FILE");
    if (there) return { start, length, filesystem: "ntfs", by: start === at ? "boot sector" : "backup boot sector" };
  }
  return null;
}

function exfatTrace(disk: ByteSource, at: number, boot: Cursor): VolumeTrace | null {
  const { length } = recogniseExfat(boot);
  if (length === null || length === 0) return null;
  const sectorSize = 2 ** boot.u8(108);
  for (const start of [at, at - 12 * sectorSize]) {
    const fat = start + boot.u32(80) * sectorSize;
    if (start < 0 || fat + 8 > disk.size) continue;
    const head = new Cursor(readBytes(disk, fat, 8));
    // 4.1: the first entry repeats the kind of medium, the second is all ones.
    if (head.u32(0) === 0xfffffff8 && head.u32(4) === 0xffffffff)
      return { start, length, filesystem: "exfat", by: start === at ? "boot sector" : "backup boot sector" };
  }
  return null;
}

function fatTrace(disk: ByteSource, at: number, boot: Cursor): VolumeTrace | null {
  const { filesystem, length } = recogniseFat(boot);
  if (length === null) return null;
  const sectorSize = boot.u16(11);
  const backup = filesystem === "fat32" ? [at - 6 * sectorSize] : [];
  for (const start of [at, ...backup]) {
    const fat = start + boot.u16(14) * sectorSize;
    if (start < 0 || fat + 4 > disk.size) continue;
    const [first, second] = readBytes(disk, fat, 2) as unknown as [number, number];
    const marked = first === boot.u8(21) && (filesystem === "fat12" ? (second & 0x0f) === 0x0f : second === 0xff);
    if (marked) return { start, length, filesystem, by: start === at ? "boot sector" : "backup boot sector" };
  }
  return null;
}

function recordTrace(disk: ByteSource, at: number, sector: Uint8Array): VolumeTrace | null {
  // Only the first record of a table is of use here: number 0 where records bear their numbers (they come by the million), and called so.
  if ((sector[4] as number) >= 0x30 && new Cursor(sector).u32(0x2c) !== 0) return null;
  if (!ascii(sector, 0, 512).includes("$\0M\0F\0T\0")) return null;
  const found = geometryFromRecords(disk, at, null);
  return found
    ? { start: found.start, length: found.geometry.clusters * found.geometry.clusterSize, filesystem: "ntfs", by: "file records" }
    : null;
}
