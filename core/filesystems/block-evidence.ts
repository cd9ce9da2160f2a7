import type { Layout } from "../bytes/layout";
import { RangeSet } from "../bytes/range-set";
import type { UsedMap } from "./allocation-map";
import type { ByteEvidence } from "./file-record";

/** The blocks of a volume, and which of them are in use. */
export interface MappedBlocks {
  /** Disk byte offset of block 0. */
  readonly start: number;
  readonly blockSize: number;
  readonly map: UsedMap | null;
}

/** What files deleted later had taken: in units of so many bytes. */
export interface TakenLater {
  readonly taken: RangeSet;
  readonly unit: number;
  /** Disk byte offset of the first unit; where it is not given, that of block 0. */
  readonly from?: number;
}

/** What became of a deleted file's bytes, by the volume's map and by the claims of files deleted later. */
export function blockEvidence(layout: Layout, blocks: MappedBlocks, later?: TakenLater): ByteEvidence {
  let usedByOthers = 0;
  let takenLater = 0;
  let lost = 0;
  const foreign = new RangeSet();
  const overwritten = (at: number, length: number) => {
    const found = overwrittenIn(at, length, blocks, later);
    for (const range of found.bytes.ranges) foreign.add(range.start, range.end);
    return found;
  };
  for (const segment of layout.segments) {
    if (segment.kind === "lost") lost += segment.length;
    else if (segment.kind === "disk") {
      const found = overwritten(segment.at, segment.length);
      usedByOthers += found.used;
      takenLater += found.taken;
    } else if (segment.kind === "coded" && !segment.held) {
      const found = segment.from.map((run) => overwritten(run.at, run.length));
      // One lost byte spoils all that is coded after it: the unit counts as gone.
      if (found.some((each) => each.used > 0)) usedByOthers += segment.length;
      else if (found.some((each) => each.taken > 0)) takenLater += segment.length;
    }
  }
  return { usedByOthers, takenLater, lost, foreign: foreign.ranges };
}

function overwrittenIn(
  at: number,
  length: number,
  { start, blockSize, map }: MappedBlocks,
  later: TakenLater | undefined,
): { used: number; taken: number; bytes: RangeSet } {
  const inside = at - start;
  const bytes = new RangeSet();
  const add = (range: { start: number; end: number }, size: number) =>
    bytes.add(Math.max(at, start + range.start * size), Math.min(at + length, start + range.end * size));
  const first = Math.floor(inside / blockSize);
  for (const range of map?.usedWithin(first, Math.ceil((inside + length) / blockSize) - first) ?? []) add(range, blockSize);
  const used = bytes.total;
  if (later) {
    const { taken, unit, from = start } = later;
    for (const range of taken.within(Math.floor((at - from) / unit), Math.ceil((at - from + length) / unit)))
      bytes.add(Math.max(at, from + range.start * unit), Math.min(at + length, from + range.end * unit));
  }
  return { used, taken: bytes.total - used, bytes };
}
