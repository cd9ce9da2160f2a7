import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import { breaksAt, type Extent } from "./format";

/**
 * Follows a structure with a reader. Where it leads past the end of the bytes, the file breaks off there.
 * @param breaksOff what is said then, in plain words
 */
export function following(source: ByteSource, breaksOff: string, follow: (reader: BlockReader) => Extent | null): Extent | null {
  try {
    return follow(new BlockReader(source));
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return breaksAt(source.size, breaksOff);
  }
}
