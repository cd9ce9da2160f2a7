import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { type Layout, LayoutSource, layoutOf } from "../../bytes/layout";
import { lastNotAfter } from "../../bytes/starts";
import { FileSystemError } from "../file-record";
import type { Geometry } from "./boot-sector";
import { ATTRIBUTE_TYPE, LIST_ENTRY, SYSTEM_RECORD } from "./layout";
import { type Attribute, type MftRecord, parseMftRecord, readReference, residentValue } from "./mft-record";
import { type StreamPiece, streamContent } from "./stream-layout";

/** Bytes read at once when going through the whole table. */
const CHUNK = 1 << 20;
const MAX_LIST_BYTES = 1 << 20;

/** The master file table: a file itself, often in several pieces. */
export class MftTable {
  readonly recordCount: number;
  readonly #content: LayoutSource;
  readonly #pieces: { inTable: number; at: number; length: number }[] = [];
  /** Where each of them begins in the table. */
  readonly #starts: number[] = [];
  #chunk: Uint8Array | null = null;

  private constructor(
    disk: ByteSource,
    layout: Layout,
    readonly geometry: Geometry,
    readonly notes: readonly string[],
  ) {
    this.#content = new LayoutSource(disk, layout);
    let inTable = 0;
    let end = 0;
    for (const segment of layout.segments) {
      // A damaged size or run can claim a table larger than the disk itself: what is behind that holds no records.
      if (inTable > disk.size) break;
      if (segment.kind === "disk") {
        this.#pieces.push({ inTable, at: segment.at, length: segment.length });
        this.#starts.push(inTable);
        end = inTable + Math.min(segment.length, Math.max(0, disk.size - segment.at));
      }
      inTable += segment.length;
    }
    this.recordCount = Math.floor(end / geometry.recordSize);
  }

  /**
   * Finds the table by its own first record, or by the copy of that record in `$MFTMirr`.
   * @throws FileSystemError when neither can be read
   */
  static open(disk: ByteSource, volumeStart: number, geometry: Geometry, odd: readonly string[] = []): MftTable {
    const notes = [...odd];
    for (const lcn of [geometry.mftLcn, geometry.mftMirrorLcn]) {
      const at = volumeStart + lcn * geometry.clusterSize;
      if (lcn >= geometry.clusters) continue;
      const record = parseMftRecord(readBytes(disk, at, geometry.recordSize), SYSTEM_RECORD.mft);
      const layout = record && tableLayout(disk, volumeStart, geometry, record, at);
      if (layout && layout.size >= geometry.recordSize) {
        if (lcn !== geometry.mftLcn) notes.push("The first record of the file table is damaged; its copy was used.");
        return new MftTable(disk, layout, geometry, notes);
      }
    }
    const at = volumeStart + geometry.mftLcn * geometry.clusterSize;
    const length = contiguousRecords(disk, at, geometry.recordSize);
    if (length > 0) {
      notes.push(
        "The first record of the file table and its copy are damaged; the records that follow one another from its place were used.",
      );
      return new MftTable(disk, layoutOf([{ kind: "disk", at, length }], length), geometry, notes);
    }
    throw new FileSystemError("Neither the first record of the file table nor its copy can be read.");
  }

  /** Whether a disk byte offset lies in the table. */
  holds(at: number): boolean {
    return this.#pieces.some((piece) => at >= piece.at && at < piece.at + piece.length);
  }

  /** Disk byte offset of a record. */
  recordAt(number: number): number {
    const inTable = number * this.geometry.recordSize;
    const piece = this.#pieces[lastNotAfter(this.#starts, inTable)];
    return piece && inTable < piece.inTable + piece.length ? piece.at + inTable - piece.inTable : 0;
  }

  read(number: number): MftRecord | null {
    if (!(number >= 0 && number < this.recordCount)) return null;
    const { recordSize } = this.geometry;
    return parseMftRecord(readBytes(this.#content, number * recordSize, recordSize), number);
  }

  /**
   * Calls `visit` with the raw bytes of each record in [from, end). The bytes are reused after the call returns: who wants to
   * keep some of them copies those.
   */
  walk(from: number, end: number, visit: (bytes: Uint8Array, number: number) => void): void {
    const { recordSize } = this.geometry;
    const last = Math.min(end, this.recordCount);
    const perChunk = Math.max(1, Math.min(Math.floor(CHUNK / recordSize), last - from));
    // Kept from walk to walk; a walk inside another one gets its own.
    const kept = this.#chunk;
    const chunk = kept && kept.length >= perChunk * recordSize ? kept : new Uint8Array(perChunk * recordSize);
    this.#chunk = null;
    for (let first = from; first < last; first += perChunk) {
      const count = Math.min(perChunk, last - first);
      this.#content.read(first * recordSize, chunk.subarray(0, count * recordSize));
      for (let i = 0; i < count; i += 1) visit(chunk.subarray(i * recordSize, (i + 1) * recordSize), first + i);
    }
    this.#chunk = chunk;
  }

  /** Ranges of the record's bytes that could not be read from the disk. */
  unreadable(number: number): boolean {
    const { recordSize } = this.geometry;
    return this.#content.unreadable(number * recordSize, recordSize).length > 0;
  }
}

/** So many places in a row without a record, and the table is taken to have ended. */
const MOST_EMPTY = 64;

/** Bytes from `at` on in which records follow one another. */
function contiguousRecords(disk: ByteSource, at: number, recordSize: number): number {
  let end = 0;
  for (let place = 0; place - end < MOST_EMPTY * recordSize && at + place + recordSize <= disk.size; place += recordSize)
    if (parseMftRecord(readBytes(disk, at + place, recordSize), 0)) end = place + recordSize;
  return end;
}

const isTableData = (attribute: Attribute) => attribute.type === ATTRIBUTE_TYPE.data && attribute.name === "" && attribute.nonResident;

/** The table's own layout. Its later pieces may be listed in extension records that lie in its earlier pieces. */
function tableLayout(disk: ByteSource, volumeStart: number, geometry: Geometry, base: MftRecord, baseAt: number): Layout | null {
  const pieces: StreamPiece[] = base.attributes.filter(isTableData).map((attribute) => ({ record: base, attribute, recordAt: baseAt }));
  let content = streamContent(pieces, geometry, volumeStart);
  const list = base.attributes.find((attribute) => attribute.type === ATTRIBUTE_TYPE.attributeList);
  if (!content || !list) return content?.layout ?? null;
  const seen = new Set<number>([SYSTEM_RECORD.mft]);
  for (const number of listedRecords(disk, volumeStart, geometry, base, list, baseAt)) {
    if (seen.has(number)) continue;
    seen.add(number);
    const known: StreamPiece[] = pieces;
    const at = number * geometry.recordSize;
    const table = new LayoutSource(disk, content.layout);
    if (at + geometry.recordSize > table.size) continue;
    const record = parseMftRecord(readBytes(table, at, geometry.recordSize), number);
    if (record?.base?.record !== SYSTEM_RECORD.mft) continue;
    for (const attribute of record.attributes.filter(isTableData)) known.push({ record, attribute, recordAt: 0 });
    content = streamContent(known, geometry, volumeStart) ?? content;
  }
  return content.layout;
}

function listedRecords(
  disk: ByteSource,
  volumeStart: number,
  geometry: Geometry,
  base: MftRecord,
  list: Attribute,
  baseAt: number,
): number[] {
  let bytes: Uint8Array;
  if (list.nonResident) {
    const content = streamContent([{ record: base, attribute: list, recordAt: baseAt }], geometry, volumeStart);
    if (!content) return [];
    bytes = readBytes(new LayoutSource(disk, content.layout), 0, Math.min(content.size, MAX_LIST_BYTES));
  } else {
    bytes = residentValue(base, list).bytes;
  }
  const cursor = new Cursor(bytes);
  const numbers: number[] = [];
  for (let at = 0; at + LIST_ENTRY.smallestSize <= bytes.length; ) {
    const length = cursor.u16(at + LIST_ENTRY.length);
    if (length < LIST_ENTRY.smallestSize) break;
    if (cursor.u32(at + LIST_ENTRY.type) === ATTRIBUTE_TYPE.data) numbers.push(readReference(cursor, at + LIST_ENTRY.mftReference).record);
    at += length;
  }
  return numbers;
}
