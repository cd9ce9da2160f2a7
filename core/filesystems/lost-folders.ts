import type { ByteSource } from "../bytes/byte-source";
import { RangeSet } from "../bytes/range-set";
import type { ClusterGeometry } from "./cluster-chain";
import type { Folder, TreeEntry } from "./folder-entry";
import { CLUSTER_SIZES, clusterIn, FOLDER_HEAD, type FolderTrace, type Found, Ties, Votes } from "./folder-measures";

export interface LostFolder extends Folder {
  /** Whether a folder of this name is described by no entry, so that it must be known by itself. */
  readonly named: boolean;
  readonly notes: readonly string[];
}

/** Measures by which no file has a place. */
const NOWHERE: ClusterGeometry = { clusterSize: 512, clusters: 0, dataAt: 0 };

/** A tree of lost folders with the measures of the file system it belonged to. */
interface LostTree {
  readonly geometry: ClusterGeometry;
  readonly folders: readonly LostFolder[];
}

/** The present file system, where it is of the same kind. */
export interface PresentFolders {
  readonly geometry: ClusterGeometry;
  /** First clusters of the folders that entries lead to, with their paths. */
  readonly reached: ReadonlyMap<number, string>;
  /** Where the clusters of the deleted ones among them begin: offsets in the volume. */
  readonly covered: ReadonlySet<number>;
}

type Stretches = { at: number; length: number }[];

interface Around {
  readonly volume: ByteSource;
  /** null: the present file system is of another kind. */
  readonly present: PresentFolders | null;
  trace(head: Uint8Array, at: number): FolderTrace | null;
  entriesAt(runs: Readonly<Stretches>): readonly TreeEntry[];
  /** Where a folder that begins at a cluster probably goes on. */
  goOn(geometry: ClusterGeometry, cluster: number): Stretches;
  /** Where the root of a file system of such measures may stand, as nothing in it says that it is one: each with the cluster it begins at (0: none). */
  rootsOf?(geometry: ClusterGeometry): { readonly cluster: number; readonly runs: Stretches }[];
}

const MOST_FOLDERS = 200_000;
const MOST_TREES = 4;
const MAX_DEPTH = 128;
/**
 * Folders of cards whose names follow from what is in them. JEITA CP-3461, "Design rule for Camera File system", 3.2: DCIM in the
 * root holds folders named like this; the digital print order format: MISC holds the order (both from memory).
 */
const CARD_FOLDERS: readonly { readonly name: string; readonly folders?: RegExp; readonly file?: RegExp }[] = [
  { name: "DCIM", folders: /^[1-9]\d\d[0-9A-Z_]{5}$/ },
  { name: "MISC", file: /^AUTPRINT\.MRK$/i },
];

/** A folder whose place in a file system's clusters is taken for known. */
interface Placed extends Found {
  readonly cluster: number;
  /** Its place was worked out from what folders say of one another. */
  readonly guessed: boolean;
}

interface LostContent {
  readonly trace: Placed;
  readonly runs: Stretches;
  readonly entries: readonly TreeEntry[];
}

/** Finds folders that no entry leads to any more, by what their own beginnings say, and puts their tree together again. */
export class LostFolders {
  readonly #found: Found[] = [];

  constructor(private readonly around: Around) {}

  /** Whether a folder begins `inside` a block; `at`: the same place in bytes from the volume's beginning. */
  note(block: Uint8Array, inside: number, at: number): boolean {
    if (this.#found.length >= MOST_FOLDERS) return false;
    const trace = this.around.trace(block.subarray(inside, inside + FOLDER_HEAD), at);
    // What goes on within a cluster of the usual size is no beginning.
    if (!trace || (trace.mayGoOn && at % FOLDER_HEAD !== 0)) return false;
    this.#found.push({ ...trace, at });
    return true;
  }

  /** The lost folders, one tree for each set of measures they fit; those of the present file system first. */
  trees(): LostTree[] {
    const { present } = this.around;
    const named = this.#found.filter((each) => each.cluster !== null);
    const nameless = this.#found.filter((each) => each.cluster === null);
    const tied = nameless.length > 0 ? new Ties(nameless, this.around) : null;
    const trees: LostTree[] = [];
    const placed = new Set<Found>();
    const measures: ClusterGeometry[] = [];
    const isLeft = (each: Found) => !placed.has(each);
    for (
      let geometry: ClusterGeometry | null = present?.geometry ?? this.#likeliest(named, tied, isLeft);
      geometry && measures.length < MOST_TREES;
      geometry = this.#likeliest(named.filter(isLeft), tied, isLeft)
    ) {
      const own = geometry;
      if (measures.some((each) => each.clusterSize === own.clusterSize && each.dataAt === own.dataAt)) break;
      measures.push(own);
      for (const each of named) if (isLeft(each) && clusterIn(own, each.at) === each.cluster) placed.add(each);
      for (const each of tied?.fitting(own) ?? []) placed.add(each);
      if (placed.size === this.#found.length) break;
    }
    // What nothing ties to any measures has those of most others.
    const usual = tied ? measures.toSorted((a, b) => tied.fitting(b).size - tied.fitting(a).size)[0] : undefined;
    const taken = new Set<Found>();
    for (const geometry of measures) {
      const fitting = tied?.fitting(geometry);
      const own = this.#found.flatMap((each): Placed[] => {
        const cluster = clusterIn(geometry, each.at);
        if (taken.has(each) || cluster === null) return [];
        if (each.cluster !== null) return each.cluster === cluster ? [{ ...each, cluster, guessed: false }] : [];
        const fits = fitting?.has(each) || (geometry === usual && !placed.has(each));
        // Of many folders some lead to one another by chance: only by the present measures is that taken for sure.
        return fits ? [{ ...each, cluster, guessed: geometry !== present?.geometry || !fitting?.has(each) }] : [];
      });
      const places = new Set(own.map(({ at }) => at));
      for (const each of this.#found) if (places.has(each.at)) taken.add(each);
      const folders = own.length > 0 ? this.#tree(geometry, own) : [];
      if (folders.length > 0) trees.push({ geometry, folders });
    }
    if (!present) {
      const placeless = this.#placeless(trees, taken);
      if (placeless.length > 0) trees.push({ geometry: NOWHERE, folders: placeless });
    }
    return trees;
  }

  /** Folders of which no measures are known: what they list can be named, but not found. */
  #placeless(trees: readonly LostTree[], taken: ReadonlySet<Found>): LostFolder[] {
    const runs = trees.flatMap(({ folders }) => folders.flatMap((folder) => folder.runs));
    const covered = RangeSet.from(runs.map(({ at, length }) => ({ start: at, end: at + length })));
    const folders: LostFolder[] = [];
    let end = 0;
    for (const each of this.#found) {
      // Entries begin in the midst of folders too.
      if (taken.has(each) || each.at < end || covered.overlap(each.at, each.at + 1) > 0) continue;
      end = each.at + FOLDER_HEAD;
      const length = Math.min(FOLDER_HEAD, this.around.volume.size - each.at);
      const place = { path: `/?/folder-at-${each.at}`, named: true, notes: [NAMELESS_PLACE] };
      folders.push({ ...place, deleted: true, depth: 0, runs: [{ at: each.at, length }], lost: true });
    }
    return folders;
  }

  /** The measures that most of the folders agree on; null when fewer than two do. */
  #likeliest(named: readonly Found[], tied: Ties | null, isLeft: (each: Found) => boolean): ClusterGeometry | null {
    const votes = new Votes(this.around.volume.size);
    for (const { at, cluster } of named) for (const clusterSize of CLUSTER_SIZES) votes.add(at, cluster as number, clusterSize, 1);
    tied?.vote(votes, isLeft);
    return votes.most() ?? (named.length === 0 && !this.around.present ? votes.usual() : null);
  }

  /** The first cluster of the folder that a part belongs to: its subfolders name it; undefined: none does. */
  #wholeOf(entries: readonly TreeEntry[], lost: ReadonlyMap<number, { trace: Found }>): number | undefined {
    for (const entry of entries) {
      const above = entry.directory ? lost.get(entry.firstCluster)?.trace : undefined;
      if (above?.parent) return above.parent;
    }
    return undefined;
  }

  /** The root, where nothing in it says that it is one, but entries of it lead to folders that say they lie in the root. */
  #root(geometry: ClusterGeometry, lost: ReadonlyMap<number, LostContent>): LostContent | null {
    for (const { cluster, runs } of this.around.rootsOf?.(geometry) ?? []) {
      const entries = lost.has(cluster) ? [] : this.around.entriesAt(runs);
      const leadsOn = entries.some((entry) => entry.directory && lost.get(entry.firstCluster)?.trace.parent === 0);
      const at = runs[0]?.at ?? 0;
      if (leadsOn) return { trace: { cluster, parent: null, root: true, at, guessed: false }, runs, entries };
    }
    return null;
  }

  #tree(geometry: ClusterGeometry, found: readonly Placed[]): LostFolder[] {
    const { around } = this;
    const present = geometry === around.present?.geometry ? around.present : null;
    const lost = new Map<number, LostContent>();
    const covered = new Set<number>(present?.covered ?? []);
    for (const trace of found) {
      if (present?.reached.has(trace.cluster) || covered.has(trace.at) || lost.has(trace.cluster)) continue;
      const runs = around.goOn(geometry, trace.cluster);
      for (const run of runs) covered.add(run.at);
      lost.set(trace.cluster, { trace, runs, entries: around.entriesAt(runs) });
    }
    const root = present ? null : this.#root(geometry, lost);
    if (root) lost.set(root.trace.cluster, root);
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
      const known = whole === undefined ? undefined : present?.reached.get(whole);
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
    return [...lost].map(([cluster, { runs, trace }]) => {
      const { path, named, notes } = pathOf(cluster, 0);
      return { path, named, notes, deleted: true, depth: 0, runs, lost: true, ...(trace.guessed ? { guessed: true } : {}) };
    });
  }
}

const NAMELESS = "No entry leads to this folder any more: its name is lost, and its first cluster's number stands in its place.";
const NAMELESS_PLACE =
  "No entry leads to this folder any more: its name is lost. Nothing says how large the clusters were that it counts in, so that its files are named alone; of the folder itself the first 4096 bytes are read.";
const PART =
  "A part of a folder, of which it is not known any more with which cluster it began: the part's own number stands in its place.";

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
