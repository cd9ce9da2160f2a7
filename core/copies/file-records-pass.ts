import type { ByteSource } from "../bytes/byte-source";
import type { Range } from "../bytes/range-set";
import type { FileSystem } from "../filesystems/file-record";
import { type Copy, copyOfRecord } from "./copy";

export interface CopyBatch {
  readonly copies: readonly Copy[];
  /** Go on from here with `fileRecordsPass(…, resume)`. */
  readonly resume: number;
  readonly done: number;
  readonly total: number;
}

const STEP = 512;

/**
 * The pass "file records": everything a volume's own records tell, live and deleted, in batches with a resume point.
 * @param step records looked at for one batch
 */
export function* fileRecordsPass(volume: FileSystem, disk: ByteSource, from = 0, step = STEP): Generator<CopyBatch, void, void> {
  for (const batch of volume.readRecords(from, step)) {
    yield { copies: batch.records.map((record) => copyOfRecord(record, disk)), resume: batch.resume, done: batch.done, total: batch.total };
  }
}

/**
 * The pass "leftover records": what stands outside the volume's present records, of a file system that was there before or
 * cut off from the present one. It reads the whole volume, or a part of it (bytes from its beginning), with a resume point.
 */
export function* leftoversPass(
  volume: FileSystem,
  disk: ByteSource,
  from = 0,
  step = STEP,
  part?: Range,
): Generator<CopyBatch, void, void> {
  for (const batch of volume.readLeftovers?.(from, step, part) ?? []) {
    yield { copies: batch.records.map((record) => copyOfRecord(record, disk)), resume: batch.resume, done: batch.done, total: batch.total };
  }
}
