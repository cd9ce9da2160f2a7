/**
 * FAT on the disk, all little-endian. Names and offsets follow "Microsoft Extensible Firmware Initiative FAT32 File System
 * Specification, FAT: General Overview of On-Disk Format", version 1.03 (the section named beside each group).
 */

/** Boot Sector and BPB */
export const BPB = {
  bytesPerSector: 11,
  sectorsPerCluster: 13,
  reservedSectors: 14,
  fatCount: 16,
  rootEntries: 17,
  totalSectors16: 19,
  media: 21,
  fatSectors16: 22,
  totalSectors32: 32,
  fatSectors32: 36,
  rootCluster32: 44,
  backupBootSector32: 50,
  serial16: 39,
  serial32: 67,
} as const;

/** FAT32 keeps a copy of its boot sector there unless the boot sector says otherwise. */
export const USUAL_BACKUP_SECTOR = 6;

/** FAT Type Determination: by the count of clusters alone. */
export const MOST_CLUSTERS = { fat12: 4084, fat16: 65_524 } as const;

/** FAT 32 Byte Directory Entry Structure */
export const ENTRY = {
  size: 32,
  name: 0,
  nameBytes: 11,
  attributes: 11,
  caseFlags: 12,
  createdTenths: 13,
  createdTime: 14,
  createdDate: 16,
  clusterHigh: 20,
  modifiedTime: 22,
  modifiedDate: 24,
  clusterLow: 26,
  fileSize: 28,
  deletedMark: 0xe5,
  /** Stands for a name whose first byte really is 0xE5. */
  kanjiMark: 0x05,
  endMark: 0x00,
} as const;

export const ATTRIBUTE = {
  readOnly: 0x01,
  hidden: 0x02,
  system: 0x04,
  volumeId: 0x08,
  directory: 0x10,
  archive: 0x20,
  longName: 0x0f,
} as const;

/** Long Directory Entries: thirteen UTF-16 units an entry. */
export const LONG = {
  /** Bytes of the name in one part. */
  bytes: 26,
  order: 0,
  lastMark: 0x40,
  attributes: 11,
  type: 12,
  checksum: 13,
  parts: [
    [1, 10],
    [14, 12],
    [28, 4],
  ] as const,
  most: 20,
} as const;

/** Set in the byte beside the attributes when the short name is shown in small letters (common practice, no published source). */
export const SMALL = { base: 0x08, extension: 0x10 } as const;
