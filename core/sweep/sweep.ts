import type { ByteSource } from "../bytes/byte-source";
import {
  type Checkpoint,
  isNumberCheckpoint,
  numberCheckpoint,
  readNumberCheckpoint,
  readTextCheckpoint,
  textCheckpoint,
} from "../bytes/checkpoint";
import { Malformed } from "../bytes/malformed";
import type { Range } from "../bytes/range-set";
import type { Domain } from "./domain";
import type { Find } from "./find";
import type { Grid } from "./grid";
import type { Effort } from "./joining/effort";
import { SECTOR } from "./mark-search";
import { type Joining, Settler } from "./settle";
import { type SweepOptions, UnitScanner } from "./unit";

/** Stretches that are looked through at once. The result depends on it, so it never changes with the machine. */
export const UNIT = 1 << 23;

export interface SweepBatch {
  readonly finds: readonly Find[];
  /** What was found so far and may still change: the finds of later batches, as they look now. */
  readonly sighted: readonly Find[];
  /** Give this to go on from here. */
  readonly resume: Checkpoint;
  /** Bytes of the domain, looked through and in all. */
  readonly done: number;
  readonly total: number;
  /** Further pieces of files are looked for: so many are done. Such a batch brings no finds, and nothing is gained by going on from it. */
  readonly joining?: Joining;
}

/** Where a sweep goes on, and the grid it found; before it found one that is null. */
interface Reached {
  readonly at: number;
  readonly grid: Grid | null;
}

const toCheckpoint = ({ at, grid }: Reached): Checkpoint => (grid ? textCheckpoint([at, grid.cluster, grid.origin]) : numberCheckpoint(at));

/** @throws Malformed when it is none of a sweep */
function readReached(from: Checkpoint | null): Reached {
  if (from === null || isNumberCheckpoint(from)) return { at: readNumberCheckpoint(from), grid: null };
  const value = readTextCheckpoint(from);
  if (!Array.isArray(value) || value.length !== 3 || !value.every((each) => Number.isSafeInteger(each) && each >= 0))
    throw new Malformed("This checkpoint is not of this reader.");
  const [at, cluster, origin] = value as [number, number, number];
  return { at, grid: cluster >= SECTOR ? { cluster, origin } : null };
}

/** Up to where a sweep has looked, by one of its checkpoints: disk byte offset. */
export const sweptUpTo = (checkpoint: Checkpoint | null): number => readReached(checkpoint).at;

export interface SweepPlan {
  readonly domain: Domain;
  readonly options: SweepOptions;
  /** Where clusters begin, as the volume says; null: no volume does, and it is read off the finds. */
  readonly grid: Grid | null;
  /** How long the rest of what breaks off is looked for. */
  readonly effort: Effort;
}

export interface ScannedUnit {
  readonly unit: Range;
  readonly finds: readonly Find[];
}

/** The stretches that are still to be looked through. @param from where to go on; a file that begins there is found again */
export const unitsFrom = (domain: Domain, from: number) => domain.units(Math.floor(from / SECTOR) * SECTOR, UNIT);

/** Looks through one stretch after the other on this thread. */
export function* scanUnits(disk: ByteSource, { domain, options }: SweepPlan, from: number): Generator<ScannedUnit, void, void> {
  const scanner = new UnitScanner({ disk, limitOf: (at) => domain.limitOf(at) }, options);
  for (const unit of unitsFrom(domain, from)) yield { unit, finds: scanner.scan(unit) };
}

/**
 * The sweep: gives out finds in batches, with a resume point.
 * @param scan looks through the stretches in their order; other threads may do it, with the same result
 * @param enough asked after each stretch with the bytes that are done: when it is, what is in hand is given out as it is, and the sweep ends
 */
export function* sweep(
  disk: ByteSource,
  plan: SweepPlan,
  checkpoint: Checkpoint | null = null,
  scan = scanUnits,
  enough: (done: number) => boolean = () => false,
): Generator<SweepBatch, void, void> {
  const { domain } = plan;
  const { at: from, grid } = readReached(checkpoint);
  const settler = new Settler(disk, domain, plan.grid ?? grid, plan.effort);
  const { total } = domain;
  const settled = (at: number) => toCheckpoint({ at, grid: plan.grid ? null : settler.grid });
  /** Settles what a stretch brought; while pieces are looked for that takes long, and is shown. */
  function* settle(found: readonly Find[], unit: Range, ends: boolean): Generator<SweepBatch, Find[], void> {
    const steps = settler.add(found, unit.end, ends);
    for (;;) {
      const step = steps.next();
      if (step.done) return step.value;
      const resume = settled(settler.resume(unit.start));
      yield { finds: [], sighted: settler.sighted(), resume, done: domain.before(unit.start), total, joining: step.value };
    }
  }
  for (const { unit, finds: found } of scan(disk, plan, from)) {
    const ends = enough(domain.before(unit.end));
    const own = found.filter(({ at }) => at >= from);
    const finds = yield* settle(own, unit, ends);
    if (ends) {
      yield { finds, sighted: [], resume: settled(unit.end), done: domain.before(unit.end), total };
      return;
    }
    yield { finds, sighted: settler.sighted(), resume: settled(settler.resume(unit.end)), done: domain.before(unit.end), total };
  }
  const end = domain.ranges.at(-1)?.end ?? 0;
  const finds = yield* settle([], { start: end, end }, true);
  yield { finds, sighted: [], resume: settled(end), done: total, total };
}
