/**
 * exFAT on the disk, all little-endian. Field names and offsets follow Microsoft's published "exFAT file system specification"
 * (the section named beside each group).
 */

/** 3.1 Main and Backup Boot Sector Sub-regions */
export const BOOT = {
  name: 3,
  nameValue: "EXFAT   ",
  volumeLength: 72,
  fatOffset: 80,
  fatLength: 84,
  clusterHeapOffset: 88,
  clusterCount: 92,
  rootCluster: 96,
  sectorShift: 108,
  clusterShift: 109,
  fatCount: 110,
  /** The backup boot region begins there, in sectors. */
  backupSector: 12,
} as const;

/** 4.1 FAT: marks */
export const FAT_MARK = { bad: 0xfffffff7, end: 0xfffffff8 } as const;

/** 6.2 and 7: entry types. Bit 7 says in use; deleting clears it. */
export const TYPE = { inUse: 0x80, bitmap: 0x81, upcase: 0x82, label: 0x83, file: 0x85, stream: 0xc0, name: 0xc1 } as const;
export const ENTRY_SIZE = 32;

/** 7.4 File Directory Entry */
export const FILE = {
  secondaryCount: 1,
  checksum: 2,
  attributes: 4,
  created: 8,
  modified: 12,
  createdTenths: 20,
  modifiedTenths: 21,
  createdOffset: 22,
  modifiedOffset: 23,
  directory: 0x10,
} as const;

/** 7.6 Stream Extension Directory Entry */
export const STREAM = { flags: 1, noFatChain: 0x02, nameLength: 3, validLength: 8, firstCluster: 20, dataLength: 24 } as const;

/** 7.7 File Name Directory Entry: fifteen UTF-16 units each */
export const NAME = { text: 2, units: 15 } as const;

/** 7.3 Volume Label, 7.1 Allocation Bitmap */
export const LABEL = { count: 1, text: 2 } as const;
export const BITMAP = { firstCluster: 20, dataLength: 24 } as const;
