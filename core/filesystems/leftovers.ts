import type { ByteSource } from "../bytes/byte-source";
import { type Checkpoint, numberCheckpoint, readNumberCheckpoint } from "../bytes/checkpoint";
import type { Range } from "../bytes/range-set";
import type { FileRecord, RecordBatch } from "./file-record";
import { type Earlier, scanSectors } from "./sector-scan";

/** What was found outside a volume's present records; each unit is described when it is asked for. */
export interface LeftoverUnits {
  readonly count: number;
  describe(unit: number): readonly FileRecord[];
}

/** Looks for one kind of traces outside a volume's present records: first sector by sector, then, all noted, by what they are together. */
export interface LeftoverScan {
  /** Bytes from the beginning of a sector that `note` may look at. */
  readonly head: number;
  /** What is looked for begins with one of these bytes; where they are not given, with any. */
  readonly firstBytes?: readonly number[];
  /** Whether what stands `inside` a block was taken note of; `at`: the same place in bytes from the volume's beginning. */
  note(block: Uint8Array, inside: number, at: number): boolean;
  /** What all that was noted comes to. */
  found(): LeftoverUnits;
}

/** What is looked for in a volume. */
export interface Leftovers {
  /** The volume's bytes. */
  readonly volume: ByteSource;
  /** Disk byte offset of the first of them. */
  readonly start: number;
  readonly scans: readonly LeftoverScan[];
  /** Those for traces of file systems of other kinds. */
  readonly former?: readonly LeftoverScan[];
  /** Other volumes stand in the same place: traces of other file systems are not looked for with this one. */
  readonly sharesPlace?: true;
}

/** Leftovers of which each record is given otherwise. */
export const changedLeftovers = (leftovers: Leftovers, change: (record: FileRecord) => FileRecord): Leftovers => ({
  ...leftovers,
  scans: leftovers.scans.map((scan) => changedScan(scan, change)),
  ...(leftovers.former ? { former: leftovers.former.map((scan) => changedScan(scan, change)) } : {}),
});

export const changedScan = (scan: LeftoverScan, change: (record: FileRecord) => FileRecord): LeftoverScan => ({
  head: scan.head,
  ...(scan.firstBytes ? { firstBytes: scan.firstBytes } : {}),
  note: (block, inside, at) => scan.note(block, inside, at),
  found: () => {
    const units = scan.found();
    return { count: units.count, describe: (unit) => units.describe(unit).map(change) };
  },
});

/**
 * Reads what stands outside a volume's present records, in batches: the volume, or a part of it (bytes from its beginning), is gone through once for
 * all that is looked for. Units of work are bytes, then what was found.
 * @param earlier what the batches up to `from` noted; without it the volume is read from the beginning again
 */
export function* readLeftovers(
  { volume, scans: own, former = [] }: Leftovers,
  from: Checkpoint | null,
  step: number,
  part: Range,
  earlier: Earlier | null,
): Generator<RecordBatch, void, void> {
  const scans = [...own, ...former];
  const head = Math.max(...scans.map((scan) => scan.head));
  // Most sectors begin with a byte that nothing begins with.
  const byFirst = Array.from({ length: 256 }, (_, byte) => scans.filter(({ firstBytes }) => firstBytes?.includes(byte) ?? true));
  const note = (block: Uint8Array, inside: number, at: number) => {
    let noted = false;
    const asked = byFirst[block[inside] as number] as LeftoverScan[];
    for (let index = 0; index < asked.length; index += 1) if (asked[index]?.note(block, inside, at)) noted = true;
    return noted;
  };
  const bytes = Math.min(part.end, volume.size) - part.start;
  const first = readNumberCheckpoint(from);
  for (const { done, noted } of scanSectors(volume, part, head, note, first, earlier))
    yield { records: [], resume: numberCheckpoint(done), done, total: bytes, noted };
  let before = 0;
  const found = scans.map((scan) => {
    const units = scan.found();
    const own = { units, first: before };
    before += units.count;
    return own;
  });
  const total = bytes + before;
  let next = Math.max(0, first - bytes);
  let records: FileRecord[] = [];
  for (const { units, first: begin } of found)
    while (next >= begin && next < begin + units.count) {
      for (const record of units.describe(next - begin)) records.push({ ...record, leftover: true });
      next += 1;
      if (next % step !== 0) continue;
      yield { records, resume: numberCheckpoint(bytes + next), done: bytes + next, total };
      records = [];
    }
  yield { records, resume: numberCheckpoint(total), done: total, total };
}
