import type { AllocationMap } from "../allocation-map";
import { ClaimedClusters } from "../claimed-clusters";
import type { Finding } from "../file-record";
import { blockWords, Tally } from "../tally";
import type { Extent } from "./catalog-record";

/** A fork of a live file, or a special file, with all the extents that are known of it. */
export interface OwnedFork {
  readonly name: string;
  /** Blocks it should have; null: as many as its extents have. */
  readonly blocks: number | null;
  readonly extents: readonly Extent[];
}

interface Counted {
  readonly files: number;
  readonly folders: number;
}

/** What does not add up in a volume: forks against one another, against their sizes and the map, and the numbers in the header. */
export function hfsPlusFindings(
  forks: Iterable<OwnedFork>,
  volume: { readonly blocks: number; readonly map: AllocationMap | null; readonly header: Counted; found(): Counted },
): Finding[] {
  const { blocks, map } = volume;
  const claimed = new ClaimedClusters(blocks, map);
  const [crossed, short, outside, free, unowned, counts] = [new Tally(), new Tally(), new Tally(), new Tally(), new Tally(), new Tally()];
  for (const { name, blocks: wanted, extents } of forks) {
    let [have, twice, unmarked] = [0, 0, 0];
    for (const { start, count } of extents) {
      if (start + count > blocks) {
        outside.add(name);
        continue;
      }
      have += count;
      const found = claimed.claim(start, count);
      twice += found.twice;
      unmarked += found.free;
    }
    if (twice > 0) crossed.add(name, twice);
    if (unmarked > 0) free.add(name, unmarked);
    if (wanted !== null && have < wanted) short.add(`${name}: ${have} blocks instead of ${wanted}`);
  }
  for (const { start, end } of claimed.unclaimed()) unowned.add(blockWords(start, end), end - start);
  const found = volume.found();
  if (found.files !== volume.header.files) counts.add(`${volume.header.files} files in the header, ${found.files} in the catalog`);
  if (found.folders !== volume.header.folders)
    counts.add(`${volume.header.folders} folders in the header, ${found.folders} in the catalog`);
  return [
    { what: "Blocks that two files claim: at least one of the two holds the other's bytes there.", ...crossed },
    { what: "Files that have fewer blocks than they should.", ...short },
    { what: "Files with blocks that lie outside the volume.", ...outside },
    { what: "Blocks that belong to a file while the volume's map calls them free: the next write may take them.", ...free },
    { what: "Blocks that the volume's map calls used and that no file leads to.", ...unowned },
    { what: "Numbers in the volume's header that differ from what is in the catalog.", ...counts },
  ].filter((finding) => finding.count > 0);
}
