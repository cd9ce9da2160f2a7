import type { FileRecord, FileSystem, RecordBatch } from "./file-record";

/** A volume whose records are given otherwise: each as `change` gives it. Its states and findings are its own. */
export function withChangedRecords(volume: FileSystem, change: (record: FileRecord) => FileRecord): FileSystem {
  function* changed(batches: Iterable<RecordBatch>): Generator<RecordBatch, void, void> {
    for (const batch of batches) yield { ...batch, records: batch.records.map(change) };
  }
  const { clusterSize, label, notes, localTimes, allocation, allocationStart } = volume;
  return {
    clusterSize,
    label,
    notes,
    ...(localTimes === undefined ? {} : { localTimes }),
    allocation,
    allocationStart,
    readRecords: (from, step) => changed(volume.readRecords(from, step)),
    ...(volume.readLeftovers ? { readLeftovers: (...args) => changed(volume.readLeftovers?.(...args) ?? []) } : {}),
    ...(volume.states ? { states: () => volume.states?.() ?? [] } : {}),
    ...(volume.findings ? { findings: () => volume.findings?.() ?? [] } : {}),
  };
}
