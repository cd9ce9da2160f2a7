import type { FileRecord, FileSystem, RecordBatch } from "./file-record";
import { changedLeftovers, type Leftovers } from "./leftovers";

/** A volume that answers as another one does, but for what is given. */
const withChanges = (volume: FileSystem, changes: Partial<FileSystem>): FileSystem => ({
  clusterSize: volume.clusterSize,
  label: volume.label,
  notes: volume.notes,
  ...(volume.localTimes === undefined ? {} : { localTimes: volume.localTimes }),
  ...(volume.recordsCoverStates ? { recordsCoverStates: true } : {}),
  allocation: volume.allocation,
  allocationStart: volume.allocationStart,
  readRecords: (from, step) => volume.readRecords(from, step),
  ...(volume.leftovers ? { leftovers: (part) => volume.leftovers?.(part) ?? null } : {}),
  ...(volume.readThorough ? { readThorough: (...args) => volume.readThorough?.(...args) ?? noBatches() } : {}),
  ...(volume.states ? { states: (thorough) => volume.states?.(thorough) ?? [] } : {}),
  ...(volume.findings ? { findings: () => volume.findings?.() ?? [] } : {}),
  ...changes,
});

function* noBatches(): Generator<RecordBatch, void, void> {}

/** A volume with other leftovers: those it has are changed each time they are asked for. */
export const withChangedLeftovers = (volume: FileSystem, change: (leftovers: Leftovers) => Leftovers): FileSystem =>
  withChanges(volume, {
    leftovers: (part) => {
      const leftovers = volume.leftovers?.(part);
      return leftovers ? change(leftovers) : null;
    },
  });

/** A volume whose records are given otherwise: each as `change` gives it. Its states and findings are its own. */
export function withChangedRecords(volume: FileSystem, change: (record: FileRecord) => FileRecord): FileSystem {
  function* changed(batches: Iterable<RecordBatch>): Generator<RecordBatch, void, void> {
    for (const batch of batches) yield { ...batch, records: batch.records.map(change) };
  }
  return withChanges(
    withChangedLeftovers(volume, (leftovers) => changedLeftovers(leftovers, change)),
    {
      readRecords: (from, step) => changed(volume.readRecords(from, step)),
      ...(volume.readThorough ? { readThorough: (...args) => changed(volume.readThorough?.(...args) ?? []) } : {}),
    },
  );
}
