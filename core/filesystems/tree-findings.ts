import type { AllocationMap } from "./allocation-map";
import { ClaimedClusters } from "./claimed-clusters";
import type { Chain, ClusterRun } from "./cluster-chain";
import type { Finding } from "./file-record";
import { clusterWords, Tally } from "./tally";

/** A live file or folder (size null) with its clusters. */
export interface LiveFile {
  readonly path: string;
  /** Bytes. */
  readonly size: number | null;
  readonly chain: Chain;
}

/** What does not add up in a volume of folder entries: chains against sizes, files against one another and against the map. */
export function treeFindings(
  files: Iterable<LiveFile>,
  volume: { clusters: number; clusterSize: number; map: AllocationMap | null; bookkeeping: readonly ClusterRun[] },
): Finding[] {
  const { clusters, clusterSize, map } = volume;
  // Clusters are counted from 2.
  const claimed = new ClaimedClusters(clusters, map);
  const crossed = new Tally();
  const broken = new Tally();
  const long = new Tally();
  const free = new Tally();
  for (const run of volume.bookkeeping) claimed.claim(run.first - 2, run.count);
  for (const { path, size, chain } of files) {
    if (chain.problem) broken.add(`${path.slice(1)}: ${chain.problem}`);
    const wanted = size === null ? chain.clusters : Math.ceil(size / clusterSize);
    if (!chain.problem && chain.clusters < wanted) broken.add(`${path.slice(1)}: ${chain.clusters} clusters instead of ${wanted}`);
    if (chain.clusters > wanted) long.add(`${path.slice(1)}: ${chain.clusters} clusters instead of ${wanted}`);
    let twice = 0;
    let unmarked = 0;
    for (const run of chain.runs) {
      const found = claimed.claim(run.first - 2, run.count);
      twice += found.twice;
      unmarked += found.free;
    }
    if (twice > 0) crossed.add(path.slice(1), twice);
    if (unmarked > 0) free.add(path.slice(1), unmarked);
  }
  const unowned = new Tally();
  for (const { start, end } of claimed.unclaimed()) unowned.add(clusterWords(start + 2, end + 2), end - start);
  return [
    { what: "Clusters that two files claim: at least one of the two holds the other's bytes there.", ...crossed },
    { what: "Files and folders whose chain of clusters does not reach to their end.", ...broken },
    { what: "Files with more clusters than their size needs.", ...long },
    { what: "Clusters that belong to a file while the volume's map calls them free: the next write may take them.", ...free },
    {
      what: "Clusters the volume's map calls used that no file or folder leads to; they are brought up as chains without a name.",
      ...unowned,
    },
  ].filter((finding) => finding.count > 0);
}
