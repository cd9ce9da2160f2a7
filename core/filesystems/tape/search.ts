import { type Block, type MediumReader, readBlock, readStreamHeader, type Stream } from "./block";
import { KNOWN_STREAMS, TYPES } from "./layout";

/** Something of the format's own that stands where it was looked for. */
export type Anchor =
  | { readonly at: number; readonly block: Block; readonly stream: null }
  | { readonly at: number; readonly block: null; readonly stream: Stream };

/** Bytes that are looked through at a time. */
const CHUNK = 1 << 18;
const LETTERS = 4;
const WORDS = [...TYPES, ...KNOWN_STREAMS];

/**
 * Looks for the next block or stream, at every byte: by the letters they begin with, then by their checksums.
 * @param until byte of the medium before which it must begin
 * @returns null when there is none
 */
export function findAnchor(reader: MediumReader, from: number, until: number): Anchor | null {
  const chunk = Buffer.alloc(CHUNK + LETTERS - 1);
  for (let at = Math.max(0, from); at < until; at += CHUNK) {
    const length = Math.min(chunk.length, reader.size - at);
    if (length < LETTERS) return null;
    const bytes = chunk.subarray(0, length);
    reader.source.read(at, bytes);
    for (const inside of placesOf(bytes)) {
      if (inside >= CHUNK || at + inside >= until) break;
      const found = anchorAt(reader, at + inside);
      if (found) return found;
    }
  }
  return null;
}

/** Where one of the words stands, ascending. */
function* placesOf(bytes: Buffer): Generator<number, void, void> {
  const next = WORDS.map((word) => bytes.indexOf(word, 0, "latin1"));
  for (;;) {
    let first = -1;
    next.forEach((at, index) => {
      if (at >= 0 && (first < 0 || at < (next[first] as number))) first = index;
    });
    if (first < 0) return;
    const at = next[first] as number;
    yield at;
    next[first] = bytes.indexOf(WORDS[first] as string, at + 1, "latin1");
  }
}

function anchorAt(reader: MediumReader, at: number): Anchor | null {
  const block = readBlock(reader, at);
  if (block) return { at, block, stream: null };
  const stream = readStreamHeader(reader, at);
  return stream && isKnown(stream.id) ? { at, block: null, stream } : null;
}

const KNOWN = new Set<number>(KNOWN_STREAMS.map((letters) => Buffer.from(letters, "latin1").readUInt32LE(0)));
const isKnown = (id: number) => KNOWN.has(id);

/**
 * Looks for the next block at whole logical blocks of 512 bytes, counted from a place where one must stand.
 * @returns null when there is none before `until`
 */
export function findBlock(reader: MediumReader, from: number, until: number): Block | null {
  for (let at = from; at < until; at += 512) {
    const block = readBlock(reader, at);
    if (block) return block;
  }
  return null;
}

/** Goes back from a place for blocks of a type. @yields those with a right checksum, the nearest first */
export function* blocksBefore(reader: MediumReader, from: number, type: string, reach: number): Generator<Block, void, void> {
  const lowest = Math.max(0, from - reach);
  const chunk = Buffer.alloc(CHUNK + LETTERS - 1);
  for (let end = from; end > lowest; end -= CHUNK) {
    const start = Math.max(lowest, end - CHUNK);
    const bytes = chunk.subarray(0, Math.min(end - start + LETTERS - 1, reader.size - start));
    reader.source.read(start, bytes);
    for (let inside = bytes.lastIndexOf(type, undefined, "latin1"); inside >= 0; ) {
      const block = start + inside < end ? readBlock(reader, start + inside) : null;
      if (block) yield block;
      inside = inside === 0 ? -1 : bytes.lastIndexOf(type, inside - 1, "latin1");
    }
  }
}
