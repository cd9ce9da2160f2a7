/** ZIP: the published APPNOTE, 4.3 (local header 4.3.7, descriptor 4.3.9, central directory 4.3.12, end records 4.3.14 to 16). */
export const LOCAL = {
  mark: "PK\x03\x04",
  flags: 6,
  method: 8,
  time: 10,
  date: 12,
  crc: 14,
  packed: 18,
  plain: 22,
  nameLength: 26,
  extraLength: 28,
  size: 30,
} as const;
export const DESCRIPTOR = { mark: "PK\x07\x08" } as const;
export const CENTRAL = {
  mark: "PK\x01\x02",
  madeBy: 4,
  flags: 8,
  method: 10,
  time: 12,
  date: 14,
  crc: 16,
  packed: 20,
  plain: 24,
  nameLength: 28,
  extraLength: 30,
  commentLength: 32,
  disk: 34,
  attributes: 38,
  offset: 42,
  size: 46,
} as const;
export const END = {
  mark: "PK\x05\x06",
  disk: 4,
  count: 10,
  directorySize: 12,
  directoryAt: 16,
  commentLength: 20,
  size: 22,
  maxComment: 65_535,
} as const;
export const END64 = { mark: "PK\x06\x06", length: 4, count: 32, directorySize: 40, directoryAt: 48 } as const;
export const LOCATOR64 = { mark: "PK\x06\x07", endAt: 8, size: 20 } as const;
/** 4.5.3: the extra field with sizes of 64 bits. */
export const EXTRA64 = 1;
/** Extra fields with UTC times: seconds (0x5455, layout of the Info-ZIP note), FILETIMEs (4.5.5). */
export const EXTRA_TIMES = { unix: 0x5455, ntfs: 0x000a } as const;
export const METHOD = { stored: 0, deflated: 8, deflate64: 9, bzip2: 12, lzma: 14 } as const;
export const FLAG = { encrypted: 1, descriptor: 8, utf8: 0x800 } as const;
/** The first part of a split archive begins with this before its first member (8.5.3, from memory). */
export const SPLIT_MARK = "PK\x07\x08";

/** Bytes that are looked through for members where no list of contents leads to them, only to know what the archive is. */
export const MOST_LOOKED_THROUGH = 1 << 26;
