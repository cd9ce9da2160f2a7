import { le, struct } from "../../bytes/struct";

/**
 * The tape-format layout ("Tape Format Specification", revision 1.00a, chapters 5 and 6). Values are little-endian; a field that leads
 * to something in its block (`…Size`, `…At`) counts from the block's first byte. The text of the specification was not at hand: names and
 * places are from memory, except for the first block, which the program `file` reads the same way.
 */

/** What all descriptor blocks begin with. */
export const COMMON = struct(52, {
  type: le.u32(0),
  attributes: le.u32(4),
  offsetToFirstEvent: le.u16(8),
  osId: le.u8(10),
  osVersion: le.u8(11),
  displayableSize: le.u64(12),
  formatLogicalAddress: le.u64(20),
  controlBlockId: le.u32(36),
  osDataSize: le.u16(44),
  osDataAt: le.u16(46),
  stringType: le.u8(48),
  checksum: le.u16(50),
});

export const TAPE = struct(94, {
  mediaFamilyId: le.u32(52),
  mediaSequence: le.u16(60),
  softFilemarkBlockSize: le.u16(64),
  nameSize: le.u16(68),
  nameAt: le.u16(70),
  formatLogicalBlockSize: le.u16(84),
});

export const SSET = struct(98, {
  attributes: le.u32(52),
  compression: le.u16(58),
  setNumber: le.u16(62),
  nameSize: le.u16(64),
  nameAt: le.u16(66),
  userSize: le.u16(76),
  userAt: le.u16(78),
  /** Quarters of an hour ahead of UTC, signed. */
  timeZone: le.u8(95),
});
export const SSET_DATE = 88;

export const VOLB = struct(73, {
  deviceSize: le.u16(56),
  deviceAt: le.u16(58),
  volumeSize: le.u16(60),
  volumeAt: le.u16(62),
  machineSize: le.u16(64),
  machineAt: le.u16(66),
});

export const DIRB = struct(84, {
  attributes: le.u32(52),
  directoryId: le.u32(76),
  nameSize: le.u16(80),
  nameAt: le.u16(82),
});

export const FILE = struct(88, {
  attributes: le.u32(52),
  directoryId: le.u32(76),
  fileId: le.u32(80),
  nameSize: le.u16(84),
  nameAt: le.u16(86),
});
/** Where folders and files have their dates, five bytes each. */
export const DATES = { modified: 56, created: 61 } as const;

/** What each stream of a block begins with. */
export const STREAM = struct(22, {
  id: le.u32(0),
  systemAttributes: le.u16(4),
  mediaAttributes: le.u16(6),
  length: le.u64(8),
  encryption: le.u16(16),
  compression: le.u16(18),
  checksum: le.u16(20),
});

/** Attributes of any block: it goes on with what the medium before had begun. */
export const CONTINUATION = 0x1;
/** Attributes of sets. */
export const SET_ENCRYPTED = 0x20000;
/** Attributes of files. */
export const FILE_BITS = { readOnly: 0x100, hidden: 0x200, inUse: 0x10000, nameInStream: 0x20000, changedWhileRead: 0x40000 } as const;
/** Attributes of streams, of the system and of the medium. */
export const SPARSE = 0x8;
export const STREAM_BITS = { continued: 0x1, encrypted: 0x8, compressed: 0x10 } as const;

export const STRINGS = { none: 0, singleByte: 1, unicode: 2 } as const;

export const TYPES = ["TAPE", "SSET", "VOLB", "DIRB", "FILE", "CFIL", "ESPB", "ESET", "EOTM", "SFMB"] as const;
export type BlockType = (typeof TYPES)[number];

/** Streams that are known by their ids: only these are looked for where something is damaged; any other is passed over by its length. */
export const KNOWN_STREAMS = [
  "STAN",
  "SPAD",
  "CSUM",
  "SPAR",
  "ADAT",
  "NACL",
  "PNAM",
  "FNAM",
  "NTED",
  "NTEA",
  "NTOI",
  "TSMP",
  "TFDD",
] as const;

/** Four letters as the number they are stored as. */
export const idOf = (letters: string): number =>
  (letters.charCodeAt(0) | (letters.charCodeAt(1) << 8) | (letters.charCodeAt(2) << 16) | (letters.charCodeAt(3) << 24)) >>> 0;

/** The two sizes of a format logical block. Bytes. */
export const LOGICAL_BLOCKS = [512, 1024] as const;
/** Streams begin at multiples of this, counted from their block. */
export const STREAM_ALIGNMENT = 4;

/**
 * Reads a date and time in five bytes: year in 14 bits, month 4, day 5, hour 5, minute 6, second 6. @returns a local time as if it were
 * UTC, in milliseconds; null: none is stored, or it cannot be one
 */
export function dateOf(bytes: Uint8Array, at: number): number | null {
  const [a = 0, b = 0, c = 0, d = 0, e = 0] = bytes.subarray(at, at + 5);
  const [year, month, day] = [(a << 6) | (b >> 2), ((b & 3) << 2) | (c >> 6), (c >> 1) & 31];
  const [hour, minute, second] = [((c & 1) << 4) | (d >> 4), ((d & 15) << 2) | (e >> 6), e & 63];
  if (year < 1970 || year > 2199 || month < 1 || month > 12 || day < 1 || day > 31 || hour > 23 || minute > 59 || second > 59) return null;
  return Date.UTC(year, month - 1, day, hour, minute, second);
}

/** The exclusive or of 16-bit words, which headers keep of what stands before it. @param length bytes, even */
export function wordChecksum(bytes: Uint8Array, at: number, length: number): number {
  let sum = 0;
  for (let i = at; i < at + length; i += 2) sum ^= (bytes[i] as number) | ((bytes[i + 1] as number) << 8);
  return sum;
}
