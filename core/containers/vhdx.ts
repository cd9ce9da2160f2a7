import { type ByteSource, readBytes } from "../bytes/byte-source";
import { crc32c } from "../bytes/crc32c";
import { Cursor } from "../bytes/cursor";
import { guidText } from "../bytes/guid";
import { asciiText, decodeUtf16le } from "../bytes/text";
import { BlockDisk, type BlockPlace, EntryTable, kept } from "./block-disk";
import { judgeTable, type TableFaults } from "./block-table";
import { type Container, ContainerError, MAX_PARENTS, MissingFileError, type Neighbours, NO_NEIGHBOURS } from "./container";
import { replayLog } from "./vhdx-log";

/** VHDX, all little-endian: [MS-VHDX] 2.2 ("Header Section"), 2.5 ("BAT"), 2.6 ("Metadata Region"). */
const KIB = 1024;
const MIB = 1 << 20;
const IDENTIFIER = "vhdxfile";
const HEADER = {
  places: [64 * KIB, 128 * KIB],
  size: 4096,
  magic: "head",
  checksum: 4,
  sequence: 8,
  dataWriteGuid: 32,
  logGuid: 48,
  version: 66,
  logLength: 68,
  logOffset: 72,
} as const;
const REGIONS = {
  places: [192 * KIB, 256 * KIB],
  size: 64 * KIB,
  magic: "regi",
  checksum: 4,
  count: 8,
  entries: 16,
  entrySize: 32,
  offset: 16,
  length: 24,
} as const;
const REGION = { bat: "2DC27766-F623-4200-9D64-115E9BFD4A08", metadata: "8B7CA206-4790-4B9A-B8FE-575F050F886E" } as const;
const METADATA = { magic: "metadata", count: 10, entries: 32, entrySize: 32, offset: 16, length: 20, mostEntries: 2047 } as const;
const ITEM = {
  parameters: "CAA16737-FA36-4D43-B3B6-33F0AA44E76B",
  diskSize: "2FA54224-CD1B-4876-B211-5DBED83BF4B8",
  diskId: "BECA12AB-B2E6-4523-93EF-C309E000C746",
  sectorSize: "8141BF1D-A96F-4709-BA47-F233A8FAAB5F",
  parent: "A8D35F2D-B30B-454D-ABF7-D3D84834AB0C",
} as const;
const PARAMETERS = { leaveAllocated: 1, hasParent: 2 } as const;
const LOCATOR = { count: 18, entries: 20, entrySize: 12 } as const;
const BLOCK = { notPresent: 0, full: 6, partial: 7 } as const;
/** Blocks that are there and hold nothing: never written, zeros, given up (2.5.1.1). */
const EMPTY: ReadonlySet<number> = new Set([1, 2, 3]);
/** Sector bitmaps whose places are known when the table is judged. */
const MOST_BITMAPS = 1 << 16;
const NO_LOG = "00000000-0000-0000-0000-000000000000";
/** Sectors one sector bitmap block speaks of (2.5.1.2). */
const CHUNK_SECTORS = 2 ** 23;
const MAX_DISK = 64 * 2 ** 40;
const MAX_ITEM = 1 << 16;

interface Header {
  readonly sequence: number;
  readonly dataWriteGuid: string;
  readonly logGuid: string;
  readonly logAt: number;
  readonly logLength: number;
}

function soundChecksum(bytes: Uint8Array, at: number): boolean {
  const copy = bytes.slice();
  copy.fill(0, at, at + 4);
  return crc32c(copy) === new Cursor(bytes).u32(at);
}

/** Of the two headers the sound one with the higher number is current (2.2.2); null: there is none. */
function readHeader(file: ByteSource, notes: string[]): Header | null {
  const headers = HEADER.places.map((at): Header | null => {
    const bytes = readBytes(file, at, HEADER.size);
    const cursor = new Cursor(bytes);
    if (asciiText(cursor.slice(0, 4)) !== HEADER.magic || !soundChecksum(bytes, HEADER.checksum) || cursor.u16(HEADER.version) !== 1)
      return null;
    return {
      sequence: cursor.u64(HEADER.sequence),
      dataWriteGuid: guidText(cursor.slice(HEADER.dataWriteGuid, 16)),
      logGuid: guidText(cursor.slice(HEADER.logGuid, 16)),
      logAt: cursor.u64(HEADER.logOffset),
      logLength: cursor.u32(HEADER.logLength),
    };
  });
  const [first, second] = headers as [Header | null, Header | null];
  if (!first && !second)
    notes.push(
      "Both headers of the image are damaged: whether its log holds changes that are not in their places yet is not known, and none was applied.",
    );
  else if (!first || !second) notes.push("One of the image's two headers is damaged; the other was used.");
  return first && second ? (first.sequence > second.sequence ? first : second) : (first ?? second);
}

interface Region {
  readonly at: number;
  readonly length: number;
}

/** Where the parts of an image stand, by their names; null: both tables of them are damaged. */
function readRegions(file: ByteSource, notes: string[]): Map<string, Region> | null {
  for (const [index, place] of REGIONS.places.entries()) {
    const bytes = readBytes(file, place, REGIONS.size);
    const cursor = new Cursor(bytes);
    const count = cursor.u32(REGIONS.count);
    if (asciiText(cursor.slice(0, 4)) !== REGIONS.magic || !soundChecksum(bytes, REGIONS.checksum) || count > METADATA.mostEntries)
      continue;
    if (index > 0) notes.push("The image's first table of regions is damaged; its copy was used.");
    const found = new Map<string, Region>();
    for (let i = 0; i < count; i += 1) {
      const entry = REGIONS.entries + i * REGIONS.entrySize;
      found.set(guidText(cursor.slice(entry, 16)), { at: cursor.u64(entry + REGIONS.offset), length: cursor.u32(entry + REGIONS.length) });
    }
    return found;
  }
  return null;
}

/** Whole MiB at the beginning of an image in which its parts are looked for. */
const MOST_SEARCHED = 256;
/** Entries that are looked at when a table is looked for. */
const MOST_LOOKED = 1 << 22;

/** The first place at which something stands; parts begin with a whole MiB (2.1). */
function findRegion(file: ByteSource, length: number, isThere: (at: number) => boolean): Region | null {
  for (let at = MIB; at <= MOST_SEARCHED * MIB && at + length <= file.size; at += MIB) if (isThere(at)) return { at, length };
  return null;
}

const findMetadata = (file: ByteSource): Region | null =>
  findRegion(file, MIB, (at) => {
    const head = new Cursor(readBytes(file, at, METADATA.entries));
    return asciiText(head.slice(0, 8)) === METADATA.magic && head.u16(METADATA.count) <= METADATA.mostEntries;
  });

/** Finds a table of blocks by what it looks like: each entry has a state there is, and a place in the file that no other has. */
function findTable(file: ByteSource, entries: number): Region | null {
  let left = MOST_LOOKED;
  return findRegion(file, entries * 8, (tableAt) => {
    const entry = blockTable(file, tableAt);
    const places = new Set<number>();
    for (let index = 0; index < entries; index += 1) {
      const { state, at, reserved } = entry(index);
      left -= 1;
      const isHere = state === BLOCK.full || state === BLOCK.partial;
      if (left < 0 || reserved !== 0 || !(isHere || EMPTY.has(state) || state === BLOCK.notPresent)) return false;
      if (isHere && (at < MIB || at >= file.size || places.has(at))) return false;
      if (isHere) places.add(at);
    }
    return places.size > 0;
  });
}

interface Metadata {
  readonly blockSize: number;
  readonly hasParent: boolean;
  readonly diskSize: number;
  readonly sectorSize: number;
  readonly diskId: string | null;
  readonly parent: ReadonlyMap<string, string>;
}

function readMetadata(file: ByteSource, region: Region | undefined): Metadata {
  if (!region || region.at + region.length > file.size || region.length < 64 * KIB)
    throw new ContainerError("The image's description of its disk would stand past its end: the file is cut short.");
  const table = new Cursor(readBytes(file, region.at, 64 * KIB));
  if (asciiText(table.slice(0, 8)) !== METADATA.magic) throw new ContainerError("The image's description of its disk is overwritten.");
  const items = new Map<string, Cursor>();
  for (let i = 0; i < Math.min(table.u16(METADATA.count), METADATA.mostEntries); i += 1) {
    const entry = METADATA.entries + i * METADATA.entrySize;
    const at = table.u32(entry + METADATA.offset);
    const length = table.u32(entry + METADATA.length);
    if (length > MAX_ITEM || at + length > region.length) continue;
    items.set(guidText(table.slice(entry, 16)), new Cursor(readBytes(file, region.at + at, length)));
  }
  const item = (id: string, size: number) => {
    const found = items.get(id);
    if (!found || found.size < size) throw new ContainerError("A part of the image's description of its disk is missing.");
    return found;
  };
  const parameters = item(ITEM.parameters, 8);
  const blockSize = parameters.u32(0);
  const sectorSize = item(ITEM.sectorSize, 4).u32(0);
  const diskSize = item(ITEM.diskSize, 8).u64(0);
  if (blockSize < MIB || blockSize > 256 * MIB || (blockSize & (blockSize - 1)) !== 0)
    throw new ContainerError(`The image gives blocks of ${blockSize} bytes, which cannot be.`);
  if (sectorSize !== 512 && sectorSize !== 4096)
    throw new ContainerError(`The image gives sectors of ${sectorSize} bytes, which cannot be.`);
  if (diskSize > MAX_DISK || diskSize % sectorSize !== 0)
    throw new ContainerError(`The image gives a disk of ${diskSize} bytes, which cannot be.`);
  const id = items.get(ITEM.diskId);
  const hasParent = (parameters.u32(4) & PARAMETERS.hasParent) !== 0;
  return {
    blockSize,
    sectorSize,
    diskSize,
    hasParent,
    diskId: id && id.size >= 16 ? guidText(id.bytes) : null,
    parent: hasParent ? readLocator(item(ITEM.parent, LOCATOR.entries)) : new Map(),
  };
}

/** 2.6.2.6: keys and values in UTF-16. */
function readLocator(cursor: Cursor): Map<string, string> {
  const found = new Map<string, string>();
  for (let i = 0; i < cursor.u16(LOCATOR.count); i += 1) {
    const entry = LOCATOR.entries + i * LOCATOR.entrySize;
    if (entry + LOCATOR.entrySize > cursor.size) break;
    const [keyAt, valueAt, keyLength, valueLength] = [
      cursor.u32(entry),
      cursor.u32(entry + 4),
      cursor.u16(entry + 8),
      cursor.u16(entry + 10),
    ];
    if (keyAt + keyLength > cursor.size || valueAt + valueLength > cursor.size) continue;
    found.set(decodeUtf16le(cursor.slice(keyAt, keyLength)), decodeUtf16le(cursor.slice(valueAt, valueLength)));
  }
  return found;
}

/**
 * Opens a VHDX; null when the file is none. A log that is not clean is replayed in memory, never in the file.
 * @throws ContainerError when its structure cannot be followed, or its parent is missing
 */
export function openVhdx(file: ByteSource, neighbours: Neighbours = NO_NEIGHBOURS): Container | null {
  if (isVhdx(file)) return openImage(file, neighbours, 0);
  if (!NAMED.test(neighbours.name) || file.size < MIB) return null;
  try {
    return openImage(file, neighbours, 0);
  } catch (error) {
    // Its name alone says that it is one.
    if (error instanceof MissingFileError || !(error instanceof ContainerError)) throw error;
    return null;
  }
}

/** The mark of an image's present content; null: it is none, or its headers cannot be read. */
function dataWriteGuidOf(file: ByteSource): string | null {
  return isVhdx(file) ? (readHeader(file, [])?.dataWriteGuid ?? null) : null;
}

/** Files that are such images by their names, whatever they begin with. */
const NAMED = /\.a?vhdx$/i;
const FOUND =
  "Where the parts of the image stand is damaged: its description of its disk and its table of blocks were found by what they look like.";

const isVhdx = (file: ByteSource) => file.size >= MIB && asciiText(readBytes(file, 0, 8)) === IDENTIFIER;

function openImage(file: ByteSource, neighbours: Neighbours, depth: number): Container {
  const notes: string[] = [];
  const header = readHeader(file, notes);
  let whole = file;
  if (header && header.logGuid !== NO_LOG) {
    const replayed = replayLog(file, header.logAt, header.logLength, header.logGuid);
    if (replayed) {
      whole = replayed.file;
      notes.push(
        `The image was not closed properly: ${replayed.entries} entries of its log were applied in memory; the file stays as it is.`,
      );
    } else notes.push("The image was not closed properly and its log cannot be followed: the last changes to it may be missing.");
  }
  const regions = readRegions(whole, notes);
  const described = regions ? regions.get(REGION.metadata) : (findMetadata(whole) ?? undefined);
  if (!regions && !described)
    throw new ContainerError("Both tables of regions of the image are damaged, and its description of its disk is not found.");
  const metadata = readMetadata(whole, described);
  const chunkRatio = (CHUNK_SECTORS * metadata.sectorSize) / metadata.blockSize;
  const blocks = Math.ceil(metadata.diskSize / metadata.blockSize);
  const entries = metadata.hasParent ? Math.ceil(blocks / chunkRatio) * (chunkRatio + 1) : blocks + Math.floor((blocks - 1) / chunkRatio);
  const bat = regions ? regions.get(REGION.bat) : findTable(whole, entries);
  if (!regions) notes.push(FOUND);
  if (!bat || entries * 8 > bat.length || bat.at + entries * 8 > whole.size)
    throw new ContainerError("The image's block table would stand past its end: the file is cut short.");
  const parent = metadata.hasParent ? openParent(metadata, neighbours, depth, notes) : null;
  const entry = blockTable(whole, bat.at);
  const chunks = Math.ceil(blocks / chunkRatio);
  const bitmapAt = (chunk: number) => entry(chunk * (chunkRatio + 1) + chunkRatio);
  const bitmaps = metadata.hasParent ? Array.from({ length: Math.min(chunks, MOST_BITMAPS) }, (_, chunk) => bitmapAt(chunk)) : [];
  const faults = judgeTable(whole, {
    blocks,
    blockSize: metadata.blockSize,
    stored: metadata.blockSize,
    startOf: (block) => {
      const { state, at } = entry(block + Math.floor(block / chunkRatio));
      return state === BLOCK.full || state === BLOCK.partial ? at : null;
    },
    own: [
      { start: 0, end: MIB },
      ...(header ? [{ start: header.logAt, end: header.logAt + header.logLength }] : []),
      ...[...(regions?.values() ?? []), described, bat].flatMap((region) =>
        region ? [{ start: region.at, end: region.at + region.length }] : [],
      ),
      ...bitmaps.filter(({ state }) => state === BLOCK.full).map(({ at }) => ({ start: at, end: at + MIB })),
    ],
    // Only a header says where the log stands.
    mayOwnMore: header === null,
  });
  notes.push(...faults.notes);
  const disk = blockDisk(whole, metadata, entry, chunkRatio, parent, faults);
  const container: Container = {
    kind: "vhdx",
    form: parent ? "differencing" : "dynamic",
    disk,
    identity: metadata.diskId,
    created: null,
    notes,
  };
  return parent || !allPresent(entry, blocks, chunkRatio) ? container : { ...container, form: "fixed" };
}

function openParent({ parent }: Metadata, neighbours: Neighbours, depth: number, notes: string[]): ByteSource {
  if (depth >= MAX_PARENTS) throw new ContainerError("The image's parents have parents without end: one of them refers back to itself.");
  const plain = (text: string | undefined) => (text ?? "").replace(/[{}\0]/g, "").toUpperCase();
  const linkages = [plain(parent.get("parent_linkage")), plain(parent.get("parent_linkage2"))].filter(Boolean);
  const names = ["relative_path", "absolute_win32_path", "volume_path"]
    .map((key) => (parent.get(key) ?? "").replace(/\0.*$/s, "").split(/[\\/]/).pop() ?? "")
    .filter(Boolean);
  const others = neighbours.list().filter((name) => !names.includes(name) && /\.a?vhdx$/i.test(name));
  for (const name of new Set([...names, ...others])) {
    if (name === neighbours.name) continue;
    const file = neighbours.open(name);
    // Its identity is asked before it is opened: the other images beside it may have parents of their own, or want for one.
    if (!file || !linkages.includes(dataWriteGuidOf(file) ?? "")) continue;
    const opened = openImage(file, { ...neighbours, name }, depth + 1);
    notes.push(`Holds the changes to “${name}”, which was found beside it.`, ...opened.notes);
    return opened.disk;
  }
  const wanted = names[0] ? `“${names[0]}”` : `the image with the mark ${linkages[0] ?? "that is not known"}`;
  throw new MissingFileError(
    `This image holds only the changes to ${wanted}, which is not beside it (or was changed since): put it into the same folder and open it again.`,
  );
}

/** 2.5.1: an entry has three bits of state, 17 that are zeros, and the place in whole MiB from bit 20 on. */
function blockTable(file: ByteSource, tableAt: number): (index: number) => { state: number; reserved: number; at: number } {
  const table = new EntryTable(file, tableAt, 8);
  return (index) => {
    const { view, at } = table.entry(index);
    const low = view.u32(at);
    return { state: low & 7, reserved: (low >>> 3) & 0x1ffff, at: (view.u32(at + 4) * 4096 + Math.floor(low / MIB)) * MIB };
  };
}

/** The disk inside. The entry of a chunk's sector bitmap follows those of its blocks (2.5.1.2). */
function blockDisk(
  file: ByteSource,
  { diskSize, blockSize, sectorSize }: Metadata,
  entry: ReturnType<typeof blockTable>,
  chunkRatio: number,
  parent: ByteSource | null,
  { impossible, doubts }: TableFaults,
): BlockDisk {
  const bitmapOf = kept(16, (chunk) => {
    const { state, at } = entry(chunk * (chunkRatio + 1) + chunkRatio);
    return state === BLOCK.full ? readBytes(file, at, MIB) : new Uint8Array(MIB);
  });
  const place = (block: number): BlockPlace => {
    const chunk = Math.floor(block / chunkRatio);
    const { state, at } = entry(block + chunk);
    if (impossible.has(block)) return "missing";
    if (state === BLOCK.full) return { at };
    if (state === BLOCK.notPresent) return "elsewhere";
    if (EMPTY.has(state)) return "zeros";
    // Other states there are none, and only what has a parent has blocks in part.
    if (state !== BLOCK.partial || !parent) return "missing";
    const bitmap = bitmapOf(chunk);
    const first = (block - chunk * chunkRatio) * (blockSize / sectorSize);
    return { at, own: (sector) => (((bitmap[(first + sector) >>> 3] ?? 0) >>> ((first + sector) & 7)) & 1) === 1 };
  };
  return new BlockDisk(file, { size: diskSize, blockSize, sectorSize, place }, parent, doubts);
}

/** Whether every block has its place in the file, as a fixed image has. Looks at some of them. */
function allPresent(entry: ReturnType<typeof blockTable>, blocks: number, chunkRatio: number): boolean {
  const step = Math.max(1, Math.floor(blocks / 64));
  for (let block = 0; block < blocks; block += step) if (entry(block + Math.floor(block / chunkRatio)).state !== BLOCK.full) return false;
  return blocks > 0;
}
