import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";

export const FILE_SYSTEM_NAMES = ["ntfs", "fat12", "fat16", "fat32", "exfat", "hfsplus", "hfsx", "apfs", "unknown"] as const;
export type FileSystemName = (typeof FILE_SYSTEM_NAMES)[number];

export interface Recognised {
  readonly filesystem: FileSystemName;
  /** Bytes the volume claims to have; null when its first sector does not say. */
  readonly length: number | null;
  /** Bytes in an allocation unit. */
  readonly clusterSize: number | null;
  readonly label: string | null;
}

const nothing: Recognised = { filesystem: "unknown", length: null, clusterSize: null, label: null };
const powerOfTwo = (value: number) => value > 0 && (value & (value - 1)) === 0;
const ascii = (bytes: Uint8Array) => String.fromCharCode(...bytes);

/**
 * Says which file system starts at a volume's first byte, by its first sectors alone.
 * NTFS: open documentation of the on-disk format (linux-ntfs `layout.h`); FAT: the published FAT specification,
 * "Boot Sector and BPB"; exFAT: the published exFAT specification, 3.1; HFS Plus: Technical Note 1150, "Volume Header";
 * APFS: the published file-system reference, `nx_superblock_t`.
 */
export function recogniseFileSystem(volume: ByteSource): Recognised {
  if (volume.size < 1536) return nothing;
  const head = new Cursor(readBytes(volume, 0, 2048));
  const oem = ascii(head.slice(3, 8));
  if (oem === "NTFS    ") return recogniseNtfs(head);
  if (oem === "EXFAT   ") return recogniseExfat(head);
  if (ascii(head.slice(32, 4)) === "NXSB") {
    const blockSize = head.u32(36);
    return { ...nothing, filesystem: "apfs", clusterSize: blockSize, length: head.u64(40) * blockSize };
  }
  const mark = head.u16be(1024);
  if (mark === 0x482b || mark === 0x4858) {
    const blockSize = head.u32be(1024 + 40);
    return {
      ...nothing,
      filesystem: mark === 0x482b ? "hfsplus" : "hfsx",
      clusterSize: blockSize,
      length: head.u32be(1024 + 44) * blockSize,
    };
  }
  const fat = recogniseFat(head);
  if (fat.filesystem !== "unknown") return fat;
  for (const copy of [recogniseFatCopy, recogniseExfatCopy, recogniseNtfsCopy]) {
    const found = copy(volume);
    if (found.filesystem !== "unknown") return found;
  }
  return nothing;
}

/** NTFS keeps a copy of its boot sector behind its last sector: the last one of the partition. */
function recogniseNtfsCopy(volume: ByteSource): Recognised {
  for (const sectorSize of [512, 4096]) {
    const at = Math.floor(volume.size / sectorSize) * sectorSize - sectorSize;
    if (at < sectorSize) continue;
    const copy = new Cursor(readBytes(volume, at, 512));
    if (ascii(copy.slice(3, 8)) === "NTFS    " && copy.u16(510) === 0xaa55) return recogniseNtfs(copy);
  }
  return nothing;
}

/** exFAT keeps a copy of its boot region from sector 12 on. */
function recogniseExfatCopy(volume: ByteSource): Recognised {
  for (const sectorSize of [512, 4096]) {
    const copy = new Cursor(readBytes(volume, 12 * sectorSize, 512));
    if (ascii(copy.slice(3, 8)) === "EXFAT   " && copy.u16(510) === 0xaa55) return recogniseExfat(copy);
  }
  return nothing;
}

/** FAT32 keeps a copy of its boot sector in sector 6: with the first one gone it still serves. */
function recogniseFatCopy(volume: ByteSource): Recognised {
  const copy = new Cursor(readBytes(volume, 6 * 512, 512));
  const marked = ascii(copy.slice(82, 8)) === "FAT32   " && copy.u16(510) === 0xaa55;
  const found = marked ? recogniseFat(copy) : nothing;
  return found.filesystem === "fat32" ? found : nothing;
}

export function recogniseNtfs(head: Cursor): Recognised {
  const sector = head.u16(0x0b);
  const raw = head.u8(0x0d);
  const perCluster = raw > 0x80 ? 2 ** (256 - raw) : raw;
  if (!powerOfTwo(sector) || !powerOfTwo(perCluster)) return nothing;
  return { filesystem: "ntfs", length: (head.u64(0x28) + 1) * sector, clusterSize: sector * perCluster, label: null };
}

export function recogniseExfat(head: Cursor): Recognised {
  const sectorShift = head.u8(108);
  const clusterShift = head.u8(109);
  if (sectorShift < 9 || sectorShift > 12 || sectorShift + clusterShift > 25) return nothing;
  return { filesystem: "exfat", length: head.u64(72) * 2 ** sectorShift, clusterSize: 2 ** (sectorShift + clusterShift), label: null };
}

export function recogniseFat(head: Cursor): Recognised {
  const sector = head.u16(11);
  const perCluster = head.u8(13);
  const reserved = head.u16(14);
  const fats = head.u8(16);
  const media = head.u8(21);
  const jump = head.u8(0);
  if (![512, 1024, 2048, 4096].includes(sector) || !powerOfTwo(perCluster) || reserved === 0) return nothing;
  if (fats < 1 || fats > 4 || (media !== 0xf0 && media < 0xf8) || (jump !== 0xeb && jump !== 0xe9)) return nothing;
  const sectors = head.u16(19) || head.u32(32);
  const fatSectors = head.u16(22) || head.u32(36);
  const rootSectors = Math.ceil((head.u16(17) * 32) / sector);
  const clusters = Math.floor((sectors - reserved - fats * fatSectors - rootSectors) / perCluster);
  if (sectors === 0 || fatSectors === 0 || clusters < 1) return nothing;
  const filesystem = head.u16(22) === 0 ? "fat32" : clusters < 4085 ? "fat12" : clusters < 65_525 ? "fat16" : "fat32";
  const label = ascii(head.slice(filesystem === "fat32" ? 71 : 43, 11)).trim();
  const shown = /^[\x20-\x7e]+$/.test(label) && label !== "NO NAME" ? label : null;
  return { filesystem, length: sectors * sector, clusterSize: sector * perCluster, label: shown };
}
