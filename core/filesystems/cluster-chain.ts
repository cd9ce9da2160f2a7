/** Where clusters stand; they are numbered from 2. Offsets in the volume, bytes. */
export interface ClusterGeometry {
  readonly clusterSize: number;
  readonly clusters: number;
  /** Offset of cluster 2. */
  readonly dataAt: number;
}

/** A stretch of clusters that follow one another. */
export interface ClusterRun {
  readonly first: number;
  readonly count: number;
}

export interface Chain {
  readonly runs: readonly ClusterRun[];
  readonly clusters: number;
  /** What is wrong with it; null: it ends as it should. */
  readonly problem: string | null;
}

/**
 * Follows a chain of clusters, at most `most` long; they are numbered from 2.
 * @param next what the table says follows a cluster: another one, 0 for free, or a mark
 */
export function followChain(first: number, most: number, clusters: number, next: (cluster: number) => number | "end" | "bad"): Chain {
  const runs: { first: number; count: number }[] = [];
  let count = 0;
  for (let cluster = first; count < most; ) {
    if (cluster < 2 || cluster >= clusters + 2)
      return { runs, clusters: count, problem: `its chain leads to cluster ${cluster}, which does not exist` };
    const last = runs[runs.length - 1];
    if (last && last.first + last.count === cluster) last.count += 1;
    else runs.push({ first: cluster, count: 1 });
    count += 1;
    // A chain longer than the volume runs in a circle.
    if (count > clusters) return { runs: [], clusters: 0, problem: "its chain runs in a circle" };
    const following = next(cluster);
    if (following === "end") return { runs, clusters: count, problem: null };
    if (following === "bad") return { runs, clusters: count, problem: "its chain leads into a cluster marked bad" };
    if (following === 0) return { runs, clusters: count, problem: "its chain breaks off" };
    cluster = following;
  }
  return { runs, clusters: count, problem: null };
}
