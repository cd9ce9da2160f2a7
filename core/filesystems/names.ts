/** File systems that are known, with what people call them. */
export const FILE_SYSTEM_TITLES = {
  ntfs: "NTFS",
  fat12: "FAT12",
  fat16: "FAT16",
  fat32: "FAT32",
  exfat: "exFAT",
  hfsplus: "HFS+",
  hfsx: "HFSX",
  apfs: "APFS",
  tape: "tape-format backup",
  zip: "ZIP archive",
  tar: "TAR archive",
} as const;

export type KnownFileSystem = keyof typeof FILE_SYSTEM_TITLES;
export type FileSystemName = KnownFileSystem | "unknown";
