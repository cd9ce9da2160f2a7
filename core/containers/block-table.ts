import { type ByteSource, readBytes } from "../bytes/byte-source";
import { type Range, RangeSet, without } from "../bytes/range-set";

/** A larger table is not gone through when it is opened. */
const MOST_BLOCKS = 1 << 20;
/** Places without a block that are looked at. */
const MOST_LOOKED = 256;
/** Looks at each of them, and bytes of each look. */
const [LOOKS, LOOKED_AT] = [16, 4096];

/** Where an image keeps what. Bytes of the file. */
export interface BlockTable {
  readonly blocks: number;
  /** Bytes of the disk in a block, and of the file: it may have more. */
  readonly blockSize: number;
  readonly stored: number;
  /** Where a block is said to begin; null: it has no place of its own. */
  startOf(block: number): number | null;
  /** What the image keeps for itself. */
  readonly own: readonly Range[];
  /** Where it keeps more of that is not known: what stands before all blocks may be such. */
  readonly mayOwnMore?: boolean;
}

/** What is wrong with a table of blocks. */
export interface TableFaults {
  /** Blocks said to stand where the image keeps other things of its own. */
  readonly impossible: ReadonlySet<number>;
  /** Stretches of the disk whose blocks are said to stand where another one does; or have no place, where data are left that none leads to. */
  readonly doubts: readonly Range[];
  readonly notes: readonly string[];
}

const NONE: TableFaults = { impossible: new Set(), doubts: [], notes: [] };

/**
 * Looks for what cannot be in a table of blocks, which nothing else checks: two blocks in one place of the file, or one where the image keeps its own
 * structures; and for data in the file that no entry leads to, as where entries were overwritten by zeros.
 */
export function judgeTable(file: ByteSource, table: BlockTable): TableFaults {
  const { blocks, blockSize, stored, startOf } = table;
  if (blocks > MOST_BLOCKS) return NONE;
  const own = RangeSet.from([...table.own].filter(({ start, end }) => end > start).sort((a, b) => a.start - b.start));
  const impossible = new Set<number>();
  const starts: number[] = [];
  for (let block = 0; block < blocks; block += 1) {
    const at = startOf(block);
    if (at === null || at >= file.size) continue;
    if (own.overlap(at, at + stored) > 0) impossible.add(block);
    else starts.push(at);
  }
  const sorted = Float64Array.from(starts).sort();
  const shared = new Set<number>();
  for (let i = 1; i < sorted.length; i += 1)
    if ((sorted[i] as number) - (sorted[i - 1] as number) < stored) shared.add(sorted[i] as number).add(sorted[i - 1] as number);
  const left = leftOut(file, sorted, table, own);
  const doubts = new RangeSet();
  let inOnePlace = 0;
  for (let block = 0; block < blocks && (shared.size > 0 || left.count > 0); block += 1) {
    const at = startOf(block);
    const isShared = at !== null && shared.has(at) && !impossible.has(block);
    inOnePlace += isShared ? 1 : 0;
    if (isShared || (at === null && left.count > 0)) doubts.add(block * blockSize, (block + 1) * blockSize);
  }
  const notes: string[] = [];
  if (impossible.size > 0)
    notes.push(
      `The image's table of blocks is damaged: ${countOf(impossible.size)} would stand where it keeps its own data, and cannot be read.`,
    );
  if (inOnePlace > 0)
    notes.push(
      `The image's table of blocks is damaged: ${countOf(inOnePlace)} would stand in the same place as another, and what lies in them is doubtful.`,
    );
  if (left.count > 0)
    notes.push(
      `The image's file holds data of ${left.isAll ? "" : "at least "}${countOf(left.count)} to which no entry of its table of blocks leads: given up, or entries are damaged. Zeros that have no block of their own are doubtful.`,
    );
  return { impossible, doubts: doubts.ranges, notes };
}

const countOf = (count: number) => (count === 1 ? "one block" : `${count} blocks`);

/** Whether something else than zeros stands in a stretch of a file. Looks at some of it. */
export function hasData(file: ByteSource, from: number, length: number): boolean {
  const end = Math.min(from + length, file.size);
  for (let at = from; at < end; at += Math.max(LOOKED_AT, Math.floor(length / LOOKS)))
    if (readBytes(file, at, Math.min(LOOKED_AT, end - at)).some((byte) => byte !== 0)) return true;
  return false;
}

/** How many places for a block hold data, and are no block's. @param sorted where blocks begin */
function leftOut(
  file: ByteSource,
  sorted: Float64Array,
  { stored, mayOwnMore = false }: BlockTable,
  own: RangeSet,
): { count: number; isAll: boolean } {
  let [count, looked, at] = [0, 0, mayOwnMore ? (sorted[0] ?? file.size) : 0];
  for (let i = 0; i <= sorted.length; i += 1) {
    const end = i < sorted.length ? (sorted[i] as number) : file.size;
    for (const gap of end - at >= stored ? without({ start: at, end }, own.ranges) : [])
      for (let from = gap.start; from + stored <= gap.end; from += stored, looked += 1) {
        if (looked >= MOST_LOOKED) return { count, isAll: false };
        if (hasData(file, from, stored)) count += 1;
      }
    at = Math.max(at, end + stored);
  }
  return { count, isAll: true };
}
