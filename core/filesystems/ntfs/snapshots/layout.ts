import type { Cursor } from "../../../bytes/cursor";
import { guidText } from "../../../bytes/guid";
import { le, struct, type Values } from "../../../bytes/struct";

/**
 * Volume snapshots kept inside an NTFS volume as copy-on-write blocks. The layout has no publication of its maker; it is written from
 * memory of an open documentation of the format and held against an independent reader by the recorded images of the tests. Offsets count
 * bytes from the beginning of the volume; numbers are little-endian.
 */
export const BLOCK = 16_384;
/** Every structure of the snapshots begins with it. */
const FIRST_WORD = 0x3808876b;
const IDENTIFIER = "3808876B-C176-4E48-B7AE-04046E6CC752";
/** Where the volume header of the snapshots stands. */
export const HEADER_AT = 0x1e00;

/** How a store's file is named: its own identifier, then that of the snapshots, each in braces. */
export const STORE_FILE = new RegExp(`^\\{([0-9a-f-]{36})\\}\\{${IDENTIFIER}\\}$`, "i");
/** A part of such a name that no other file has. */
export const STORE_FILE_PART = `}{${IDENTIFIER.toLowerCase().slice(0, 8)}-`;

export const RECORD = { header: 1, catalog: 2, blockList: 3, storeHeader: 4, ranges: 5 } as const;

/** The beginning of every block. `relative`: its place in the file it belongs to; `own`: its place in the volume. */
const HEADER_FIELDS = { version: le.u32(16), type: le.u32(20), relative: le.u64(24), own: le.u64(32), next: le.u64(40) } as const;
const blockHeader = struct(128, HEADER_FIELDS);
export const volumeHeader = struct(56, { version: le.u32(16), type: le.u32(20), catalog: le.u64(48) });

/** Reads the header of a block; null: it has none. */
export function readBlockHeader(block: Cursor): Values<typeof HEADER_FIELDS> | null {
  if (!hasIdentifier(block)) return null;
  const header = blockHeader.read(block, 0);
  return header.version === 1 ? header : null;
}

export const hasIdentifier = (block: Cursor): boolean => block.u32(0) === FIRST_WORD && guidText(block.slice(0, 16)) === IDENTIFIER;

/** Entries of the catalog: from `first` to the end of its block. */
export const CATALOG_ENTRY = { first: 128, size: 128, snapshot: 2, store: 3 } as const;
export const catalogEntry = struct(128, {
  type: le.u64(0),
  /** Of a store: its first block list. */
  blockList: le.u64(8),
  /** Of a store: its header. */
  header: le.u64(32),
  /** Of a store: its ranges. */
  ranges: le.u64(40),
});
/** Places inside an entry. */
export const ENTRY = { guid: 16, created: 48 } as const;

/** Descriptors of a block list: from `first` on. */
export const DESCRIPTOR = { first: 128, size: 32, forwarder: 1, overlay: 2, unused: 4 } as const;
export const descriptor = struct(32, {
  original: le.u64(0),
  /** Of a forwarder: the block of the volume it points to. */
  target: le.u64(8),
  data: le.u64(16),
  flags: le.u32(24),
  sectors: le.u32(28),
});

/** Ranges of a store: from `first` on. */
export const RANGE = { first: 128, size: 24 } as const;
export const range = struct(24, { at: le.u64(0), relative: le.u64(8), length: le.u64(16) });

/** What a store's header says, from `first` on: a length in bytes and a name in UTF-16, twice. */
export const STORE_INFORMATION = { first: 128, strings: 64 } as const;
