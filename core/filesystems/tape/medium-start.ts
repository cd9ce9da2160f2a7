import { Cursor } from "../../bytes/cursor";
import { type Block, type MediumReader, readBlock } from "./block";
import { LOGICAL_BLOCKS, TAPE } from "./layout";
import { type Anchor, findAnchor } from "./search";

/** Reads how large the logical blocks of a medium are: from its first block, or from the addresses of two that follow one another. */
export function logicalBlockOf(reader: MediumReader, near: number): number {
  const first = readBlock(reader, 0);
  if (first?.type === "TAPE") {
    const { formatLogicalBlockSize } = TAPE.read(new Cursor(first.bytes), 0);
    if ((LOGICAL_BLOCKS as readonly number[]).includes(formatLogicalBlockSize)) return formatLogicalBlockSize;
  }
  let before: Block | null = null;
  let at = near;
  for (let tries = 0; tries < 64; tries += 1) {
    const found = findAnchor(reader, at, Math.min(reader.size, at + (1 << 22)));
    if (!found) break;
    at = found.at + 1;
    if (!found.block || found.block.common.formatLogicalAddress === 0) continue;
    if (before) {
      const size: number = (found.block.at - before.at) / (found.block.common.formatLogicalAddress - before.common.formatLogicalAddress);
      if ((LOGICAL_BLOCKS as readonly number[]).includes(size)) return size;
    }
    before = found.block;
  }
  return 1024;
}

/** Finds the first block of a medium. @returns null when none stands in the bytes that are looked through */
export const firstBlock = (reader: MediumReader, reach: number): Anchor | null => {
  const block = readBlock(reader, 0);
  return block ? { at: 0, block, stream: null } : findAnchor(reader, 0, Math.min(reader.size, reach));
};
