import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { be, struct } from "../bytes/struct";
import { hasData } from "./block-table";
import { type Chunk, ChunkDisk, inOrder } from "./chunk-disk";
import type { Container } from "./container";
import { ContainerError } from "./container";

/**
 * Sparse Mac disk images in one file, big-endian: a table of bands in the order of the file, each with its number on the disk, counted
 * from 1. No published source; from memory.
 */
const HEADER = struct(64, { signature: be.u32(0), sectorsPerBand: be.u32(8), sectors: be.u32(16) });
const MARK = 0x7370_7273;
const BANDS_AT = 4096;
const MOST_BANDS = (BANDS_AT - HEADER.size) / 4;
const SECTOR = 512;

/** @returns null: it is none. @throws ContainerError when its head cannot be */
export function openSparseImage(file: ByteSource): Container | null {
  if (file.size < BANDS_AT) return null;
  const cursor = new Cursor(readBytes(file, 0, BANDS_AT));
  const { signature, sectorsPerBand, sectors } = HEADER.read(cursor, 0);
  if (signature !== MARK) return null;
  const bandSize = sectorsPerBand * SECTOR;
  const size = sectors * SECTOR;
  if (bandSize === 0 || bandSize > 1 << 30 || size === 0)
    throw new ContainerError("The head of this sparse image is damaged: it does not say how its disk is divided.");
  const bands: Chunk[] = [];
  let nameless = 0;
  for (let index = 0; index < MOST_BANDS; index += 1) {
    const number = cursor.u32be(HEADER.size + index * 4);
    const start = (number - 1) * bandSize;
    if (number === 0 || start >= size) {
      if (hasData(file, BANDS_AT + index * bandSize, bandSize)) nameless += 1;
      continue;
    }
    const length = Math.min(bandSize, size - start);
    bands.push({ start, length, kind: "raw", at: BANDS_AT + index * bandSize, kept: length });
  }
  const chunks = inOrder(bands);
  const notes = [
    `A sparse image: ${chunks.length} of its ${Math.ceil(size / bandSize)} parts are stored; the others were never written and come as zeros.`,
  ];
  const end = Math.max(0, ...bands.map(({ at, length }) => at + length));
  if (end > file.size) notes.push(`The image is cut off: ${end - file.size} bytes that it should have are not there.`);
  if (file.size >= BANDS_AT + (MOST_BANDS + 1) * bandSize)
    notes.push("The image has more parts than its first table lists; those beyond are not read: what lies in them comes as zeros.");
  const all = withHoles(chunks, size);
  const disk = new ChunkDisk(file, all, size);
  const [given, twice] = [new Set<number>(), new Set<number>()];
  for (const { start } of bands) (given.has(start) ? twice : given).add(start);
  if (twice.size > 0)
    notes.push(
      `The table of the image is damaged: it gives ${countOf(twice.size)} of the disk more than once, and what lies there, or comes as zeros, is doubtful.`,
    );
  if (nameless > 0)
    notes.push(
      `The table of the image is damaged: it does not say where ${countOf(nameless)} with data belong, and what comes as zeros is doubtful.`,
    );
  for (const { kind, start, length } of all)
    if (kind === "unstored" ? nameless + twice.size > 0 : twice.has(start)) disk.doubts.push({ start, end: start + length });
  return {
    kind: "sparse-image",
    form: null,
    disk,
    identity: null,
    created: null,
    notes,
  };
}

const countOf = (count: number) => (count === 1 ? "one part" : `${count} parts`);

/** What no band holds was never stored. */
function withHoles(chunks: readonly Chunk[], size: number): Chunk[] {
  const all: Chunk[] = [];
  let at = 0;
  const hole = (end: number) => end > at && all.push({ start: at, length: end - at, kind: "unstored", at: 0, kept: 0 });
  for (const chunk of chunks) {
    hole(chunk.start);
    all.push(chunk);
    at = chunk.start + chunk.length;
  }
  hole(size);
  return all;
}
