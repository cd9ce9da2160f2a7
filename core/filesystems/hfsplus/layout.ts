import { be, struct } from "../../bytes/struct";

/**
 * On-disk structures of HFS Plus and HFSX, all big-endian, by Technical Note 1150 ("HFS Plus Volume Format"); the section is named at
 * each. Names of fields are those of the note.
 */

/** Bytes from the volume's beginning ("Volume Header"); the copy stands as far from its end. */
export const HEADER_AT = 1024;
export const SIGNATURE = { hfsPlus: 0x482b, hfsx: 0x4858, wrapper: 0x4244 } as const;

/** "Volume Header". */
export const VOLUME_HEADER = struct(512, {
  signature: be.u16(0),
  attributes: be.u32(4),
  lastMountedVersion: be.u32(8),
  journalInfoBlock: be.u32(12),
  createDate: be.u32(16),
  fileCount: be.u32(32),
  folderCount: be.u32(36),
  blockSize: be.u32(40),
  totalBlocks: be.u32(44),
  freeBlocks: be.u32(48),
  nextCatalogID: be.u32(64),
});
/** The volume's identifier ("Finder Info": the last two of its eight words). */
export const IDENTIFIER = { at: 104, length: 8 } as const;
/** Where the forks of the special files stand in the volume header. */
export const SPECIAL = { allocation: 112, extents: 192, catalog: 272, attributes: 352, startup: 432 } as const;
/** Attribute bits of the volume ("Volume Attributes"). */
export const VOLUME_ATTRIBUTE = { journaled: 1 << 13 } as const;

/** A volume within an older one ("HFS Wrapper"): the older one's master directory block. */
export const WRAPPER = struct(162, {
  allocationBlockSize: be.u32(20),
  firstAllocationBlock: be.u16(28),
  embeddedSignature: be.u16(124),
  embeddedStart: be.u16(126),
  embeddedCount: be.u16(128),
});

/** "Fork Data Structure". */
export const FORK = { size: 80, logicalSize: 0, totalBlocks: 12 } as const;
export const EXTENTS_AT = 16;
export const EXTENTS_IN_RECORD = 8;
export const EXTENT_SIZE = 8;

/** "B-Trees", "Node Descriptors". */
export const NODE = struct(14, { fLink: be.u32(0), kind: be.u8(8), height: be.u8(9), numRecords: be.u16(10) });
export const NODE_KIND = { leaf: 0xff, index: 0, header: 1, map: 2 } as const;

/** "Header Record", the first record of a tree's first node. */
export const TREE_HEADER = struct(106, {
  treeDepth: be.u16(0),
  leafRecords: be.u32(6),
  firstLeafNode: be.u32(10),
  nodeSize: be.u16(18),
  totalNodes: be.u32(22),
  keyCompareType: be.u8(37),
});
/** Where the header node's map record begins: behind the header record and 128 bytes for the tree's user. */
export const HEADER_MAP_AT = NODE.size + TREE_HEADER.size + 128;

/** "Catalog File Data". */
export const RECORD_TYPE = { folder: 1, file: 2, folderThread: 3, fileThread: 4 } as const;

/** "Catalog File Records": bytes of one, and where its fields stand. */
export const FILE_RECORD = {
  size: 248,
  fileID: 8,
  createDate: 12,
  contentModDate: 16,
  attributeModDate: 20,
  adminFlags: 40,
  ownerFlags: 41,
  fileMode: 42,
  special: 44,
  fdType: 48,
  fdCreator: 52,
  fdFlags: 56,
} as const;
export const DATA_FORK_AT = 88;
export const RESOURCE_FORK_AT = 168;
/** Fields that files and folders have at the same places (the last two: files). */
export const IDENTITY = { id: 8, created: 12, special: 44, type: 48, creator: 52 } as const;
/** User and Finder info, 16 bytes each. */
export const FINDER_INFO = { at: 48, length: 32 } as const;

/** "Catalog Folder Records", in the same way. */
export const FOLDER_RECORD = {
  size: 88,
  valence: 4,
  folderID: 8,
  createDate: 12,
  contentModDate: 16,
  attributeModDate: 20,
  fileMode: 42,
  special: 44,
} as const;

/** "Catalog Thread Records": the parent and, after it, the name. */
export const THREAD = { reserved: 2, parentID: 4, nameLength: 8, name: 10 } as const;
/** "Catalog File Keys". */
export const CATALOG_KEY = { parentID: 2, nameLength: 6, name: 8, smallest: 6 } as const;
export const MOST_NAME = 255;

/** "Extents Overflow File Key". */
export const EXTENT_KEY = { length: 10, forkType: 2, fileID: 4, startBlock: 8, data: 12 } as const;
export const FORK_TYPE = { data: 0, resource: 0xff } as const;

/** "Attributes File": keys and records. The inline form and the names are from memory (the note reserves them). */
export const ATTRIBUTE_KEY = { fileID: 4, startBlock: 8, nameLength: 12, name: 14 } as const;
export const ATTRIBUTE_TYPE = { inline: 0x10, fork: 0x20, extents: 0x30 } as const;
export const ATTRIBUTE_INLINE = { size: 12, data: 16 } as const;
export const ATTRIBUTE_FORK_AT = 8;

/** Numbers of the folders and files every volume has ("Catalog Node IDs"). */
export const CNID = { rootParent: 1, root: 2, catalog: 4, attributes: 8, allocation: 6, startup: 7, firstUser: 16 } as const;

/** "Hard Links", "Finder Info": a link is a file of this type and creator; those of folders are from memory. */
export const FILE_LINK = { type: 0x686c_6e6b, creator: 0x6866_732b } as const;
export const FOLDER_LINK = { type: 0x6664_7270, creator: 0x4d41_4353 } as const;
/** The folders in which linked files and linked folders really stand, and the beginnings of their names there. */
export const PRIVATE_FILES = { folder: "\0\0\0\0HFS+ Private Data", prefix: "iNode", removed: /^temp\d+$/ } as const;
export const PRIVATE_FOLDERS = { folder: ".HFS+ Private Directory Data\r", prefix: "dir_" } as const;
/** Files of the journal, at the top. */
export const JOURNAL_FILES: readonly string[] = [".journal", ".journal_info_block"];

/** Kinds of files in a Unix mode ("HFS Plus Permissions"). */
export const MODE = { mask: 0xf000, folder: 0x4000, file: 0x8000, link: 0xa000 } as const;
/** The file's content is compressed by the system (owner's flags, UF_COMPRESSED). */
export const COMPRESSED = 0x20;

/** "Journal Info Block". */
export const JOURNAL_INFO = struct(180, { flags: be.u32(0), offset: be.u64(36), size: be.u64(44) });
export const JOURNAL_FLAG = { inVolume: 1, needsInit: 4 } as const;
/** "Journal Header"; its byte order is that of the machine that wrote it. */
export const JOURNAL_HEADER = { magic: 0x4a4e_4c78, order: 0x1234_5678, bytes: 44, checksumAt: 36, smallest: 512 } as const;
/**
 * "Block List Header". The flags, the sums of single blocks and the number of the transaction (in the first block info) are of later
 * systems, from memory.
 */
export const BLOCK_LIST = {
  bytes: 16,
  checksummed: 32,
  checksumAt: 8,
  flagsAt: 12,
  checksummedBlocks: 1,
  first: 2,
  infoSize: 16,
  nextAt: 12,
} as const;
