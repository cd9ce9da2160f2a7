import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import type { FileSystemName } from "../filesystems/recognise";

/**
 * Where a boot sector has the volume's serial number, of which links keep the low 32 bits: NTFS (ntfs-3g `layout.h`,
 * NTFS_BOOT_SECTOR), FAT (Microsoft's FAT specification, BS_VolID), exFAT (Microsoft's exFAT specification, 3.1.11).
 */
const PLACES: Partial<Record<FileSystemName, number>> = { ntfs: 0x48, fat32: 0x43, fat16: 0x27, fat12: 0x27, exfat: 0x64 };

/** The serial number of the volume that begins at a disk byte offset; null: it has none, or none is known of its kind. */
export function volumeSerial(disk: ByteSource, start: number, filesystem: FileSystemName): number | null {
  const at = PLACES[filesystem];
  return at === undefined ? null : new Cursor(readBytes(disk, start + at, 4)).u32(0) || null;
}
