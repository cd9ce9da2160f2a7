import { type ByteSource, readBytes, WindowSource } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { guidTextBe } from "../bytes/guid";
import { asciiText } from "../bytes/text";
import { BlockDisk, type BlockPlace, EntryTable, kept } from "./block-disk";
import { judgeTable } from "./block-table";
import { type Container, ContainerError, MAX_PARENTS, MissingFileError, type Neighbours, NO_NEIGHBOURS } from "./container";

/**
 * VHD, all big-endian: "Virtual Hard Disk Image Format Specification", version 1.0 (October 2006): "Hard Disk Footer
 * Format", "Dynamic Disk Header Format", "Block Allocation Table and Data Blocks", "Implementing a Differencing Hard Disk".
 */
const FOOTER = {
  size: 512,
  cookie: "conectix",
  dataOffset: 16,
  timeStamp: 24,
  currentSize: 48,
  diskType: 60,
  checksum: 64,
  uniqueId: 68,
} as const;
const DISK_TYPE = { fixed: 2, dynamic: 3, differencing: 4 } as const;
const HEADER = {
  size: 1024,
  cookie: "cxsparse",
  tableOffset: 16,
  maxTableEntries: 28,
  blockSize: 32,
  checksum: 36,
  parentId: 40,
  parentName: 64,
  parentNameBytes: 512,
  locators: 576,
  locatorSize: 24,
  locatorCount: 8,
} as const;
const LOCATOR = { code: 0, length: 8, offset: 16, codes: ["W2ru", "W2ku"] } as const;
const SECTOR = 512;
const UNUSED = 0xffffffff;
/** Times count seconds from 1 January 2000, UTC. */
const EPOCH = Date.UTC(2000, 0, 1);
/** A block table of more entries than a disk of 64 TiB in blocks of 2 MiB needs is damage. */
const MAX_BLOCKS = 1 << 25;
const MAX_NAME_BYTES = 4096;

interface Footer {
  readonly at: number;
  readonly type: number;
  readonly size: number;
  readonly headerAt: number;
  readonly id: string;
  readonly created: number | null;
}

/** The one's complement of the sum of all bytes, the checksum itself left out. */
function checksum(bytes: Uint8Array, fieldAt: number): number {
  let sum = 0;
  for (let i = 0; i < bytes.length; i += 1) if (i < fieldAt || i >= fieldAt + 4) sum += bytes[i] as number;
  return ~sum >>> 0;
}

function readFooter(file: ByteSource, at: number): { footer: Footer; sound: boolean } | null {
  if (at < 0 || at + 511 > file.size) return null;
  // Files of some early makers are one byte short: the last one reads as zero.
  const cursor = new Cursor(readBytes(file, at, FOOTER.size));
  if (asciiText(cursor.slice(0, 8)) !== FOOTER.cookie) return null;
  const seconds = cursor.u32be(FOOTER.timeStamp);
  return {
    sound: checksum(cursor.bytes, FOOTER.checksum) === cursor.u32be(FOOTER.checksum),
    footer: {
      at,
      type: cursor.u32be(FOOTER.diskType),
      size: cursor.u64be(FOOTER.currentSize),
      headerAt: cursor.u64be(FOOTER.dataOffset),
      id: guidTextBe(cursor.slice(FOOTER.uniqueId, 16)),
      created: seconds === 0 ? null : EPOCH + seconds * 1000,
    },
  };
}

/** The footer at the end, or the copy at the beginning of dynamic and differencing images. */
function findFooter(file: ByteSource): { footer: Footer; notes: string[] } | null {
  const end = file.size - FOOTER.size;
  const places = [end, file.size - 511, 0];
  const found = places.map((at) => readFooter(file, at));
  const sound = found.find((each) => each?.sound);
  if (sound) {
    const notes: string[] = [];
    if (sound.footer.at === 0 && file.size > FOOTER.size) {
      notes.push(`The footer at the end of the image is ${found[0] ? "damaged" : "missing"}; its copy at the beginning was used.`);
      // A fixed image has no copy: what looks like one is the disk's own first sector.
      if (sound.footer.type === DISK_TYPE.fixed) return null;
    }
    return { footer: sound.footer, notes };
  }
  const damaged = found.find((each) => each);
  return damaged
    ? { footer: damaged.footer, notes: ["The checksum of the image's footer does not match; it was used as it stands."] }
    : null;
}

/**
 * Opens a VHD; null when the file is none.
 * @throws ContainerError when its structure cannot be followed, or its parent is missing
 */
export function openVhd(file: ByteSource, neighbours: Neighbours = NO_NEIGHBOURS, depth = 0): Container | null {
  const found = findFooter(file);
  if (!found) return null;
  const { footer, notes } = found;
  const facts = { kind: "vhd" as const, identity: footer.id, created: footer.created };
  if (footer.type === DISK_TYPE.fixed) {
    if (footer.size > footer.at) notes.push(`The image should hold ${footer.size} bytes; only ${footer.at} of them are there.`);
    const size = footer.size === 0 ? footer.at : Math.min(footer.size, footer.at);
    return { ...facts, form: "fixed", disk: new WindowSource(file, 0, size), notes };
  }
  if (footer.type !== DISK_TYPE.dynamic && footer.type !== DISK_TYPE.differencing)
    throw new ContainerError(`The image says it is of kind ${footer.type}; 2 (fixed), 3 (dynamic) and 4 (differencing) are known.`);
  const header = readHeader(file, footer, notes);
  const parent = footer.type === DISK_TYPE.differencing ? openParent(header, neighbours, depth, notes) : null;
  const disk = blockDisk(file, footer, header, parent, notes);
  return { ...facts, form: parent ? "differencing" : "dynamic", disk, notes };
}

interface Header {
  readonly tableAt: number;
  readonly entries: number;
  readonly blockSize: number;
  readonly cursor: Cursor;
  readonly locatorText: (at: number, length: number) => string;
}

function readHeader(file: ByteSource, footer: Footer, notes: string[]): Header {
  if (footer.headerAt + HEADER.size > file.size)
    throw new ContainerError("The image's block table would stand past its end: the file is cut short.");
  const cursor = new Cursor(readBytes(file, footer.headerAt, HEADER.size));
  if (asciiText(cursor.slice(0, 8)) !== HEADER.cookie) {
    const found = footer.type === DISK_TYPE.dynamic ? findTable(file, footer) : null;
    if (!found) throw new ContainerError("The image's header, which tells where its blocks stand, is overwritten.");
    notes.push("The image's header is overwritten: its table of blocks was found by what it looks like.");
    return { ...found, cursor, locatorText: () => "" };
  }
  if (checksum(cursor.bytes, HEADER.checksum) !== cursor.u32be(HEADER.checksum))
    notes.push("The checksum of the image's header does not match; it was used as it stands.");
  const entries = cursor.u32be(HEADER.maxTableEntries);
  const blockSize = cursor.u32be(HEADER.blockSize);
  const tableAt = cursor.u64be(HEADER.tableOffset);
  if (blockSize < SECTOR || blockSize % SECTOR !== 0 || blockSize > 1 << 28)
    throw new ContainerError(`The image gives blocks of ${blockSize} bytes, which cannot be.`);
  if (entries > MAX_BLOCKS || tableAt + entries * 4 > file.size)
    throw new ContainerError("The image's block table would stand past its end: the file is cut short.");
  const locatorText = (at: number, length: number) =>
    at + length <= file.size && length <= MAX_NAME_BYTES ? new TextDecoder("utf-16le").decode(readBytes(file, at, length)) : "";
  return { tableAt, entries, blockSize, cursor, locatorText };
}

/** Sizes of blocks that images have: the specification's default, and those of small ones (common practice). Bytes. */
const BLOCK_SIZES = [2 << 20, 512 << 10] as const;
/** Entries of a table that are looked at when it is found by what it looks like. */
const MOST_LOOKED = 1 << 20;

/** Finds a table of blocks right behind the header: each entry has a place in the file that no other overlaps, or none. null: it is none */
function findTable(file: ByteSource, { size, headerAt }: Footer): Pick<Header, "tableAt" | "entries" | "blockSize"> | null {
  const tableAt = headerAt + HEADER.size;
  for (const blockSize of BLOCK_SIZES) {
    const entries = Math.ceil(size / blockSize);
    const end = tableAt + entries * 4;
    if (entries > MOST_LOOKED || end > file.size) continue;
    const table = new EntryTable(file, tableAt, 4);
    const places: number[] = [];
    for (let index = 0; index < entries; index += 1) {
      const { view, at } = table.entry(index);
      if (view.u32be(at) !== UNUSED) places.push(view.u32be(at) * SECTOR);
    }
    const sorted = Float64Array.from(places).sort();
    const stored = bitmapBytesOf(blockSize) + blockSize;
    if (
      sorted.length > 0 &&
      sorted.every((at, i) => at >= (i === 0 ? end : (sorted[i - 1] as number) + stored) && at + stored <= file.size)
    )
      return { tableAt, entries, blockSize };
  }
  return null;
}

/** Bytes of the bitmap before a block: a bit for each of its sectors, in whole sectors. */
const bitmapBytesOf = (blockSize: number): number => Math.ceil(blockSize / SECTOR / 8 / SECTOR) * SECTOR;

/** Names the child gives its parent, the nearest to it first; folders before them are left out. */
function parentNames({ cursor, locatorText }: Header): string[] {
  const names: string[] = [];
  for (const code of LOCATOR.codes) {
    for (let i = 0; i < HEADER.locatorCount; i += 1) {
      const at = HEADER.locators + i * HEADER.locatorSize;
      if (asciiText(cursor.slice(at + LOCATOR.code, 4)) === code)
        names.push(locatorText(cursor.u64be(at + LOCATOR.offset), cursor.u32be(at + LOCATOR.length)));
    }
  }
  names.push(new TextDecoder("utf-16be").decode(cursor.slice(HEADER.parentName, HEADER.parentNameBytes)));
  return [...new Set(names.map((name) => name.replace(/\0.*$/s, "").split(/[\\/]/).pop() ?? "").filter(Boolean))];
}

function openParent(header: Header, neighbours: Neighbours, depth: number, notes: string[]): ByteSource {
  if (depth >= MAX_PARENTS) throw new ContainerError("The image's parents have parents without end: one of them refers back to itself.");
  const id = guidTextBe(header.cursor.slice(HEADER.parentId, 16));
  const names = parentNames(header);
  const others = neighbours.list().filter((name) => !names.includes(name) && /\.a?vhd$/i.test(name));
  for (const name of [...names, ...others]) {
    if (name === neighbours.name) continue;
    const file = neighbours.open(name);
    // Its identity is asked before it is opened: the other images beside it may have parents of their own, or want for one.
    if (!file || findFooter(file)?.footer.id !== id) continue;
    const parent = openVhd(file, { ...neighbours, name }, depth + 1);
    if (!parent) continue;
    notes.push(`Holds the changes to “${name}”, which was found beside it.`, ...parent.notes);
    return parent.disk;
  }
  const wanted = names[0] ? `“${names[0]}”` : `the image with the identity ${id}`;
  throw new MissingFileError(
    `This image holds only the changes to ${wanted}, which is not beside it: put it into the same folder and open it again.`,
  );
}

/** The disk inside a dynamic or differencing image. */
function blockDisk(
  file: ByteSource,
  { size, at: footerAt, headerAt }: Footer,
  { tableAt, entries, blockSize }: Header,
  parent: ByteSource | null,
  notes: string[],
): BlockDisk {
  const table = new EntryTable(file, tableAt, 4);
  const bitmapBytes = bitmapBytesOf(blockSize);
  const bitmapAt = kept(1024, (at) => readBytes(file, at, bitmapBytes));
  const startOf = (block: number): number | null => {
    if (block >= entries) return null;
    const { view, at } = table.entry(block);
    const sector = view.u32be(at);
    return sector === UNUSED ? null : sector * SECTOR;
  };
  const faults = judgeTable(file, {
    blocks: Math.min(entries, Math.ceil(size / blockSize)),
    blockSize,
    stored: bitmapBytes + blockSize,
    startOf,
    own: [
      { start: 0, end: FOOTER.size },
      { start: footerAt, end: footerAt + FOOTER.size },
      { start: headerAt, end: headerAt + HEADER.size },
      { start: tableAt, end: tableAt + entries * 4 },
    ],
  });
  notes.push(...faults.notes);
  const place = (block: number): BlockPlace => {
    const blockAt = startOf(block);
    if (blockAt === null) return "elsewhere";
    if (blockAt + bitmapBytes > file.size || faults.impossible.has(block)) return "missing";
    if (!parent) return { at: blockAt + bitmapBytes };
    // A bit for each sector, the highest first, says whether it stands here or in the parent.
    const bitmap = bitmapAt(blockAt);
    return { at: blockAt + bitmapBytes, own: (each) => (((bitmap[each >>> 3] as number) >>> (7 - (each & 7))) & 1) === 1 };
  };
  return new BlockDisk(file, { size, blockSize, sectorSize: SECTOR, place }, parent, faults.doubts);
}
