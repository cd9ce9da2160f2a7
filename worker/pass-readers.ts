import type { ByteSource } from "../core/bytes/byte-source";
import type { Range } from "../core/bytes/range-set";
import type { Copy } from "../core/copies/copy";
import { type CopyBatch, fileRecordsPass, leftoversPass, thoroughPass } from "../core/copies/file-records-pass";
import type { PassPlace } from "../core/copies/pass-kinds";
import { placesPass } from "../core/places/places-pass";
import { type Between, earlierStatesPass } from "../core/sets/earlier-states-pass";
import type { SetFacts } from "../core/sets/set-facts";
import { FOLDER, openSearchable, type Searchable } from "../io/open-searchable";
import type { PassOptions, Sighted } from "../server/passes/contract";
import type { PassThreadData } from "./pass-thread";
import { openSweep } from "./sweep-pass";

/** A batch of a pass; of a sweep with what it has found and not given out, of a pass over earlier states with the sets it knows of. */
type ReadBatch = CopyBatch & { readonly sighted?: Sighted; readonly inMidst?: boolean; readonly sets?: readonly SetFacts[] };

/** What a pass reads: the batches it gives, the disk they come from, and whether its times are local ones. */
export interface Reading {
  readonly disk: ByteSource;
  readonly reach?: readonly Range[];
  /** Whether a copy's times are local ones. */
  localTimes(copy: Copy): boolean;
  batches(): Iterable<ReadBatch>;
  close(): void;
}

/** What a reader is given: what the thread was started with, the part of the volume it keeps to, and whether it is to end at a byte that is done. */
export interface ReaderContext {
  readonly data: PassThreadData;
  readonly part: Range;
  enough(done: number): boolean;
}

const DAY_MS = 86_400_000;

/** The states a pass keeps to; undefined: all of them. */
const statesBetween = ({ statesFrom, statesTo }: PassOptions): Between | undefined =>
  statesFrom === undefined && statesTo === undefined
    ? undefined
    : {
        from: statesFrom === undefined ? null : Date.parse(statesFrom),
        to: statesTo === undefined ? null : Date.parse(statesTo) + DAY_MS - 1,
      };

/** Records read in one step, at most. */
const STEP = 512;

/** A reader of the volume's own records. */
const ofRecords =
  (batches: (opened: Searchable, context: ReaderContext, step: number) => Iterable<ReadBatch>) =>
  (context: ReaderContext): Reading => {
    const opened = openSearchable(context.data, context.data.volume);
    return {
      disk: opened.disk,
      localTimes: (copy) => copy.localTimes ?? opened.volume.localTimes ?? false,
      close: opened.close,
      batches: () => batches(opened, context, Math.min(context.data.batch, STEP)),
    };
  };

/** How each kind of pass is opened, and goes on from its checkpoint. */
export const PASS_READERS: Readonly<Record<PassPlace, (context: ReaderContext) => Reading>> = {
  "known-places": ofRecords(({ tree }, { data }, step) => placesPass(tree, data.rules, data.resume, step, data.options.places)),
  "file-record": ofRecords(({ volume, disk }, { data }, step) => fileRecordsPass(volume, disk, data.resume, step)),
  "earlier-states": ofRecords(({ volume, tree }, { data }, step) =>
    earlierStatesPass({ volume, tree, openState: (view) => openSearchable(data, { ...data.volume, view }) }, step, {
      between: statesBetween(data.options),
      newestFirst: data.options.newestFirst,
      // A folder may have changed while the pass was paused.
      from: data.volume.filesystem === FOLDER ? null : data.resume,
    }),
  ),
  thorough: ofRecords(({ volume, disk }, { data, part }, step) => thoroughPass(volume, disk, data.resume, step, part)),
  "leftover-record": ofRecords(({ volume, disk }, { data, part }, step) =>
    leftoversPass(volume, disk, data.resume, step, part, data.noted),
  ),
  raw: ({ data, part, enough }) => ({ ...openSweep(data, part, enough), localTimes: ({ facts }) => facts?.taken !== undefined }),
};
