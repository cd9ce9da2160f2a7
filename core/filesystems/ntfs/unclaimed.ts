import { layoutOf } from "../../bytes/layout";
import type { Range } from "../../bytes/range-set";
import type { AllocationMap } from "../allocation-map";
import { ClaimedClusters } from "../claimed-clusters";
import type { FileRecord } from "../file-record";
import { namelessFile } from "../nameless-file";
import { SYSTEM_RECORD } from "./layout";
import { parseMftRecord } from "./mft-record";
import type { MftTable } from "./mft-table";
import { readRuns } from "./run-list";

/** Stretches beyond this are a sign of a map that means nothing. */
const MOST_STRETCHES = 20_000;

/**
 * What stands in clusters that the volume's map has in use while no record claims them: the content of files whose records are
 * damaged. Only what begins in a part of the volume (bytes from its beginning) is reported. Each stretch comes as a file without a name; whether it is one, or a part of one, only its content says.
 */
export function* unclaimedFiles(table: MftTable, map: AllocationMap, start: number, part: Range): Generator<FileRecord, void, void> {
  const { clusters, clusterSize } = table.geometry;
  const claimed = new ClaimedClusters(clusters, map);
  table.walk(0, table.recordCount, (bytes, number) => {
    const record = parseMftRecord(bytes, number);
    // The list of bad clusters is one hole as long as the volume; what it holds is no file's.
    if (!record?.inUse || number === SYSTEM_RECORD.badClusters) return;
    for (const attribute of record.attributes)
      if (attribute.nonResident)
        for (const run of readRuns(record.cursor, attribute, clusters).runs) if (run.lcn !== null) claimed.enter(run.lcn, run.length);
  });
  let count = 0;
  for (const stretch of claimed.unclaimed()) {
    const at = stretch.start * clusterSize;
    if (at < part.start || at >= part.end) continue;
    if (count >= MOST_STRETCHES) return;
    count += 1;
    yield stretchRecord(stretch.start, stretch.end - stretch.start, clusterSize, start);
  }
}

function stretchRecord(first: number, count: number, clusterSize: number, start: number): FileRecord {
  const size = count * clusterSize;
  const record = namelessFile(
    `clusters-${first}`,
    `clusters ${first} to ${first + count - 1}`,
    layoutOf([{ kind: "disk", at: start + first * clusterSize, length: size }], size),
    "The volume's map has these clusters in use, but no file record claims them: the name is lost, the size is in whole clusters, and it may be a part of a file.",
  );
  return { ...record, leftover: true };
}
