import type { ByteSource } from "../bytes/byte-source";
import type { Checkpoint } from "../bytes/checkpoint";
import type { Range } from "../bytes/range-set";
import type { FileSystem } from "../filesystems/file-record";
import { readLeftovers } from "../filesystems/leftovers";
import type { Earlier } from "../filesystems/sector-scan";
import { type Copy, copyOfRecord } from "./copy";

export interface CopyBatch {
  readonly copies: readonly Copy[];
  /** Go on from here with `fileRecordsPass(…, resume)`. */
  readonly resume: Checkpoint;
  readonly done: number;
  readonly total: number;
  /** Of a pass over leftovers: what it noted since the batch before. */
  readonly noted?: readonly number[];
}

const STEP = 512;

/**
 * The pass "file records": everything a volume's own records describe, live and deleted, in batches with a resume point.
 * @param step records looked at for one batch
 */
export function* fileRecordsPass(
  volume: FileSystem,
  disk: ByteSource,
  from: Checkpoint | null = null,
  step = STEP,
): Generator<CopyBatch, void, void> {
  for (const batch of volume.readRecords(from, step)) {
    yield { copies: batch.records.map((record) => copyOfRecord(record, disk)), resume: batch.resume, done: batch.done, total: batch.total };
  }
}

/** The thorough reading of a backup file: all its records, past every damage, with contents looked at; of all of it or a part (bytes). */
export function* thoroughPass(
  volume: FileSystem,
  disk: ByteSource,
  from: Checkpoint | null = null,
  step = STEP,
  part?: Range,
): Generator<CopyBatch, void, void> {
  for (const { records, resume, done, total } of volume.readThorough?.(from, step, part) ?? [])
    yield { copies: records.map((record) => copyOfRecord(record, disk)), resume, done, total };
}

/**
 * The pass "leftover records": what stands outside the volume's present records, of a file system that was there before or
 * cut off from the present one. It reads the whole volume, or a part of it (bytes from its beginning), with a resume point.
 * @param earlier what the batches up to `from` noted, all together; without it the volume is read from the beginning again
 */
export function* leftoversPass(
  volume: FileSystem,
  disk: ByteSource,
  from: Checkpoint | null = null,
  step = STEP,
  part?: Range,
  earlier?: Earlier | null,
): Generator<CopyBatch, void, void> {
  const whole = part ?? { start: 0, end: Number.MAX_SAFE_INTEGER };
  const leftovers = volume.leftovers?.(whole);
  if (!leftovers) return;
  for (const { records, resume, done, total, noted } of readLeftovers(leftovers, from, step, whole, earlier ?? null))
    yield { copies: records.map((record) => copyOfRecord(record, disk)), resume, done, total, ...(noted && { noted }) };
}
