import { diskRuns, type Layout, markForeign } from "../bytes/layout";
import { type Range, RangeSet } from "../bytes/range-set";
import { withChangedLeftovers, withChangedRecords } from "../filesystems/changed-records";
import type { FileRecord, FileSystem, Placed } from "../filesystems/file-record";
import type { Leftovers } from "../filesystems/leftovers";

/** A volume that lies over an earlier one. Disk byte offset and bytes. */
export interface LaterVolume {
  readonly offset: number;
  readonly length: number;
  /** null: it cannot be opened, and what it uses is not known. */
  readonly opened: Pick<FileSystem, "allocation" | "allocationStart" | "clusterSize"> | null;
}

const UNDER_LATER =
  "A later volume lies over this one: what was written there and deleted since is not known, and only the content can prove itself.";

/**
 * A volume of an earlier division of the disk, as the later ones over it have left it. All its files are gone, whatever its own records say; what
 * stands in what the later volumes use is theirs; and of the rest, which they may have used for a while, nothing but the content is proof.
 */
export const underLater = (volume: FileSystem, later: readonly LaterVolume[]): FileSystem =>
  withChangedRecords(withChangedLeftovers(volume, withoutFormer), (record) => asLeft(record, later));

/** What other file systems have left in it, the later volumes have or find. */
const withoutFormer = ({ former: _, ...leftovers }: Leftovers): Leftovers => leftovers;

function asLeft(record: FileRecord, later: readonly LaterVolume[]): FileRecord {
  const { content, streams } = record;
  // What is held in the record itself is there with it.
  const standsApart = (layout: Layout) => layout.segments.some(({ kind }) => kind !== "held" && kind !== "hole");
  const weighed = (place: Placed): Placed => (standsApart(place.layout) ? weigh(place, later) : place);
  return {
    ...record,
    state: "deleted",
    ...(content.kind === "placed"
      ? { content: { kind: "placed", likeliest: weighed(content.likeliest), others: content.others.map(weighed) } }
      : {}),
    streams: streams.map((stream) => ({
      ...stream,
      layout: stream.layout && markForeign(stream.layout, usedByLater(stream.layout, later).ranges),
    })),
  };
}

function weigh(place: Placed, later: readonly LaterVolume[]): Placed {
  const { layout, evidence } = place;
  const used = usedByLater(layout, later);
  const foreign = RangeSet.from([...(evidence.foreign ?? []), ...used.ranges]);
  const before = RangeSet.from(evidence.foreign ?? []).total;
  let usedByOthers = evidence.usedByOthers + foreign.total - before;
  // One lost byte spoils all that is coded after it: the unit counts as gone.
  for (const segment of layout.segments)
    if (segment.kind === "coded" && segment.from.some(({ at, length }) => used.overlap(at, at + length) > 0))
      usedByOthers += segment.length;
  const most = Math.max(0, layout.size - evidence.takenLater - evidence.lost);
  return {
    ...place,
    sure: false,
    evidence: { ...evidence, usedByOthers: Math.min(most, usedByOthers), foreign: foreign.ranges },
    note: place.note ? `${place.note} ${UNDER_LATER}` : UNDER_LATER,
  };
}

/** The stretches of the disk that a layout has and later volumes use: disk byte ranges. */
function usedByLater(layout: Layout, later: readonly LaterVolume[]): RangeSet {
  const used = new RangeSet();
  for (const run of diskRuns(layout))
    for (const volume of later) {
      const start = Math.max(run.at, volume.offset);
      const end = Math.min(run.at + run.length, volume.offset + volume.length);
      if (start < end) for (const range of usedIn(volume, { start, end })) used.add(range.start, range.end);
    }
  return used;
}

/** What a volume uses of a stretch that lies in it. What no cluster covers (its beginning, its end) is its own. */
function usedIn({ opened }: LaterVolume, { start, end }: Range): Range[] {
  if (!opened?.allocation) return [];
  const { allocation, allocationStart, clusterSize } = opened;
  const first = Math.floor((start - allocationStart) / clusterSize);
  const count = Math.ceil((end - allocationStart) / clusterSize) - first;
  return allocation.usedWithin(first, count).map((range) => ({
    start: Math.max(start, allocationStart + range.start * clusterSize),
    end: Math.min(end, allocationStart + range.end * clusterSize),
  }));
}
