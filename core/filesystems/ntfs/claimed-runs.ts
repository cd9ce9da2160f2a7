import type { Range } from "../../bytes/range-set";
import type { MftRecord } from "./mft-record";
import { readRuns } from "./run-list";

/**
 * The stretches of the volume that a record claims.
 * @param clusters clusters the volume has
 * @param scale units of the result in a cluster
 */
export function* claimedRuns(record: MftRecord, clusters: number, scale: number): Generator<Range, void, void> {
  for (const attribute of record.attributes) {
    if (!attribute.nonResident) continue;
    for (const run of readRuns(record.cursor, attribute, clusters).runs)
      if (run.lcn !== null) yield { start: run.lcn * scale, end: (run.lcn + run.length) * scale };
  }
}
