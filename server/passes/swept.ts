import { and, eq, lt } from "drizzle-orm";
import { type Range, RangeSet } from "../../core/bytes/range-set";
import { sweptUpTo } from "../../core/sweep/sweep";
import type { Connection } from "../database/connection";
import { passes } from "../database/schema";
import type { PassOptions } from "./contract";

/** Whether a sweep with the one set of options has looked for all that one with the other would. */
function coversAll(done: PassOptions, wanted: PassOptions): boolean {
  if (wanted.everyByte && !done.everyByte) return false;
  if (wanted.longer && !done.longer) return false;
  if (done.unused && !wanted.unused) return false;
  if (!done.kinds || done.kinds.length === 0) return true;
  return (wanted.kinds ?? []).length > 0 && (wanted.kinds ?? []).every((kind) => done.kinds?.includes(kind));
}

/** What earlier sweeps of a volume looked through in the same way or more thoroughly. Disk byte offsets. */
export async function sweptBefore(
  db: Connection,
  passId: number,
  volume: { readonly id: number; readonly offset: number; readonly length: number },
  wanted: PassOptions,
): Promise<Range[]> {
  const earlier = await db
    .select()
    .from(passes)
    .where(and(eq(passes.storeId, volume.id), eq(passes.place, "raw"), lt(passes.id, passId)));
  const swept = new RangeSet();
  for (const { options, state, resume } of earlier) {
    if (!coversAll(options, wanted)) continue;
    const part = partOf(volume, options);
    swept.add(part.start, state === "done" ? part.end : Math.min(part.end, sweptUpTo(resume)));
  }
  return [...swept.ranges];
}

/** The part of a volume that a pass keeps to. Disk byte offsets. */
export function partOf(volume: { readonly offset: number; readonly length: number }, { from = 0, to = 100 }: PassOptions): Range {
  return {
    start: volume.offset + Math.floor((volume.length * from) / 100),
    end: volume.offset + Math.ceil((volume.length * to) / 100),
  };
}
