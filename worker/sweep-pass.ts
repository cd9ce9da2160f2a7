import { LayoutSource, layoutOf } from "../core/bytes/layout";
import type { Range } from "../core/bytes/range-set";
import type { CopyBatch } from "../core/copies/file-records-pass";
import { type FileSystem, FileSystemError } from "../core/filesystems/file-record";
import { FORMATS } from "../core/formats/registry";
import { type Find, isProven } from "../core/sweep/find";
import { findName } from "../core/sweep/find-name";
import { isUsed, planSweep } from "../core/sweep/plan-sweep";
import { rawCopy } from "../core/sweep/raw-copy";
import { scanUnits, sweep } from "../core/sweep/sweep";
import { openVolume, type VolumeReport } from "../core/volumes/inspect";
import { openDisk, pickSourceAt } from "../io/open-source";
import type { Sighted } from "../server/passes/contract";
import type { PassThreadData } from "./pass-thread";
import { threadedScan } from "./sweep-units";

/** The pass "raw content": what is found by what it looks like inside, on a volume or the part of it that is asked for. */
export function openSweep(data: PassThreadData, part: Range, enough: (done: number) => boolean) {
  const { disk, noteBad, close } = openDisk(data);
  const volume = readable(disk, data.volume);
  const { options } = data;
  const plan = planSweep(
    {
      range: { start: data.volume.offset + part.start, end: Math.min(disk.size, data.volume.offset + part.end) },
      unusedOnly: options.unused ?? false,
      skip: data.swept,
      everyByte: options.everyByte ?? false,
      longer: options.longer ?? false,
      formats:
        options.kinds && options.kinds.length > 0 ? FORMATS.filter(({ kind }) => options.kinds?.includes(kind)).map(({ id }) => id) : null,
    },
    volume,
  );
  const scan = data.threads > 1 ? threadedScan(pickSourceAt(data), data.threads, noteBad) : scanUnits;
  function* batches(): Generator<CopyBatch & { sighted: Sighted; inMidst: boolean }, void, void> {
    for (const { finds, sighted, resume, done, total, joining } of sweep(disk, plan, data.resume, scan, enough)) {
      const copies = finds.map((find) => rawCopy(find, unreadableIn(find), isUsed(volume, find.at)));
      yield {
        copies,
        sighted: { ...sightedOf(sighted), ...(joining ? { joining } : {}) },
        resume,
        done,
        total,
        inMidst: joining !== undefined,
      };
    }
  }
  const unreadableIn = (find: Find) =>
    disk.unreadable(0, disk.size).length === 0
      ? 0
      : new LayoutSource(
          disk,
          layoutOf(
            find.segments.map((run) => ({ kind: "disk", ...run })),
            find.size,
          ),
        )
          .unreadable(0, find.size)
          .reduce((sum, { start, end }) => sum + end - start, 0);
  return { disk, reach: plan.domain.drawn(), batches, close };
}

/** Those listed by name: the newest that are proven. */
const MOST_NAMED = 3;

function sightedOf(finds: readonly Find[]): Sighted {
  const proven = finds.filter(isProven).slice(-MOST_NAMED).reverse();
  return { count: finds.length, newest: proven.map((find) => ({ name: findName(find), size: find.size, at: find.at })) };
}

/** The volume's file system, for what it has in use; null where it cannot be read any more. */
function readable(disk: ReturnType<typeof openDisk>["disk"], place: PassThreadData["volume"]): FileSystem | null {
  try {
    return openVolume(disk, { ...place, filesystem: place.filesystem as VolumeReport["filesystem"] });
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return null;
  }
}
