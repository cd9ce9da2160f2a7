import { type ByteSource, readBytes } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import { type Chunk, ChunkDisk, inOrder } from "./chunk-disk";
import type { Neighbours } from "./container";
import { SEGMENT_ID, TRAILER } from "./udif-layout";
import { readTrailer, type Trailer } from "./udif-trailer";

const MOST_SEGMENTS = 10_000;

interface Segment {
  readonly file: ByteSource;
  readonly trailer: Trailer;
}

/**
 * Joins the data forks of an image in several files, whichever of them was chosen. What a missing one held counts as unreadable.
 * @returns the fork, and the file with the list of chunks
 */
export function joinSegments(
  file: ByteSource,
  trailer: Trailer,
  neighbours: Neighbours,
): { fork: ByteSource; first: Segment; notes: string[] } {
  const id = segmentId(file);
  const found = new Map<number, Segment>([[trailer.segmentNumber, { file, trailer }]]);
  const stem = neighbours.name.split(".")[0] ?? "";
  const wanted = Math.min(trailer.segmentCount, MOST_SEGMENTS);
  for (const name of neighbours.list()) {
    if (found.size >= wanted) break;
    if (name === neighbours.name || !name.startsWith(stem)) continue;
    const other = neighbours.open(name);
    const its = other && readTrailer(other);
    if (!other || !its || segmentId(other) !== id || found.has(its.segmentNumber)) continue;
    found.set(its.segmentNumber, { file: other, trailer: its });
  }
  const missing = Array.from({ length: wanted }, (_, index) => index + 1).filter((number) => !found.has(number));
  const files: ByteSource[] = [];
  let joined = 0;
  const pieces = [...found.values()].map(({ file: each, trailer: its }): Chunk => {
    files.push(each);
    const at = joined + its.dataForkOffset;
    joined += each.size;
    return { start: its.runningDataForkOffset, length: its.dataForkLength, kind: "raw", at, kept: its.dataForkLength };
  });
  const chunks = inOrder(pieces);
  const last = chunks.at(-1);
  const fork = new ChunkDisk(new ConcatSource(files), chunks, last ? last.start + last.length : 0);
  const notes = [`An image in ${trailer.segmentCount} files.`];
  if (missing.length > 0)
    notes.push(
      `Of its files ${missing.length === 1 ? "number" : "numbers"} ${missing.slice(0, 10).join(", ")} ${missing.length === 1 ? "is" : "are"} not beside the others: what they hold cannot be read. Put them there and open it again.`,
    );
  const withList = [...found.values()].find(({ trailer: its }) => its.listLength > 0);
  return { fork, first: withList ?? { file, trailer }, notes };
}

const segmentId = (file: ByteSource): string =>
  Buffer.from(readBytes(file, file.size - TRAILER.size + SEGMENT_ID.at, SEGMENT_ID.length)).toString("hex");
