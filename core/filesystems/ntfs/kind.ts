import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { asciiText } from "../../bytes/text";
import { powerOfTwo, SECTOR_SIZES } from "../boot-sectors";
import { BOOT_MARK, type FileSystemKind, hasMark, type Recognised, type VolumeTrace } from "../file-system-kind";
import { geometryFromRecords, searchGeometry } from "./found-geometry";
import { formerNtfs } from "./leftover-records";
import { openNtfs } from "./ntfs";

const OEM = "NTFS    ";
const isBoot = (head: Cursor) => asciiText(head.slice(3, 8)) === OEM;
/** File records begin with "FILE". */
const RECORD_MARK = { at: 0, bytes: [0x46, 0x49] } as const;

/** NTFS, by the open documentation of its on-disk format (linux-ntfs `layout.h`). */
export const ntfs: FileSystemKind = {
  recognise: (head) => (isBoot(head) ? recogniseBoot(head) : null),
  /** It keeps a copy of its boot sector behind its last sector: the last one of the partition. */
  recogniseCopy(volume) {
    for (const sectorSize of SECTOR_SIZES) {
      const at = Math.floor(volume.size / sectorSize) * sectorSize - sectorSize;
      if (at < sectorSize) continue;
      const copy = readBytes(volume, at, 512);
      if (isBoot(new Cursor(copy)) && hasMark(copy, BOOT_MARK)) return recogniseBoot(new Cursor(copy));
    }
    return null;
  },
  recogniseRecords(disk, start, length) {
    const geometry = searchGeometry(disk, start, length);
    if (!geometry) return null;
    return { filesystem: "ntfs", length: geometry.clusters * geometry.clusterSize, clusterSize: geometry.clusterSize, label: null };
  },
  former: { title: "NTFS", scan: formerNtfs },
  openers: { ntfs: openNtfs },
  // ntfs-3g `layout.h`, NTFS_BOOT_SECTOR.
  serialAt: { ntfs: 0x48 },
  traces: {
    marks: [BOOT_MARK, RECORD_MARK],
    read(disk, at, sector) {
      // The record by which the file table describes itself, for when both boot sectors are gone.
      if (sector[0] === 0x46 && asciiText(sector.subarray(0, 4)) === "FILE") return recordTrace(disk, at, sector);
      const boot = new Cursor(sector);
      return hasMark(sector, BOOT_MARK) && isBoot(boot) ? bootTrace(disk, at, boot) : null;
    },
  },
};

function recogniseBoot(head: Cursor): Recognised | null {
  const sector = head.u16(0x0b);
  const raw = head.u8(0x0d);
  const perCluster = raw > 0x80 ? 2 ** (256 - raw) : raw;
  if (!powerOfTwo(sector) || !powerOfTwo(perCluster)) return null;
  return { filesystem: "ntfs", length: (head.u64(0x28) + 1) * sector, clusterSize: sector * perCluster, label: null };
}

function bootTrace(disk: ByteSource, at: number, boot: Cursor): VolumeTrace | null {
  const { length, clusterSize } = recogniseBoot(boot) ?? { length: null, clusterSize: null };
  if (length === null || clusterSize === null) return null;
  const sectorSize = boot.u16(0x0b);
  // The backup stands in the sector after the last one the volume counts.
  for (const start of [at, at - (length - sectorSize)]) {
    if (start < 0 || start >= disk.size) continue;
    const records = [boot.u64(0x30), boot.u64(0x38)].map((lcn) => start + lcn * clusterSize);
    const there = records.some((place) => place + 1024 <= disk.size && asciiText(readBytes(disk, place, 4)) === "FILE");
    if (there) return { start, length, filesystem: "ntfs", by: start === at ? "boot sector" : "backup boot sector" };
  }
  return null;
}

function recordTrace(disk: ByteSource, at: number, sector: Uint8Array): VolumeTrace | null {
  // Only the first record of a table is of use here: number 0 where records bear their numbers (they come by the million), and called so.
  if ((sector[4] as number) >= 0x30 && new Cursor(sector).u32(0x2c) !== 0) return null;
  if (!asciiText(sector).includes("$\0M\0F\0T\0")) return null;
  const found = geometryFromRecords(disk, at, null);
  return found
    ? { start: found.start, length: found.geometry.clusters * found.geometry.clusterSize, filesystem: "ntfs", by: "file records" }
    : null;
}
