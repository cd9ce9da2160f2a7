import { le, struct } from "../../bytes/struct";

/**
 * On-disk structures of APFS, all little-endian, by the "Apple File System Reference" (edition of 2020); the type of the reference is
 * named at each, and its fields are called as there.
 */

/** `obj_phys_t`: every object begins with it. */
export const OBJECT = struct(32, { oid: le.u64(8), xid: le.u64(16), type: le.u32(24), subtype: le.u32(28) });
export const OBJECT_TYPE = {
  mask: 0xffff,
  container: 1,
  treeRoot: 2,
  treeNode: 3,
  spaceManager: 5,
  chunkInfoAddresses: 6,
  chunkInfo: 7,
  objectMap: 0xb,
  checkpointMap: 0xc,
  volume: 0xd,
  fileTree: 0xe,
  integrity: 0x1e,
  freeQueue: 9,
} as const;

/** `nx_superblock_t`. */
export const CONTAINER = struct(1408, {
  magic: le.u32(32),
  blockSize: le.u32(36),
  blockCount: le.u64(40),
  incompatible: le.u64(64),
  nextOid: le.u64(88),
  descriptorBlocks: le.u32(104),
  dataBlocks: le.u32(108),
  descriptorBase: le.u64(112),
  dataBase: le.u64(120),
  descriptorIndex: le.u32(136),
  descriptorLength: le.u32(140),
  spaceManagerOid: le.u64(152),
  objectMapOid: le.u64(160),
  maxFileSystems: le.u32(180),
});
export const CONTAINER_MARK = 0x4253_584e;
export const VOLUME_OIDS_AT = 184;
export const MOST_VOLUMES = 100;
/** The descriptor area stands in one piece where this bit of `nx_xp_desc_blocks` is not set. */
export const IN_PIECES = 0x8000_0000;
export const CONTAINER_INCOMPATIBLE = { fusion: 0x100 } as const;

/** `checkpoint_map_phys_t` and `checkpoint_mapping_t`. */
export const CHECKPOINT_MAP = struct(40, { flags: le.u32(32), count: le.u32(36) });
export const CHECKPOINT_MAPPING = struct(40, { type: le.u32(0), size: le.u32(8), oid: le.u64(24), paddr: le.u64(32) });

/** `omap_phys_t`, `omap_key_t`, `omap_val_t`. */
export const OBJECT_MAP = struct(88, { treeOid: le.u64(48) });
export const OBJECT_MAP_KEY = { oid: 0, xid: 8, size: 16 } as const;
export const OBJECT_MAP_VALUE = { flags: 0, paddr: 8, size: 16, deleted: 1 } as const;

/** `btree_node_phys_t`, `btree_info_t`. */
export const NODE = struct(56, {
  flags: le.u16(32),
  level: le.u16(34),
  count: le.u32(36),
  tableOffset: le.u16(40),
  tableLength: le.u16(42),
});
export const NODE_FLAG = { root: 1, leaf: 2, fixed: 4, noHeader: 16 } as const;
export const TREE_INFO_SIZE = 40;

/** `apfs_superblock_t`. */
export const VOLUME = struct(1056, {
  magic: le.u32(32),
  index: le.u32(36),
  incompatible: le.u64(56),
  allocated: le.u64(88),
  treeType: le.u32(116),
  objectMapOid: le.u64(128),
  rootTreeOid: le.u64(136),
  extentReferenceOid: le.u64(144),
  snapshotTreeOid: le.u64(152),
  files: le.u64(184),
  folders: le.u64(192),
  links: le.u64(200),
  snapshots: le.u64(216),
  modifiedLow: le.u32(256),
  modifiedHigh: le.u32(260),
  flags: le.u64(264),
  role: le.u16(964),
  integrityOid: le.u64(1024),
  extentTreeOid: le.u64(1032),
});
export const VOLUME_MARK = 0x4253_5041;
export const VOLUME_NAME = { at: 704, length: 256 } as const;
/** `apfs_vol_uuid` and `apfs_volume_group_id`. */
export const VOLUME_UUID_AT = 240;
export const VOLUME_GROUP_AT = 1008;
export const VOLUME_FLAG = { unencrypted: 1 } as const;
export const VOLUME_INCOMPATIBLE = { caseInsensitive: 1, normalizationInsensitive: 8, sealed: 0x20 } as const;
/** `integrity_meta_phys_t`: of a sealed volume. */
export const INTEGRITY = struct(64, { flags: le.u32(36), hashType: le.u32(40), rootHashOffset: le.u32(44) });
export const INTEGRITY_FLAG = { broken: 1 } as const;
export const HASH_SHA256 = { type: 1, size: 32 } as const;
/** Roles of the volumes that make up one drive as its user knows it. */
export const ROLE = { system: 1, data: 1 << 6 } as const;
/** `apfs_role`; roles beyond the first ones are numbers shifted by six bits. */
export const ROLES: ReadonlyMap<number, string> = new Map([
  [1, "system"],
  [2, "home folders"],
  [4, "recovery"],
  [8, "memory"],
  [0x10, "start-up"],
  [0x20, "installer"],
  [1 << 6, "data"],
  [3 << 6, "update"],
  [6 << 6, "backup"],
]);

/** `j_key_t`: number and type in one. */
export const RECORD_TYPE = {
  snapshot: 1,
  physicalExtent: 2,
  inode: 3,
  attribute: 4,
  sibling: 5,
  extent: 8,
  entry: 9,
} as const;
export const KEY_SIZE = 8;

/** Numbers of the folders every volume has. */
export const ROOT_FOLDER = 2;
export const PRIVATE_FOLDER = 3;

/** `j_inode_val_t`; its extended fields follow. */
export const INODE = struct(92, {
  parentId: le.u64(0),
  privateId: le.u64(8),
  createLow: le.u32(16),
  createHigh: le.u32(20),
  modifyLow: le.u32(24),
  modifyHigh: le.u32(28),
  changeLow: le.u32(32),
  changeHigh: le.u32(36),
  children: le.u32(56),
  bsdFlags: le.u32(68),
  mode: le.u16(80),
  uncompressedSize: le.u64(84),
});
export const FIELD_TYPE = { name: 4, dataStream: 8 } as const;

/** `j_drec_val_t`. */
export const ENTRY = struct(18, { fileId: le.u64(0), flags: le.u16(16) });
export const ENTRY_KIND = { mask: 15, folder: 4 } as const;
/** `j_drec_hashed_key_t`: the length of the name stands in the low bits of a word with its hash. */
export const HASHED_LENGTH = 0x3ff;

/** `j_xattr_val_t`: the content stands in the record, or in a data stream of its own. */
export const ATTRIBUTE = struct(4, { flags: le.u16(0), length: le.u16(2) });
export const ATTRIBUTE_FLAG = { stream: 1, embedded: 2 } as const;
export const ATTRIBUTE_STREAM = struct(16, { streamId: le.u64(0), size: le.u64(8) });

/** `j_file_extent_val_t`: length and flags in one, then the first block; 0 is a hole. */
export const EXTENT = { size: 24, lengthBits: 2 ** 56 } as const;

/** `j_phys_ext_val_t`. */
export const PHYSICAL_EXTENT = { size: 20, owner: 8, references: 16 } as const;

/** `j_snap_metadata_val_t`. */
export const SNAPSHOT = struct(50, {
  extentReferenceOid: le.u64(0),
  volumeOid: le.u64(8),
  createLow: le.u32(16),
  createHigh: le.u32(20),
  nameLength: le.u16(48),
});

/** `spaceman_phys_t`: of the main device; the free queue of the main device. */
export const SPACE_MANAGER = struct(248 + 40, {
  blocksPerChunk: le.u32(36),
  chunksPerInfo: le.u32(40),
  infosPerAddresses: le.u32(44),
  blockCount: le.u64(48),
  chunkCount: le.u64(56),
  infoCount: le.u32(64),
  addressesCount: le.u32(68),
  addressOffset: le.u32(80),
  queueCount: le.u64(240),
  queueTreeOid: le.u64(248),
});
/** `chunk_info_block_t`, `chunk_info_t`, `cib_addr_block_t`. */
export const CHUNK_INFO_BLOCK = struct(40, { index: le.u32(32), count: le.u32(36) });
export const CHUNK_INFO = struct(32, { address: le.u64(8), blockCount: le.u32(16), freeCount: le.u32(20), bitmap: le.u64(24) });

export const MODE = { mask: 0xf000, folder: 0x4000, file: 0x8000, link: 0xa000 } as const;
/** The file's content is compressed by the system (UF_COMPRESSED). */
export const COMPRESSED = 0x20;
/** Names of attributes that are more than attributes. */
export const LINK_ATTRIBUTE = "com.apple.fs.symlink";
export const RESOURCE_ATTRIBUTE = "com.apple.ResourceFork";
