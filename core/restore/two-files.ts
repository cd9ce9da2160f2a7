import { type Layout, layoutOf, type Segment } from "../bytes/layout";

/** A named stream of a file: a fork or an extended attribute, and where its bytes stand (null: that is not known). */
export interface NamedStream {
  readonly name: string;
  /** Bytes. */
  readonly size: number;
  readonly layout: Layout | null;
}

/** The names under which forks and the Finder's information come among the streams of a file. */
export const RESOURCE_FORK = "rsrc";
const FINDER_INFO = "com.apple.FinderInfo";

/**
 * The second file of the two-file form, AppleDouble version 2 (RFC 1740, appendix A and B): big-endian; a head, a table of entries, then
 * their bytes. Extended attributes stand behind the Finder's information in its entry, as open kernel sources describe them
 * (`vfs_xattr.c`: `attr_header`, `attr_entry`; from memory).
 */
const MAGIC = 0x0005_1607;
const VERSION = 0x0002_0000;
const FILLER = "Mac OS X        ";
const ENTRY = { finderInfo: 9, resourceFork: 2 } as const;
const HEAD = 26 + 2 * 12;
const FINDER_BYTES = 32;
const ATTRIBUTES = { magic: 0x4154_5452, at: HEAD + FINDER_BYTES + 2, bytes: 36, entry: 11 } as const;
/** The attributes with their table may take so much, and a name so many bytes (`vfs_xattr.c`). */
const MOST_ATTRIBUTES = 65_536;
const LONGEST_NAME = 127;

/** How the second file is called: this before the name of the first. */
export const SECOND_FILE = "._";

export interface TwoFiles {
  /** The bytes of the second file. */
  readonly layout: Layout;
  /** Streams that have no place in it, by name. */
  readonly left: readonly string[];
}

/**
 * Lays out the second file of the two-file form: the resource fork, what the Finder keeps, and extended attributes of a file.
 * @returns null: nothing of them has a place in it
 */
export function twoFileLayout(streams: readonly NamedStream[]): TwoFiles | null {
  const left: string[] = [];
  const known = streams.filter((stream) => {
    if (stream.layout === null && stream.size > 0) left.push(stream.name);
    return stream.layout !== null || stream.size === 0;
  });
  const finder = known.find(({ name, size }) => name === FINDER_INFO && size === FINDER_BYTES);
  const fork = known.find(({ name }) => name === RESOURCE_FORK);
  const attributes: { readonly stream: NamedStream; readonly name: Buffer }[] = [];
  let total = ATTRIBUTES.at + ATTRIBUTES.bytes;
  for (const stream of known) {
    if (stream === finder || stream === fork) continue;
    const name = Buffer.from(stream.name);
    const bytes = entryBytes(name) + stream.size;
    if (name.length > LONGEST_NAME || name.includes(0) || total + bytes > MOST_ATTRIBUTES) left.push(stream.name);
    else {
      attributes.push({ stream, name });
      total += bytes;
    }
  }
  if (!finder && !fork && attributes.length === 0) return null;
  const end = attributes.length > 0 ? total : HEAD + FINDER_BYTES;
  const head = Buffer.alloc(HEAD);
  head.writeUInt32BE(MAGIC, 0);
  head.writeUInt32BE(VERSION, 4);
  head.write(FILLER, 8, "latin1");
  head.writeUInt16BE(2, 24);
  writeEntry(head, 26, ENTRY.finderInfo, HEAD, end - HEAD);
  writeEntry(head, 38, ENTRY.resourceFork, end, fork?.size ?? 0);
  const segments: Segment[] = [held(head), ...(finder ? segmentsOf(finder) : [held(Buffer.alloc(FINDER_BYTES))])];
  if (attributes.length > 0) {
    segments.push(held(attributeTable(attributes, total)));
    for (const { stream } of attributes) segments.push(...segmentsOf(stream));
  }
  if (fork) segments.push(...segmentsOf(fork));
  return { layout: layoutOf(segments, end + (fork?.size ?? 0)), left };
}

const held = (bytes: Uint8Array): Segment => ({ kind: "held", at: 0, length: bytes.length, bytes });
const segmentsOf = ({ layout }: NamedStream): readonly Segment[] => layout?.segments ?? [];

/** Bytes of an attribute's entry, its name with the zero behind it: a multiple of four. */
const entryBytes = (name: Buffer): number => Math.ceil((ATTRIBUTES.entry + name.length + 1) / 4) * 4;

function writeEntry(head: Buffer, at: number, id: number, offset: number, length: number): void {
  head.writeUInt32BE(id, at);
  head.writeUInt32BE(offset, at + 4);
  head.writeUInt32BE(length, at + 8);
}

/** The table of attributes with the two bytes before it. @param total offset in the file behind the last attribute's bytes */
function attributeTable(attributes: readonly { readonly stream: NamedStream; readonly name: Buffer }[], total: number): Buffer {
  const data = ATTRIBUTES.at + ATTRIBUTES.bytes + attributes.reduce((sum, { name }) => sum + entryBytes(name), 0);
  const table = Buffer.alloc(data - HEAD - FINDER_BYTES);
  table.writeUInt32BE(ATTRIBUTES.magic, 2);
  table.writeUInt32BE(total, 10);
  table.writeUInt32BE(data, 14);
  table.writeUInt32BE(total - data, 18);
  table.writeUInt16BE(attributes.length, 36);
  let at = 2 + ATTRIBUTES.bytes;
  let offset = data;
  for (const { stream, name } of attributes) {
    table.writeUInt32BE(offset, at);
    table.writeUInt32BE(stream.size, at + 4);
    table.writeUInt8(name.length + 1, at + 10);
    name.copy(table, at + ATTRIBUTES.entry);
    at += entryBytes(name);
    offset += stream.size;
  }
  return table;
}
