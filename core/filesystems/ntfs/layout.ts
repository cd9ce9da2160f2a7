/**
 * NTFS on the disk, all little-endian. Field names and offsets follow the open documentation of the format in
 * linux-ntfs / ntfs-3g `layout.h` (the structure named beside each group). Offsets are bytes.
 */

/** NTFS_BOOT_SECTOR */
export const BOOT = {
  oemId: 0x03,
  oemIdValue: "NTFS    ",
  bytesPerSector: 0x0b,
  sectorsPerCluster: 0x0d,
  numberOfSectors: 0x28,
  mftLcn: 0x30,
  mftMirrLcn: 0x38,
  clustersPerMftRecord: 0x40,
  volumeSerialNumber: 0x48,
} as const;

/** MFT_RECORD */
export const RECORD = {
  magic: 0x00,
  /** "FILE" as a little-endian number. */
  magicValue: 0x454c4946,
  usaOffset: 0x04,
  usaCount: 0x06,
  sequenceNumber: 0x10,
  linkCount: 0x12,
  attrsOffset: 0x14,
  flags: 0x16,
  bytesInUse: 0x18,
  bytesAllocated: 0x1c,
  baseMftRecord: 0x20,
  /** Since version 3.1; the update sequence begins behind it. */
  recordNumber: 0x2c,
  headerSize: 0x30,
} as const;

export const RECORD_FLAG = { inUse: 0x0001, isDirectory: 0x0002 } as const;

/** The update sequence protects each 512 bytes, whatever the sector size. */
export const FIXUP_STRIDE = 512;

/** ATTR_RECORD */
export const ATTRIBUTE = {
  type: 0x00,
  length: 0x04,
  nonResident: 0x08,
  nameLength: 0x09,
  nameOffset: 0x0a,
  flags: 0x0c,
  valueLength: 0x10,
  valueOffset: 0x14,
  lowestVcn: 0x10,
  mappingPairsOffset: 0x20,
  compressionUnit: 0x22,
  allocatedSize: 0x28,
  dataSize: 0x30,
  initializedSize: 0x38,
  residentHeader: 0x18,
  nonResidentHeader: 0x40,
} as const;

export const ATTRIBUTE_FLAG = { compressionMask: 0x00ff, lznt1: 0x0001, encrypted: 0x4000, sparse: 0x8000 } as const;

/** ATTR_TYPES */
export const ATTRIBUTE_TYPE = {
  standardInformation: 0x10,
  attributeList: 0x20,
  fileName: 0x30,
  volumeName: 0x60,
  data: 0x80,
  indexRoot: 0x90,
  indexAllocation: 0xa0,
  bitmap: 0xb0,
  reparsePoint: 0xc0,
  end: 0xffffffff,
} as const;

/** STANDARD_INFORMATION */
export const STANDARD = { created: 0x00, modified: 0x08, mftChanged: 0x10, attributes: 0x20, smallestSize: 0x24 } as const;

/** FILE_NAME_ATTR */
export const FILE_NAME = {
  parent: 0x00,
  created: 0x08,
  modified: 0x10,
  dataSize: 0x30,
  flags: 0x38,
  length: 0x40,
  namespace: 0x41,
  name: 0x42,
  directoryFlag: 0x10000000,
} as const;

/** INDEX_ROOT: the header of the index stands behind four fields; INDEX_BLOCK: behind its own. */
export const INDEX = { rootHeader: 0x10, blockSize: 0x08, blockMagic: 0x58444e49, blockHeader: 0x18, name: "$I30" } as const;

/** INDEX_HEADER */
export const INDEX_HEADER = { entriesOffset: 0x00, indexLength: 0x04, allocatedSize: 0x08 } as const;

/** INDEX_ENTRY */
export const INDEX_ENTRY = { reference: 0x00, length: 0x08, keyLength: 0x0a, flags: 0x0c, key: 0x10, last: 0x02 } as const;

/** FILE_NAME_TYPE_FLAGS */
export const NAMESPACE = { posix: 0, win32: 1, dos: 2, win32AndDos: 3 } as const;

/** ATTR_LIST_ENTRY */
export const LIST_ENTRY = { type: 0x00, length: 0x04, mftReference: 0x10, smallestSize: 0x1a } as const;

/** Reparse tags ([MS-FSCC] 2.1.2.1). */
export const REPARSE_TAG = { mountPoint: 0xa0000003, symlink: 0xa000000c, systemCompressed: 0x80000017 } as const;

/** Tags of files that a cloud folder keeps elsewhere ([MS-FSCC] 2.1.2.1): the cloud filter's, whose bits 12 to 15 count, and two older ones. */
export const isCloudTag = (tag: number): boolean => (tag & ~0xf000) >>> 0 === 0x9000001a || tag === 0x80000021 || tag === 0x80000015;

/** File attributes ([MS-FSCC] 2.6) of content that is fetched when it is opened. */
export const KEPT_ELSEWHERE = { offline: 0x1000, recallOnOpen: 0x40000, recallOnDataAccess: 0x400000 } as const;

/** NTFS_SYSTEM_FILES */
export const SYSTEM_RECORD = { mft: 0, mirror: 1, volume: 3, root: 5, bitmap: 6, badClusters: 8, extend: 11, firstUser: 24 } as const;
