import type { ByteSource } from "../../bytes/byte-source";
import { MediumReader, readBlock } from "./block";
import { LOGICAL_BLOCKS } from "./layout";

/** Bytes at the end of a medium in which its last blocks stand. */
const REACH = 1 << 17;
const [SMALL] = LOGICAL_BLOCKS;

/** Where the contents of a medium end: behind that are only filemarks and the block that ends the medium. */
export interface MediumEnd {
  readonly dataEnd: number;
  /** The medium ended before the backup did. */
  readonly goesOn: boolean;
}

/** Looks at the end of a medium, which may be one of several in a row. @param start, end bytes of the source */
export function mediumEnd(source: ByteSource, start = 0, end = source.size): MediumEnd {
  const reader = new MediumReader(source);
  let dataEnd = end;
  let goesOn = false;
  const first = start + ((end - start) % SMALL);
  for (let at = end - SMALL; at >= Math.max(first, end - REACH); at -= SMALL) {
    const block = readBlock(reader, at);
    if (!block) continue;
    if (block.type !== "SFMB" && block.type !== "EOTM") break;
    goesOn ||= block.type === "EOTM";
    dataEnd = at;
  }
  return { dataEnd: goesOn ? dataEnd : end, goesOn };
}
