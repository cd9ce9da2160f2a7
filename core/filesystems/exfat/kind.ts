import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { asciiText } from "../../bytes/text";
import { SECTOR_SIZES } from "../boot-sectors";
import { BOOT_MARK, type FileSystemKind, hasMark, type Recognised, type VolumeTrace } from "../file-system-kind";
import { formerExfat, openExfat } from "./exfat";

const isBoot = (head: Cursor) => asciiText(head.slice(3, 8)) === "EXFAT   ";

/** exFAT, by its published specification, 3.1. */
export const exfat: FileSystemKind = {
  recognise: (head) => (isBoot(head) ? recogniseBoot(head) : null),
  /** It keeps a copy of its boot region from sector 12 on. */
  recogniseCopy(volume) {
    for (const sectorSize of SECTOR_SIZES) {
      const copy = readBytes(volume, 12 * sectorSize, 512);
      if (isBoot(new Cursor(copy)) && hasMark(copy, BOOT_MARK)) return recogniseBoot(new Cursor(copy));
    }
    return null;
  },
  former: { title: "exFAT", scan: formerExfat },
  openers: { exfat: openExfat },
  // 3.1.11.
  serialAt: { exfat: 0x64 },
  traces: {
    marks: [BOOT_MARK],
    read(disk, at, sector) {
      const boot = new Cursor(sector);
      return hasMark(sector, BOOT_MARK) && isBoot(boot) ? bootTrace(disk, at, boot) : null;
    },
  },
};

function recogniseBoot(head: Cursor): Recognised | null {
  const sectorShift = head.u8(108);
  const clusterShift = head.u8(109);
  if (sectorShift < 9 || sectorShift > 12 || sectorShift + clusterShift > 25) return null;
  return { filesystem: "exfat", length: head.u64(72) * 2 ** sectorShift, clusterSize: 2 ** (sectorShift + clusterShift), label: null };
}

function bootTrace(disk: ByteSource, at: number, boot: Cursor): VolumeTrace | null {
  const length = recogniseBoot(boot)?.length ?? 0;
  if (length === 0) return null;
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
