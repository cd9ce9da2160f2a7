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
  packed: "compressed file",
} as const;

/** What was written as a backup, or is an archive: it is read lightly or thoroughly, and has no clusters that could be free. */
const BACKUPS: ReadonlySet<string> = new Set(["tape", "zip", "tar", "packed"] satisfies (keyof typeof FILE_SYSTEM_TITLES)[]);
export const isBackup = (filesystem: string): boolean => BACKUPS.has(filesystem);

export type KnownFileSystem = keyof typeof FILE_SYSTEM_TITLES;
export type FileSystemName = KnownFileSystem | "unknown";
