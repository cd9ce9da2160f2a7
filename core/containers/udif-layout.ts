import { be, struct } from "../bytes/struct";

/**
 * Compressed Mac disk images, all big-endian. There is no published specification; the layout is that which general tools read
 * (7-Zip, qemu-img `block/dmg.c`, dmg2img), from memory, and is held against images that they read alike.
 */
export const TRAILER = struct(512, {
  signature: be.u32(0),
  headerSize: be.u32(8),
  runningDataForkOffset: be.u64(16),
  dataForkOffset: be.u64(24),
  dataForkLength: be.u64(32),
  segmentNumber: be.u32(56),
  segmentCount: be.u32(60),
  listOffset: be.u64(216),
  listLength: be.u64(224),
  sectorCount: be.u64(492),
});
export const TRAILER_MARK = 0x6b6f_6c79;
export const SEGMENT_ID = { at: 64, length: 16 } as const;

/** A table of chunks, as the property list holds them. */
export const TABLE = struct(204, {
  signature: be.u32(0),
  firstSector: be.u64(8),
  sectorCount: be.u64(16),
  dataOffset: be.u64(24),
  checksumType: be.u32(64),
  checksum: be.u32(72),
  chunkCount: be.u32(200),
});
export const TABLE_MARK = 0x6d69_7368;
export const CRC32 = 2;

export const CHUNK = struct(40, {
  type: be.u32(0),
  sectorNumber: be.u64(8),
  sectorCount: be.u64(16),
  offset: be.u64(24),
  length: be.u64(32),
});
export const CHUNK_TYPE = { zeros: 0, raw: 1, unstored: 2, comment: 0x7fff_fffe, end: 0xffff_ffff } as const;
export const CODED_TYPES = {
  2147483652: "adc",
  2147483653: "zlib",
  2147483654: "bzip2",
  2147483655: "lzfse",
  2147483656: "xz",
} as const;

export const SECTOR = 512;
