import { crc32 } from "node:zlib";
import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { readPropertyList } from "../bytes/property-list";
import { type Chunk, ChunkDisk, inOrder } from "./chunk-disk";
import { type Container, ContainerError, type Neighbours } from "./container";
import { CHUNK, CHUNK_TYPE, CODED_TYPES, CRC32, SECTOR, TABLE, TABLE_MARK } from "./udif-layout";
import { scanForChunks } from "./udif-scan";
import { joinSegments } from "./udif-segments";
import { readTrailer } from "./udif-trailer";

/** A property list beyond this is damage. Bytes. */
const MOST_LIST = 16 << 20;
/** Where a list is looked for whose place nothing says: so many bytes before the end. */
const SEARCHED = 8 << 20;
const MOST_CHUNKS = 4_000_000;
const MOST_SECTORS = 2 ** 40;
/** Plain bytes read to compare checksums as an image is opened; tables beyond that are not checked. */
const MOST_CHECKED = 64 << 20;

/**
 * Opens a compressed Mac disk image: by its trailer, by its property list alone where the trailer is gone, and where that is gone too, as
 * the chunks that can be found in it one after the other.
 * @returns null: it is none
 */
export function openUdif(file: ByteSource, neighbours: Neighbours): Container | null {
  const trailer = readTrailer(file);
  if (!trailer) return mayBeUdif(file, neighbours.name) ? openWithoutTrailer(file) : null;
  const segments = trailer.segmentCount > 1 ? joinSegments(file, trailer, neighbours) : null;
  const first = segments?.first ?? { file, trailer };
  const fork = segments?.fork ?? file;
  const notes = [...(segments?.notes ?? [])];
  const { listOffset, listLength, dataForkOffset } = first.trailer;
  const whole = listLength > 0 && listLength <= MOST_LIST && listOffset + listLength <= first.file.size;
  let tables = whole ? tablesIn(readBytes(first.file, listOffset, listLength)) : null;
  if (!tables) {
    tables = searchedTables(first.file);
    if (!tables) {
      const found = openWithoutTrailer(file);
      if (found) return found;
      throw new ContainerError(
        "The image's list of chunks is damaged, and no chunk could be found in it either: nothing in it can be placed.",
      );
    }
    notes.push("The image's trailer does not lead to its list of chunks; the list was found by itself.");
  }
  return fromTables(tables, fork, segments ? 0 : dataForkOffset, first.trailer.sectorCount, notes);
}

/** How a file begins that could be an image without its trailer. */
function mayBeUdif(file: ByteSource, name: string): boolean {
  if (file.size < 64) return false;
  const [a, b, c] = readBytes(file, 0, 3) as unknown as [number, number, number];
  const zlib = (a & 0x0f) === 8 && a >>> 4 <= 7 && (a * 256 + b) % 31 === 0 && (b & 0x20) === 0;
  const marked = zlib || (a === 0x42 && b === 0x5a && c === 0x68) || (a === 0x62 && b === 0x76 && c === 0x78);
  return marked || /\.(dmg|dmgpart)$/i.test(name);
}

function openWithoutTrailer(file: ByteSource): Container | null {
  const tables = searchedTables(file);
  if (tables) {
    const notes = ["The image's trailer is gone; its list of chunks was found by itself."];
    return fromTables(tables, file, 0, 0, notes);
  }
  const scanned = scanForChunks(file);
  if (scanned.length === 0) return null;
  let size = 0;
  const chunks = scanned.map((chunk): Chunk => {
    const start = size;
    size += chunk.length;
    return { ...chunk, start };
  });
  const note = `The image's trailer and its list of chunks are gone. ${chunks.length} compressed ${chunks.length === 1 ? "chunk was" : "chunks were"} found; where each belongs on the disk is not known, so that no volume can be read. They stand here one after the other: raw content can be looked for in them.`;
  return {
    kind: "udif",
    form: null,
    disk: new ChunkDisk(file, chunks, size),
    identity: null,
    created: null,
    placeless: true,
    notes: [note],
  };
}

interface Table {
  readonly name: string;
  readonly bytes: Uint8Array;
}

function searchedTables(file: ByteSource): Table[] | null {
  const from = Math.max(0, file.size - SEARCHED);
  const bytes = readBytes(file, from, file.size - from);
  const text = Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  const key = text.lastIndexOf("<key>blkx</key>");
  if (key < 0) return null;
  const begin = Math.max(
    text.lastIndexOf("<?xml", key),
    text.lastIndexOf("<plist", key) >= 0 && text.lastIndexOf("<?xml", key) < 0 ? text.lastIndexOf("<plist", key) : -1,
  );
  const end = text.indexOf("</plist>", key);
  return begin < 0 || end < 0 ? null : tablesIn(text.subarray(begin, end + "</plist>".length));
}

/** The tables of a property list; null: it has none. */
function tablesIn(bytes: Uint8Array): Table[] | null {
  const list = readPropertyList(bytes) as { "resource-fork"?: { blkx?: unknown } } | null;
  const entries = list && typeof list === "object" ? list["resource-fork"]?.blkx : null;
  if (!Array.isArray(entries)) return null;
  const tables = entries.flatMap((entry: { Name?: unknown; CFName?: unknown; Data?: unknown }): Table[] => {
    const data = entry?.Data;
    if (!(data instanceof Uint8Array) || data.length < TABLE.size) return [];
    const name = typeof entry.Name === "string" ? entry.Name : typeof entry.CFName === "string" ? entry.CFName : "";
    return TABLE.read(new Cursor(data), 0).signature === TABLE_MARK ? [{ name, bytes: data }] : [];
  });
  return tables.length > 0 ? tables : null;
}

interface ReadTable {
  readonly name: string;
  readonly chunks: readonly Chunk[];
  readonly checksum: number | null;
}

function readTable({ name, bytes }: Table, forkAt: number): ReadTable {
  const cursor = new Cursor(bytes);
  const head = TABLE.read(cursor, 0);
  const count = Math.min(head.chunkCount, Math.floor((bytes.length - TABLE.size) / CHUNK.size));
  const chunks: Chunk[] = [];
  for (let index = 0; index < count; index += 1) {
    const { type, sectorNumber, sectorCount, offset, length } = CHUNK.read(cursor, TABLE.size + index * CHUNK.size);
    if (type === CHUNK_TYPE.end) break;
    if (type === CHUNK_TYPE.comment || sectorCount === 0) continue;
    if (head.firstSector + sectorNumber + sectorCount > MOST_SECTORS) continue;
    const coded = CODED_TYPES[type as keyof typeof CODED_TYPES];
    const kinds = { [CHUNK_TYPE.zeros]: "zeros", [CHUNK_TYPE.raw]: "raw", [CHUNK_TYPE.unstored]: "unstored" } as const;
    chunks.push({
      start: (head.firstSector + sectorNumber) * SECTOR,
      length: sectorCount * SECTOR,
      kind: coded ?? kinds[type as keyof typeof kinds] ?? "unknown",
      at: forkAt + head.dataOffset + offset,
      kept: length,
    });
  }
  return { name, chunks, checksum: head.checksumType === CRC32 ? head.checksum : null };
}

function fromTables(tables: readonly Table[], fork: ByteSource, forkAt: number, sectors: number, notes: string[]): Container {
  const read = tables.map((table) => readTable(table, forkAt));
  const chunks = inOrder(read.flatMap((table) => table.chunks).slice(0, MOST_CHUNKS));
  const last = chunks.at(-1);
  const size = Math.max(last ? last.start + last.length : 0, sectors <= MOST_SECTORS ? sectors * SECTOR : 0);
  const disk = new ChunkDisk(fork, chunks, size);
  return { kind: "udif", form: null, disk, identity: null, created: null, notes: [...notes, ...checkNotes(disk, read, size)] };
}

/** Compares the checksums of the tables, as far as that is a matter of a moment, and notes on the disk what is in doubt. */
function checkNotes(disk: ChunkDisk, tables: readonly ReadTable[], size: number): string[] {
  let left = MOST_CHECKED;
  let unchecked = 0;
  const wrong: string[] = [];
  for (const { name, chunks, checksum } of tables) {
    if (checksum === null) continue;
    const stored = chunks.filter(({ kind }) => kind !== "unstored");
    const bytes = stored.reduce((sum, { length }) => sum + length, 0);
    if (bytes > left) {
      unchecked += 1;
      continue;
    }
    left -= bytes;
    if (checksumOf(disk, stored) === checksum) continue;
    wrong.push(name.trim() || "a stretch without a name");
    for (const chunk of stored) disk.doubt(chunk);
  }
  const damaged = disk.unreadable(0, size).reduce((sum, { start, end }) => sum + end - start, 0);
  const notes: string[] = [];
  if (damaged > 0) notes.push(`${damaged} bytes of the disk cannot be read: their chunks are damaged or not there.`);
  if (wrong.length > 0)
    notes.push(
      `The checksum does not match in ${wrong
        .slice(0, 5)
        .map((name) => `“${name}”`)
        .join(
          ", ",
        )}: not all of it is as it was written.${disk.doubts.length > 0 ? " What of it nothing else vouches for is called whole only where the content proves itself." : ""}`,
    );
  if (unchecked > 0)
    notes.push(
      `${unchecked === 1 ? "One checksum was" : `${unchecked} checksums were`} not compared: that would take reading all of the image.`,
    );
  return notes;
}

const READ_AT_ONCE = 1 << 20;

function checksumOf(disk: ByteSource, chunks: readonly Chunk[]): number {
  let sum = 0;
  for (const { start, length } of chunks)
    for (let done = 0; done < length; done += READ_AT_ONCE)
      sum = crc32(readBytes(disk, start + done, Math.min(READ_AT_ONCE, length - done)), sum);
  return sum;
}
