import { type ByteSource, MemorySource } from "../bytes/byte-source";
import type { Range } from "../bytes/range-set";
import { AllocationMap } from "./allocation-map";
import type { ClusterGeometry } from "./cluster-chain";
import type { Folder, TreeEntry } from "./folder-entry";
import { type Earlier, type ScanStep, scanSectors } from "./sector-scan";

/** What the beginning of a folder says about it. */
export interface FolderTrace {
  /** Its own first cluster. */
  readonly cluster: number;
  /** The first cluster of the folder above; 0: the root; null: not given. */
  readonly parent: number | null;
  /** It is the root of a file system that was there before. */
  readonly root?: boolean;
  /** It is no beginning: a cluster with which a folder went on. */
  readonly isPart?: boolean;
}

export interface LostFolder extends Folder {
  /** Whether a folder of this name is described by no entry, so that it must be known by itself. */
  readonly named: boolean;
  readonly notes: readonly string[];
}

/** A tree of lost folders with the measures of the file system it belonged to. */
interface LostTree {
  readonly geometry: ClusterGeometry;
  readonly folders: readonly LostFolder[];
}

interface Around {
  readonly volume: ByteSource;
  readonly geometry: ClusterGeometry;
  /** First clusters of the folders that entries lead to. */
  readonly reached: ReadonlyMap<number, string>;
  /** Where the clusters of the deleted ones among them begin: offsets in the volume. */
  readonly covered: ReadonlySet<number>;
  trace(head: Uint8Array, at: number): FolderTrace | null;
  entriesAt(runs: readonly { at: number; length: number }[]): readonly TreeEntry[];
  /** Where a folder that begins at a cluster probably goes on. */
  goOn(geometry: ClusterGeometry, cluster: number): { at: number; length: number }[];
}

const HEAD = 4096;
const MOST_FOLDERS = 200_000;
const MOST_TREES = 4;
const MAX_DEPTH = 128;
const CLUSTER_SIZES = Array.from({ length: 9 }, (_, power) => 512 * 2 ** power);
/**
 * Folders of cards whose names follow from what is in them. JEITA CP-3461, "Design rule for Camera File system", 3.2: DCIM in the
 * root holds folders named like this; the digital print order format: MISC holds the order (both from memory).
 */
const CARD_FOLDERS: readonly { readonly name: string; readonly folders?: RegExp; readonly file?: RegExp }[] = [
  { name: "DCIM", folders: /^[1-9]\d\d[0-9A-Z_]{5}$/ },
  { name: "MISC", file: /^AUTPRINT\.MRK$/i },
];

interface Found extends FolderTrace {
  /** Offset in the volume. */
  readonly at: number;
}

/** Finds folders that no entry leads to any more, by what their own beginnings say, and puts their tree together again. */
export class LostFolders {
  readonly #found: Found[] = [];

  constructor(private readonly around: Around) {}

  /** Goes through a part of the volume, or on from where an earlier scan ended. */
  scan(part: Range, from: number, earlier: Earlier | null): Generator<ScanStep, void, void> {
    const begins = (block: Uint8Array, inside: number, at: number) => {
      if (block[inside] === 0 || this.#found.length >= MOST_FOLDERS) return false;
      const trace = this.around.trace(block.subarray(inside, inside + HEAD), at);
      if (trace) this.#found.push({ ...trace, at });
      return trace !== null;
    };
    return scanSectors(this.around.volume, part, HEAD, begins, from, earlier);
  }

  /** The lost folders, one tree for each set of measures they fit; those of the present file system first. */
  trees(): LostTree[] {
    const trees: LostTree[] = [];
    let left = this.#found;
    for (
      let geometry: ClusterGeometry | null = this.around.geometry;
      geometry && trees.length < MOST_TREES;
      geometry = this.#likeliest(left)
    ) {
      const own = geometry;
      const fitting = left.filter((each) => fits(each, own));
      left = left.filter((each) => !fits(each, own));
      const folders = this.#tree(own, fitting);
      if (folders.length > 0) trees.push({ geometry: own, folders });
      if (left.length === 0) break;
    }
    return trees;
  }

  /** The measures that most of the folders agree on; null when fewer than two do. */
  #likeliest(found: readonly Found[]): ClusterGeometry | null {
    const votes = new Map<string, number>();
    for (const { at, cluster } of found)
      for (const clusterSize of CLUSTER_SIZES) {
        const dataAt = at - (cluster - 2) * clusterSize;
        if (dataAt <= 0) continue;
        const key = `${clusterSize} ${dataAt}`;
        votes.set(key, (votes.get(key) ?? 0) + 1);
      }
    const [best] = [...votes].sort((a, b) => b[1] - a[1]);
    if (!best || best[1] < 2) return null;
    const [clusterSize, dataAt] = best[0].split(" ").map(Number) as [number, number];
    return { clusterSize, dataAt, clusters: Math.floor((this.around.volume.size - dataAt) / clusterSize) };
  }

  /** The first cluster of the folder that a part belongs to: its subfolders name it; undefined: none does. */
  #wholeOf(entries: readonly TreeEntry[], lost: ReadonlyMap<number, { trace: Found }>): number | undefined {
    for (const entry of entries) {
      const above = entry.directory ? lost.get(entry.firstCluster)?.trace : undefined;
      if (above?.parent) return above.parent;
    }
    return undefined;
  }

  #tree(geometry: ClusterGeometry, found: readonly Found[]): LostFolder[] {
    const { around } = this;
    const present = geometry === around.geometry;
    const lost = new Map<number, { trace: Found; runs: { at: number; length: number }[]; entries: readonly TreeEntry[] }>();
    const covered = new Set<number>(present ? around.covered : []);
    for (const trace of found) {
      if ((present && around.reached.has(trace.cluster)) || covered.has(trace.at) || lost.has(trace.cluster)) continue;
      const runs = around.goOn(geometry, trace.cluster);
      for (const run of runs) covered.add(run.at);
      lost.set(trace.cluster, { trace, runs, entries: around.entriesAt(runs) });
    }
    // Which lost folder describes which other one, and by what name.
    const parents = new Map<number, { parent: number; name: string }>();
    for (const [cluster, { entries }] of lost)
      for (const entry of entries)
        if (entry.directory && entry.firstCluster !== cluster && lost.has(entry.firstCluster) && !parents.has(entry.firstCluster))
          parents.set(entry.firstCluster, { parent: cluster, name: entry.name });
    const paths = new Map<number, { path: string; named: boolean; notes: string[] }>();
    const pathOf = (cluster: number, depth: number): { path: string; named: boolean; notes: string[] } => {
      const kept = paths.get(cluster);
      if (kept) return kept;
      const own = lost.get(cluster);
      const unknown = { path: `/?/folder-${cluster}`, named: true, notes: [own?.trace.isPart ? PART : NAMELESS] };
      // Entered before the parents are followed, so that a circle ends here.
      paths.set(cluster, unknown);
      const whole = own?.trace.isPart ? this.#wholeOf(own.entries, lost) : undefined;
      const known = whole !== undefined && present ? around.reached.get(whole) : undefined;
      if (known !== undefined || (whole !== undefined && whole !== cluster && lost.has(whole) && depth < MAX_DEPTH)) {
        const found = { path: known ?? pathOf(whole as number, depth + 1).path, named: false, notes: [] };
        paths.set(cluster, found);
        return found;
      }
      const by = parents.get(cluster);
      const card = own?.trace.parent === 0 ? cardFolder(own.entries) : undefined;
      const result = own?.trace.root
        ? { path: "", named: false, notes: [] }
        : by && depth < MAX_DEPTH
          ? { path: `${pathOf(by.parent, depth + 1).path}/${by.name}`, named: false, notes: [] }
          : card
            ? {
                path: `/${card}`,
                named: true,
                notes: [
                  `Its name is lost; by the rule cameras follow, a folder in the root that holds what this one does is called ${card}.`,
                ],
              }
            : unknown;
      paths.set(cluster, result);
      return result;
    };
    return [...lost].map(([cluster, { runs }]) => {
      const { path, named, notes } = pathOf(cluster, 0);
      return { path, named, notes, deleted: true, depth: 0, runs, lost: true };
    });
  }
}

const NAMELESS = "No entry leads to this folder any more: its name is lost, and its first cluster's number stands in its place.";
const PART =
  "A part of a folder, of which it is not known any more with which cluster it began: the part's own number stands in its place.";

const fits = ({ at, cluster }: Found, { dataAt, clusterSize }: ClusterGeometry) => at === dataAt + (cluster - 2) * clusterSize;

function cardFolder(entries: readonly TreeEntry[]): string | undefined {
  const inside = entries.filter((entry) => entry.directory);
  // A deleted entry has lost its first character.
  const name = (entry: TreeEntry) => (entry.deleted ? `1${entry.name.slice(1)}` : entry.name);
  return CARD_FOLDERS.find(
    ({ folders, file }) =>
      (folders && inside.length > 0 && inside.every((entry) => folders.test(name(entry)))) ||
      (file && entries.some((entry) => file.test(entry.name))),
  )?.name;
}

/** The present map of used clusters, seen with the measures of a file system that was there before. */
export function formerMap(former: ClusterGeometry, present: ClusterGeometry, map: AllocationMap | null): AllocationMap | null {
  if (!map) return null;
  const bits = new Uint8Array(Math.ceil(former.clusters / 8));
  for (const range of map.usedWithin(0, map.clusters)) {
    const start = Math.floor((present.dataAt + range.start * present.clusterSize - former.dataAt) / former.clusterSize);
    const end = Math.ceil((present.dataAt + range.end * present.clusterSize - former.dataAt) / former.clusterSize);
    for (let index = Math.max(0, start); index < Math.min(former.clusters, end); index += 1)
      bits[index >>> 3] = (bits[index >>> 3] as number) | (1 << (index & 7));
  }
  return new AllocationMap(new MemorySource(bits), former.clusters);
}
