import { type ByteSource, readBytes } from "../bytes/byte-source";
import { type Coding, MOST_CODED } from "../bytes/codecs";
import { Cursor } from "../bytes/cursor";
import { type Layout, LayoutSource, layoutOf, type Segment, sliceLayout } from "../bytes/layout";
import { le, struct } from "../bytes/struct";

/**
 * Files compressed by the system of a Mac: an attribute says how, and holds the coded content itself or leaves it to the resource fork,
 * in chunks of 64 KiB. The attribute and the chunk tables are described in open kernel sources (`decmpfs.h`) and by general archivers;
 * numbers 1, 9, 10 and the marks of stored chunks are from memory.
 */
export const COMPRESSION_ATTRIBUTE = "com.apple.decmpfs";
/** A file's resource fork as one of its named streams. */
export const RESOURCE_STREAM = "rsrc";
/** What the Finder keeps of a file, 32 bytes, as one of its named streams. */
export const FINDER_STREAM = "com.apple.FinderInfo";
const HEADER = struct(16, { magic: le.u32(0), type: le.u32(4), size: le.u64(8) });
const MAGIC = 0x636d_7066;
const CHUNK = 65_536;
/** A larger file is damage; a table of chunks has at most so many entries. */
const MOST_CHUNKS = 1 << 22;

interface Method {
  /** Whether the content stands in the attribute itself. */
  readonly inline: boolean;
  /** null: as it is. */
  readonly coding: Coding | null;
  /** Whether a chunk that begins with this byte is stored as it is behind it. */
  readonly stored: (first: number) => boolean;
  /** How the table of chunks in the resource fork is laid out. */
  readonly table: "blocks" | "offsets";
}

const method = (inline: boolean, coding: Coding | null, stored: Method["stored"], table: Method["table"] = "offsets"): Method => ({
  inline,
  coding,
  stored,
  table,
});
const ofZlib = (first: number) => (first & 0x0f) === 0x0f;
const ofLzvn = (first: number) => first === 0x06;
const ofLzfse = (first: number) => first === 0xff;
const ofPlain = (first: number) => first === 0xcc;

const METHODS: ReadonlyMap<number, Method> = new Map([
  [1, method(true, null, () => false)],
  [3, method(true, "zlib", ofZlib)],
  [4, method(false, "zlib", ofZlib, "blocks")],
  [7, method(true, "lzvn", ofLzvn)],
  [8, method(false, "lzvn", ofLzvn)],
  [9, method(true, null, ofPlain)],
  [10, method(false, null, ofPlain)],
  [11, method(true, "lzfse", ofLzfse)],
  [12, method(false, "lzfse", ofLzfse)],
]);

export interface CompressedContent {
  /** Plain bytes. */
  readonly size: number;
  /** null: it cannot be followed; the notes say why. */
  readonly layout: Layout | null;
  /** Whether the resource fork is used up by it: then it is none of the file's own. */
  readonly usesResource: boolean;
  readonly notes: readonly string[];
}

/**
 * Works out where the content of a compressed file stands.
 * @param attribute the attribute's bytes, and the disk byte offset where they stand
 * @param resource the layout of the resource fork; null: there is none
 * @returns null: the attribute does not say how the file is compressed
 */
export function compressedContent(
  attribute: { readonly bytes: Uint8Array; readonly at: number },
  resource: Layout | null,
  disk: ByteSource,
): CompressedContent | null {
  if (attribute.bytes.length < HEADER.size) return null;
  const { magic, type, size } = HEADER.read(new Cursor(attribute.bytes), 0);
  if (magic !== MAGIC) return null;
  const way = METHODS.get(type);
  const fail = (note: string): CompressedContent => ({ size: Math.min(size, 2 ** 50), layout: null, usesResource: false, notes: [note] });
  if (!way) return fail(`Compressed by the system in a way (${type}) that cannot be followed here: the content is left out.`);
  if (way.inline) {
    if (size > MOST_CODED) return fail("Its record gives a size that cannot be for what it holds: the content is left out.");
    return { size, layout: inlineLayout(way, attribute, size), usesResource: false, notes: [] };
  }
  if (!resource) return fail("The compressed content is gone: the resource fork that should hold it is not there.");
  const found = forkLayout(way, resource, size, disk);
  return typeof found === "string" ? fail(found) : { size, usesResource: true, ...found };
}

function inlineLayout(way: Method, { bytes, at }: { bytes: Uint8Array; at: number }, size: number): Layout {
  const payload = bytes.subarray(HEADER.size);
  const marked = payload.length > 0 && way.stored(payload[0] as number);
  if (way.coding === null || marked) {
    const from = HEADER.size + (marked ? 1 : 0);
    const plain = bytes.slice(from, from + size);
    return layoutOf([{ kind: "held", at: at + from, length: plain.length, bytes: plain }], size);
  }
  if (payload.length === 0) return layoutOf([], size);
  return layoutOf([{ kind: "coded", coding: way.coding, length: size, from: [], held: payload.slice() }], size);
}

interface Chunk {
  /** Bytes of the resource fork. */
  readonly at: number;
  readonly length: number;
}

function forkLayout(way: Method, resource: Layout, size: number, disk: ByteSource): { layout: Layout; notes: string[] } | string {
  const fork = new LayoutSource(disk, resource);
  const wanted = Math.ceil(size / CHUNK);
  const chunks = way.table === "blocks" ? blockTable(fork, wanted) : offsetTable(fork);
  if (!chunks) return "The table of its compressed chunks is damaged: the content is left out.";
  const segments: Segment[] = [];
  let lost = 0;
  for (const [index, { at, length }] of chunks.slice(0, wanted).entries()) {
    const plain = Math.min(CHUNK, size - index * CHUNK);
    const coded = chunkSegments(way, resource, fork, at, length, plain);
    if (!coded) lost += 1;
    segments.push(...(coded ?? [{ kind: "lost", length: plain } as const]));
  }
  const notes: string[] = [];
  if (chunks.length < wanted) notes.push(`Of its ${wanted} compressed chunks only ${chunks.length} are listed; the rest is missing.`);
  if (lost > 0) notes.push(`${lost} of its compressed chunks do not stand where they should; they are missing.`);
  return { layout: layoutOf(segments, size), notes };
}

function chunkSegments(way: Method, resource: Layout, fork: ByteSource, at: number, length: number, plain: number): Segment[] | null {
  if (length < 1 || at + length > resource.size || length > 2 * CHUNK + 64) return null;
  const first = readBytes(fork, at, 1)[0] as number;
  if (way.coding === null || way.stored(first)) {
    const skip = way.stored(first) ? 1 : 0;
    const stored = sliceLayout(resource, at + skip, Math.min(plain, length - skip));
    return stored && length - skip < plain ? [...stored, { kind: "lost", length: plain - (length - skip) }] : stored;
  }
  const from = sliceLayout(resource, at, length);
  if (!from || from.some((segment) => segment.kind !== "disk")) return null;
  return [{ kind: "coded", coding: way.coding, length: plain, from: from.flatMap((each) => (each.kind === "disk" ? [each] : [])) }];
}

/** A resource fork of one resource, which begins with the number of chunks and the place and length of each. */
function blockTable(fork: ByteSource, wanted: number): Chunk[] | null {
  if (fork.size < 16) return null;
  const dataAt = new Cursor(readBytes(fork, 0, 4)).u32be(0);
  if (dataAt + 8 > fork.size) return null;
  // A number of chunks that the file has no use for is damage; the first entries may be right all the same.
  const count = Math.min(wanted, new Cursor(readBytes(fork, dataAt + 4, 4)).u32(0));
  if (count > MOST_CHUNKS || dataAt + 8 + count * 8 > fork.size) return null;
  const table = new Cursor(readBytes(fork, dataAt + 8, count * 8));
  return Array.from({ length: count }, (_, index) => ({ at: dataAt + 4 + table.u32(index * 8), length: table.u32(index * 8 + 4) }));
}

/** Places of the chunks and of the end of the last one; the first one is the table's own length. */
function offsetTable(fork: ByteSource): Chunk[] | null {
  if (fork.size < 8) return null;
  const bytes = new Cursor(readBytes(fork, 0, 4)).u32(0);
  const count = bytes / 4 - 1;
  if (!Number.isInteger(count) || count < 1 || count > MOST_CHUNKS || bytes > fork.size) return null;
  const table = new Cursor(readBytes(fork, 0, bytes));
  return Array.from({ length: count }, (_, index) => {
    const at = table.u32(index * 4);
    return { at, length: table.u32(index * 4 + 4) - at };
  });
}
