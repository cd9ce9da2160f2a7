import { Cursor } from "../bytes/cursor";
import { isDamage } from "../formats/reader-faults";

/** One fact a folder's metadata file keeps of a name in it. */
export interface FolderFact {
  readonly name: string;
  /** Four letters. */
  readonly code: string;
  readonly value: string | number | boolean | Uint8Array;
}

/**
 * The metadata file a Mac keeps in each folder: a buddy allocator with a B-tree in one of its blocks. Offsets count from the
 * fourth byte. From memory; described in Debian's libmac-finder-dsstore-perl ("DSStoreFormat").
 */
const FILE = { mark: 1, magic: 0x42756431, rootOffset: 8, rootSize: 12, base: 4, smallest: 36 } as const;
const TREE_NAME = "DSDB";
const MOST_BLOCKS = 65_536;
const MOST_FACTS = 200_000;
const MAX_DEPTH = 32;
const utf16be = new TextDecoder("utf-16be");

/** Reads the facts of a folder's metadata file; what is damaged is left out. @returns [] when it is none */
export function readFolderMetadata(bytes: Uint8Array): FolderFact[] {
  const cursor = new Cursor(bytes);
  if (bytes.length < FILE.smallest || cursor.u32be(0) !== FILE.mark || cursor.u32be(4) !== FILE.magic) return [];
  const facts: FolderFact[] = [];
  try {
    const blocks = readBlocks(cursor);
    const tree = blocks && blockAt(cursor, blocks.offsets[blocks.tree]);
    if (blocks && tree) walk(cursor, blocks.offsets, tree.u32be(0), new Set(), facts, 0);
  } catch (error) {
    // Cut short or damaged: what was read before it is sound.
    if (!isDamage(error)) throw error;
  }
  return facts;
}

function readBlocks(cursor: Cursor): { offsets: number[]; tree: number } | null {
  const root = new Cursor(cursor.slice(FILE.base + cursor.u32be(FILE.rootOffset), cursor.u32be(FILE.rootSize)));
  const count = root.u32be(0);
  if (count > MOST_BLOCKS) return null;
  const offsets = Array.from({ length: count }, (_, index) => root.u32be(8 + 4 * index));
  // The addresses fill whole groups of 256; the table of contents follows.
  let at = 8 + 4 * 256 * Math.ceil(count / 256);
  const names = root.u32be(at);
  at += 4;
  for (let index = 0; index < names && index < 64; index += 1) {
    const length = root.u8(at);
    const name = String.fromCharCode(...root.slice(at + 1, length));
    const block = root.u32be(at + 1 + length);
    if (name === TREE_NAME && block < count) return { offsets, tree: block };
    at += 5 + length;
  }
  return null;
}

/** A block: its address has the offset in all but the low five bits, which are the power of two of its size. */
function blockAt(cursor: Cursor, address: number | undefined): Cursor | null {
  if (address === undefined || address === 0) return null;
  const start = FILE.base + (address & ~0x1f);
  const length = 2 ** (address & 0x1f);
  if (start >= cursor.size) return null;
  return new Cursor(cursor.slice(start, Math.min(length, cursor.size - start)));
}

function walk(cursor: Cursor, offsets: readonly number[], number: number, seen: Set<number>, facts: FolderFact[], depth: number): void {
  const block = seen.has(number) || depth > MAX_DEPTH ? null : blockAt(cursor, offsets[number]);
  if (!block) return;
  seen.add(number);
  const rightmost = block.u32be(0);
  const count = block.u32be(4);
  let at = 8;
  for (let index = 0; index < count && facts.length < MOST_FACTS; index += 1) {
    if (rightmost !== 0) {
      walk(cursor, offsets, block.u32be(at), seen, facts, depth + 1);
      at += 4;
    }
    const read = readFact(block, at);
    if (!read) return;
    facts.push(read.fact);
    at = read.end;
  }
  if (rightmost !== 0) walk(cursor, offsets, rightmost, seen, facts, depth + 1);
}

function readFact(block: Cursor, start: number): { fact: FolderFact; end: number } | null {
  const chars = block.u32be(start);
  if (chars === 0 || chars > 1024) return null;
  const name = utf16be.decode(block.slice(start + 4, chars * 2));
  let at = start + 4 + chars * 2;
  const code = letters(block, at);
  const type = letters(block, at + 4);
  at += 8;
  switch (type) {
    case "bool":
      return { fact: { name, code, value: block.u8(at) !== 0 }, end: at + 1 };
    case "long":
    case "shor":
      return { fact: { name, code, value: block.u32be(at) }, end: at + 4 };
    case "type":
      return { fact: { name, code, value: letters(block, at) }, end: at + 4 };
    case "comp":
    case "dutc":
      return { fact: { name, code, value: block.u64be(at) }, end: at + 8 };
    case "blob": {
      const length = block.u32be(at);
      return { fact: { name, code, value: block.slice(at + 4, length) }, end: at + 4 + length };
    }
    case "ustr": {
      const length = block.u32be(at) * 2;
      return { fact: { name, code, value: utf16be.decode(block.slice(at + 4, length)) }, end: at + 4 + length };
    }
    default:
      return null;
  }
}

const letters = (cursor: Cursor, at: number) => String.fromCharCode(...cursor.slice(at, 4));

/** Where the things in a bin came from, by the name they have in it: the folder (below the volume's root) and the old name. */
export function putBackPlaces(facts: readonly FolderFact[]): Map<string, { folder: string | null; name: string | null }> {
  const places = new Map<string, { folder: string | null; name: string | null }>();
  for (const { name, code, value } of facts) {
    if ((code !== "ptbL" && code !== "ptbN") || typeof value !== "string") continue;
    const known = places.get(name) ?? { folder: null, name: null };
    places.set(name, code === "ptbL" ? { ...known, folder: value.replace(/^\/+|\/+$/g, "") } : { ...known, name: value });
  }
  return places;
}
