import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { asciiText } from "../../bytes/text";
import { powerOfTwo } from "../boot-sectors";
import { BOOT_MARK, type FileSystemKind, hasMark, type Recognised, type VolumeTrace } from "../file-system-kind";
import { formerFat, openFat } from "./fat";

/** FAT12, FAT16 and FAT32, by the published FAT specification, "Boot Sector and BPB". */
export const fat: FileSystemKind = {
  recognise: recogniseBoot,
  /** FAT32 keeps a copy of its boot sector in sector 6: with the first one gone it still serves. */
  recogniseCopy(volume) {
    const copy = readBytes(volume, 6 * 512, 512);
    const marked = asciiText(copy.subarray(82, 90)) === "FAT32   " && hasMark(copy, BOOT_MARK);
    const found = marked ? recogniseBoot(new Cursor(copy)) : null;
    return found?.filesystem === "fat32" ? found : null;
  },
  former: { title: "FAT", scan: formerFat },
  openers: { fat12: openFat, fat16: openFat, fat32: openFat },
  // BS_VolID.
  serialAt: { fat12: 0x27, fat16: 0x27, fat32: 0x43 },
  traces: {
    marks: [BOOT_MARK],
    read: (disk, at, sector) => (hasMark(sector, BOOT_MARK) ? bootTrace(disk, at, new Cursor(sector)) : null),
  },
};

function recogniseBoot(head: Cursor): Recognised | null {
  const sector = head.u16(11);
  const perCluster = head.u8(13);
  const reserved = head.u16(14);
  const fats = head.u8(16);
  const media = head.u8(21);
  const jump = head.u8(0);
  if (![512, 1024, 2048, 4096].includes(sector) || !powerOfTwo(perCluster) || reserved === 0) return null;
  if (fats < 1 || fats > 4 || (media !== 0xf0 && media < 0xf8) || (jump !== 0xeb && jump !== 0xe9)) return null;
  const sectors = head.u16(19) || head.u32(32);
  const fatSectors = head.u16(22) || head.u32(36);
  const rootSectors = Math.ceil((head.u16(17) * 32) / sector);
  const clusters = Math.floor((sectors - reserved - fats * fatSectors - rootSectors) / perCluster);
  if (sectors === 0 || fatSectors === 0 || clusters < 1) return null;
  const filesystem = head.u16(22) === 0 ? "fat32" : clusters < 4085 ? "fat12" : clusters < 65_525 ? "fat16" : "fat32";
  const label = asciiText(head.slice(filesystem === "fat32" ? 71 : 43, 11)).trim();
  const shown = /^[\x20-\x7e]+$/.test(label) && label !== "NO NAME" ? label : null;
  return { filesystem, length: sectors * sector, clusterSize: sector * perCluster, label: shown };
}

function bootTrace(disk: ByteSource, at: number, boot: Cursor): VolumeTrace | null {
  const found = recogniseBoot(boot);
  if (!found || found.length === null) return null;
  const { filesystem, length } = found;
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
