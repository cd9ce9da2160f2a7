import type { BlockReader } from "../../bytes/block-reader";
import { HOLDERS } from "./box-names";

/** A box: ISO/IEC 14496-12, 4.2. Places and lengths in bytes of the reader. */
export interface Box {
  readonly type: string;
  readonly at: number;
  /** Where its content begins. */
  readonly content: number;
  readonly end: number;
  /** It says that it goes on to the end of the file. */
  readonly toEnd: boolean;
}

const MOST_BOXES = 200_000;
const MOST_LEVELS = 12;

/** The box at `at`; null where none can stand. @throws PastEnd past the end */
export function boxAt(reader: BlockReader, at: number): Box | null {
  const type = reader.ascii(at + 4, 4);
  if (!/^[\x20-\x7e\xa9]{4}$/.test(type)) return null;
  let length = reader.u32be(at);
  let header = 8;
  if (length === 1) {
    length = reader.u64be(at + 8);
    header = 16;
  }
  const toEnd = length === 0;
  if (toEnd) length = reader.size - at;
  return length < header ? null : { type, at, content: at + header, end: at + length, toEnd };
}

/** The boxes in [from, to), one after the other, as far as they make sense. */
export function* boxesIn(reader: BlockReader, from: number, to: number): Generator<Box, void, void> {
  for (let at = from, seen = 0; at + 8 <= to && seen < MOST_BOXES; seen += 1) {
    const box = boxAt(reader, at);
    if (!box || box.end > to) return;
    yield box;
    at = box.end;
  }
}

/** All boxes of a type anywhere below, in order. */
export function* findBoxes(reader: BlockReader, from: number, to: number, type: string, level = 0): Generator<Box, void, void> {
  if (level > MOST_LEVELS) return;
  for (const box of boxesIn(reader, from, to)) {
    if (box.type === type) yield box;
    const skip = HOLDERS[box.type];
    if (skip !== undefined) yield* findBoxes(reader, box.content + skip, box.end, type, level + 1);
  }
}

export function findBox(reader: BlockReader, parent: Box, type: string): Box | null {
  for (const box of findBoxes(reader, parent.content + (HOLDERS[parent.type] ?? 0), parent.end, type)) return box;
  return null;
}
