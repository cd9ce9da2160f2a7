import { BlockReader } from "../../bytes/block-reader";
import { WindowSource } from "../../bytes/byte-source";
import type { PieceRoom } from "./pieces";

/** What lies around a file on the disk, and from where. */
export interface Surroundings {
  readonly reader: BlockReader;
  readonly from: number;
}

export function surroundings({ disk, effort: { reach } }: PieceRoom, at: number): Surroundings {
  const from = Math.max(0, at - reach);
  return { reader: new BlockReader(new WindowSource(disk, from, Math.min(disk.size, at + reach) - from)), from };
}

/** The places of a mark, `most` of them, as long as the disk may be read. Offsets are those of the reader. */
export function* placesOf({ disk }: PieceRoom, reader: BlockReader, mark: string, most: number): Generator<number, void, void> {
  let at = reader.find(mark, 0);
  for (let seen = 0; at >= 0 && seen < most && !disk.isSpent; seen += 1) {
    yield at;
    at = reader.find(mark, at + mark.length);
  }
}
