import type { ByteSource } from "../bytes/byte-source";
import type { Domain } from "./domain";
import type { Find } from "./find";
import { Settler } from "./settle";
import { type SweepOptions, UnitScanner } from "./unit";

/** Stretches that are looked through at once. The result depends on it, so it never changes with the machine. */
export const UNIT = 1 << 23;

export interface SweepBatch {
  readonly finds: readonly Find[];
  /** Give this to go on from here: disk byte offset. */
  readonly resume: number;
  /** Bytes of the domain, looked through and in all. */
  readonly done: number;
  readonly total: number;
}

/** Cluster size that is assumed where no file system tells one. */
export const USUAL_CLUSTER = 4096;

export interface SweepPlan {
  readonly domain: Domain;
  readonly options: SweepOptions;
  /** Bytes of a cluster, and the disk offset of one. */
  readonly cluster: number;
  readonly origin: number;
}

/** The sweep on one thread: looks through the domain, and gives out finds in batches. */
export function* sweep(disk: ByteSource, { domain, options, cluster, origin }: SweepPlan, from = 0): Generator<SweepBatch, void, void> {
  const scanner = new UnitScanner({ disk, limitOf: (at) => domain.limitOf(at) }, options);
  const settler = new Settler(disk, domain, cluster, origin);
  const { total } = domain;
  for (const unit of domain.units(from, UNIT)) {
    const finds = settler.add(scanner.scan(unit), unit.end, false);
    yield { finds, resume: settler.resume(unit.end), done: domain.before(unit.end), total };
  }
  const end = domain.ranges.at(-1)?.end ?? 0;
  yield { finds: settler.add([], end, true), resume: end, done: total, total };
}
