import type { ClusterGeometry } from "./cluster-chain";
import type { TreeEntry } from "./folder-entry";

/** What the beginning of a folder says about it. */
export interface FolderTrace {
  /** Its own first cluster; null: it does not say. */
  readonly cluster: number | null;
  /** The first cluster of the folder above; 0: the root; null: not given. */
  readonly parent: number | null;
  /** It is the root of a file system that was there before. */
  readonly root?: boolean;
  /** It is no beginning: a cluster with which a folder went on. */
  readonly isPart?: boolean;
  /** Entries stand before it too: it may be the midst of a folder. */
  readonly mayGoOn?: boolean;
  /** Where it does not say its cluster: which one it probably is, for clusters of one size and another. */
  readonly guesses?: readonly ClusterGuess[];
}

export interface ClusterGuess {
  readonly cluster: number;
  /** Bytes. */
  readonly clusterSize: number;
  /** Something else bears it out. */
  readonly likely: boolean;
}

/** A folder's beginning, and where it stands. */
export interface Found extends FolderTrace {
  /** Offset in the volume. */
  readonly at: number;
}

/** Bytes of a folder's beginning that say what it is. */
export const FOLDER_HEAD = 4096;
/** Folders, and entries that lead to folders, that are held against each other for the measures they fit. */
const MOST_COMPARED = 400;
/** Bytes before the first cluster: tables of it take at most a thirtieth of a volume, and what is left free before them at most 64 MiB. */
const latestBeginning = (size: number) => Math.min(size / 2, size / 30 + (1 << 26));
export const CLUSTER_SIZES = Array.from({ length: 17 }, (_, power) => 512 * 2 ** power);
/** No volume has more bytes. */
const LARGEST_VOLUME = 2 ** 48;
/** Measures that are counted at most. */
const MOST_MEASURES = 500_000;

/** The cluster that begins at a place, also behind the last one that a damaged volume counts; null: none does. */
export function clusterIn({ dataAt, clusterSize }: ClusterGeometry, at: number): number | null {
  const cluster = (at - dataAt) / clusterSize + 2;
  return Number.isInteger(cluster) && cluster >= 2 ? cluster : null;
}

/** Bytes of a cluster of exFAT by default, by the size of the volume (published by the maker of the format as its defaults; from memory). */
const usualCluster = (size: number) => (size <= 2 ** 28 ? 4096 : size <= 2 ** 35 ? 32_768 : 131_072);

/** Counts which measures folders speak for: that the cluster of a number begins at a place. */
export class Votes {
  /** By the place of the first cluster, and above it the power of two of the size. */
  readonly #votes = new Map<number, number>();

  constructor(private readonly size: number) {}

  add(at: number, cluster: number, clusterSize: number, weight: number): void {
    const dataAt = at - (cluster - 2) * clusterSize;
    if (cluster < 2 || dataAt <= 0 || dataAt > latestBeginning(this.size)) return;
    const key = Math.log2(clusterSize) * LARGEST_VOLUME + dataAt;
    const count = this.#votes.get(key);
    if (count !== undefined || this.#votes.size < MOST_MEASURES) this.#votes.set(key, (count ?? 0) + weight);
  }

  /** The measures with most votes, two or more; null: there are none. */
  most(): ClusterGeometry | null {
    let best: { key: number; count: number } | null = null;
    for (const [key, count] of this.#votes) if (count >= 2 && count > (best?.count ?? 0)) best = { key, count };
    return best && this.#measures(best.key);
  }

  /** The measures with one vote for clusters of the size that a volume like this has by default; null: none or several have it. */
  usual(): ClusterGeometry | null {
    const clusterSize = usualCluster(this.size);
    const found = [...this.#votes.keys()].map((key) => this.#measures(key)).filter((each) => each.clusterSize === clusterSize);
    return found.length === 1 ? (found[0] as ClusterGeometry) : null;
  }

  #measures(key: number): ClusterGeometry {
    const clusterSize = 2 ** Math.floor(key / LARGEST_VOLUME);
    const dataAt = key % LARGEST_VOLUME;
    return { clusterSize, dataAt, clusters: Math.floor((this.size - dataAt) / clusterSize) };
  }
}

/** Folders that do not say which clusters are theirs, and the entries in them that lead to folders: what these say of one another. */
export class Ties {
  /** First clusters of the folders that entries of each of them lead to. */
  readonly #leads = new Map<Found, readonly number[]>();
  readonly #fitting = new Map<string, ReadonlySet<Found>>();

  constructor(
    private readonly folders: readonly Found[],
    around: { entriesAt(runs: readonly { at: number; length: number }[]): readonly TreeEntry[] },
  ) {
    for (const folder of folders) {
      const entries = around.entriesAt([{ at: folder.at, length: FOLDER_HEAD }]);
      this.#leads.set(
        folder,
        entries.flatMap((entry) => (entry.directory && entry.firstCluster >= 2 ? [entry.firstCluster] : [])),
      );
    }
  }

  vote(votes: Votes, isLeft: (each: Found) => boolean): void {
    const left = this.folders.filter(isLeft);
    for (const { at, guesses = [] } of left)
      for (const { cluster, clusterSize, likely } of guesses) votes.add(at, cluster, clusterSize, likely ? 2 : 1);
    // By the folder whose entry leads there; null: several do.
    const leads = new Map<number, Found | null>();
    for (const folder of left) for (const lead of this.#leads.get(folder) ?? []) leads.set(lead, leads.has(lead) ? null : folder);
    const compared = [...leads].slice(0, MOST_COMPARED);
    for (const folder of left.slice(0, MOST_COMPARED))
      for (const [cluster, by] of folder.root || folder.mayGoOn ? [] : compared)
        if (by !== folder) for (const clusterSize of CLUSTER_SIZES) votes.add(folder.at, cluster, clusterSize, 1);
  }

  /** The folders that an entry of another one leads to by these measures, that lead to others, or that are roots where such a one would stand. */
  fitting(geometry: ClusterGeometry): ReadonlySet<Found> {
    const key = `${geometry.clusterSize} ${geometry.dataAt}`;
    const kept = this.#fitting.get(key);
    if (kept) return kept;
    const places = new Map(this.folders.flatMap((each) => [[clusterIn(geometry, each.at), each]] as const));
    const fitting = new Set<Found>();
    for (const folder of this.folders) {
      const own = clusterIn(geometry, folder.at);
      if (own === null) continue;
      if (folder.guesses?.some(({ cluster, clusterSize }) => cluster === own && clusterSize === geometry.clusterSize)) fitting.add(folder);
      for (const lead of this.#leads.get(folder) ?? []) {
        const led = places.get(lead);
        if (led && led !== folder) fitting.add(folder).add(led);
      }
    }
    this.#fitting.set(key, fitting);
    return fitting;
  }
}
