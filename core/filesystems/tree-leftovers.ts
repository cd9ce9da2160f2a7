import type { ByteSource } from "../bytes/byte-source";
import { layoutOf, type Segment } from "../bytes/layout";
import type { UsedMap } from "./allocation-map";
import type { Chain, ClusterGeometry, ClusterRun } from "./cluster-chain";
import { DeletedClaims } from "./deleted-claims";
import { type ClusterSpace, EntryReader } from "./entry-reader";
import { type FileRecord, NO_CONTENT } from "./file-record";
import { folderBytes, type TreeEntry } from "./folder-entry";
import { FOLDER_HEAD, type FolderTrace } from "./folder-measures";
import type { Ground } from "./ground";
import type { LeftoverScan, LeftoverUnits } from "./leftovers";
import { type LostFolder, LostFolders, type PresentFolders } from "./lost-folders";
import { namelessFile } from "./nameless-file";

/** The present file system, where it is of the same kind. */
interface PresentTree extends PresentFolders {
  readonly space: ClusterSpace;
  /** What the deleted files claim that folders still name. */
  readonly claims: DeletedClaims;
  /** Chains that the table has in use and no folder leads to; empty where only a part of the volume is gone through. */
  lostChains(): readonly Chain[];
}

/** A volume in which folder entries are looked for that nothing leads to any more. */
interface Around {
  readonly volume: ByteSource;
  /** Disk byte offset of the volume. */
  readonly start: number;
  /** null: it is of another kind. */
  readonly present: PresentTree | null;
  /** What is in use, in clusters of other measures. */
  map(geometry: ClusterGeometry): UsedMap | null;
}

/** How entries of one kind are read. */
export interface EntryForm {
  /** The first byte of a folder; where it is not given, any but zero. */
  readonly firstBytes?: readonly number[];
  trace(head: Uint8Array, at: number): FolderTrace | null;
  entriesIn(bytes: Uint8Array): readonly TreeEntry[];
  goesOn(bytes: Uint8Array): boolean;
  rootsOf?(geometry: ClusterGeometry): { readonly cluster: number; readonly runs: { at: number; length: number }[] }[];
}

const ANY_BUT_ZERO = Array.from({ length: 255 }, (_, byte) => byte + 1);

/** Finds folders nothing leads to any more, of this file system or of one before it, and chains of clusters that belong to no file. */
export class TreeLeftovers implements LeftoverScan {
  readonly head = FOLDER_HEAD;
  readonly firstBytes: readonly number[];
  readonly #folders: LostFolders;
  /** The volume seen with the measures of a file system that was there before; each way of seeing it is made once. */
  readonly #spaces = new Map<string, ClusterSpace>();

  constructor(
    private readonly around: Around,
    private readonly form: EntryForm,
  ) {
    const { volume, present } = around;
    this.firstBytes = form.firstBytes ?? ANY_BUT_ZERO;
    this.#folders = new LostFolders({
      volume,
      present,
      trace: (head, at) => form.trace(head, at),
      entriesAt: (runs) => form.entriesIn(folderBytes(volume, runs)),
      goOn: (geometry, cluster) => new EntryReader(this.#spaceOf(geometry), new DeletedClaims()).clustersOfFolder(cluster),
      ...(form.rootsOf ? { rootsOf: (geometry) => this.#roots(geometry) } : {}),
    });
  }

  note(block: Uint8Array, inside: number, at: number): boolean {
    return this.#folders.note(block, inside, at);
  }

  found(): LeftoverUnits {
    const { volume, start, present } = this.around;
    const units: (() => FileRecord[])[] = [];
    for (const { geometry, folders } of this.#folders.trees()) {
      const claims = new DeletedClaims();
      const measured = this.#spaceOf(geometry);
      // Files that were deleted since may have been written over these, whatever the measures of the file system before.
      if (present) claims.addAll(present.claims, (run) => measuredIn(run, present.geometry, measured.geometry));
      const reader = new EntryReader(measured, claims);
      const entriesOf = (folder: LostFolder) => measured.entriesIn(folderBytes(volume, folder.runs));
      for (const folder of folders)
        for (const entry of entriesOf(folder))
          if (!entry.directory) claims.add(reader.contiguous(entry), entry.firstCluster, !entry.deleted);
      claims.settle();
      for (const folder of folders)
        units.push(() => [
          ...(folder.named ? [folderRecord(folder, start)] : []),
          ...entriesOf(folder).map((entry) => reader.toFileRecord(folder, entry)),
        ]);
    }
    for (const chain of present?.lostChains() ?? []) units.push(() => [chainRecord(chain, present?.space as ClusterSpace)]);
    return { count: units.length, describe: (unit) => units[unit]?.() ?? [] };
  }

  /** A root goes on as other folders do, unless it has a place of its own before all clusters. */
  #roots(geometry: ClusterGeometry) {
    const reader = new EntryReader(this.#spaceOf(geometry), new DeletedClaims());
    return (this.form.rootsOf?.(geometry) ?? []).map(({ cluster, runs }) => ({
      cluster,
      runs: cluster === 0 ? runs : reader.clustersOfFolder(cluster),
    }));
  }

  #spaceOf(geometry: ClusterGeometry): ClusterSpace {
    const { present, volume, start } = this.around;
    if (present && geometry.clusterSize === present.geometry.clusterSize && geometry.dataAt === present.geometry.dataAt)
      return present.space;
    const key = `${geometry.clusterSize} ${geometry.dataAt}`;
    let space = this.#spaces.get(key);
    if (!space) {
      const map = this.around.map(geometry);
      space = {
        volume,
        start,
        geometry,
        map,
        isUsed: (cluster) => map?.isUsed(cluster - 2) ?? false,
        chain: () => ({ runs: [], clusters: 0, problem: "its table of clusters is gone" }),
        otherStarts: () => [],
        entriesIn: (bytes) => this.form.entriesIn(bytes),
        goesOn: (bytes) => this.form.goesOn(bytes),
      };
      this.#spaces.set(key, space);
    }
    return space;
  }
}

/** Finds folders of a file system that was in the place of one of another kind. */
export function formerTree(ground: Ground, form: EntryForm): LeftoverScan {
  const { volume, start } = ground;
  const map = ({ clusterSize, dataAt, clusters }: ClusterGeometry) => ground.map(clusterSize, dataAt, clusters);
  return new TreeLeftovers({ volume, start, present: null, map }, form);
}

/** The clusters of one way of measuring that a run of clusters of another one lies in, or touches. */
function measuredIn({ first, count }: ClusterRun, from: ClusterGeometry, to: ClusterGeometry): ClusterRun {
  if (from.clusterSize === to.clusterSize && from.dataAt === to.dataAt) return { first, count };
  const start = from.dataAt + (first - 2) * from.clusterSize - to.dataAt;
  const begin = Math.max(0, Math.floor(start / to.clusterSize));
  const end = Math.ceil((start + count * from.clusterSize) / to.clusterSize);
  return { first: begin + 2, count: Math.max(0, end - begin) };
}

function folderRecord(folder: LostFolder, start: number): FileRecord {
  const name = folder.path.slice(folder.path.lastIndexOf("/") + 1);
  return {
    reference: `folder at byte ${start + (folder.runs[0]?.at ?? 0)}`,
    state: "deleted",
    type: "folder",
    path: folder.path,
    name,
    rawName: new Uint8Array(),
    size: 0,
    created: null,
    modified: null,
    changed: null,
    content: NO_CONTENT,
    system: false,
    streams: [],
    links: 1,
    notes: folder.notes,
  };
}

/** Clusters in use that no folder leads to, as a file of that many clusters. */
function chainRecord(chain: Chain, { start, geometry: { clusterSize, dataAt } }: ClusterSpace): FileRecord {
  const first = chain.runs[0]?.first ?? 0;
  const segments = chain.runs.map(
    (run): Segment => ({ kind: "disk", at: start + dataAt + (run.first - 2) * clusterSize, length: run.count * clusterSize }),
  );
  return namelessFile(
    `chain-${first}`,
    `chain of clusters from ${first} on`,
    layoutOf(segments, chain.clusters * clusterSize),
    "The volume's map has these clusters in use, but no folder leads to them: the name is lost, and the size is in whole clusters.",
  );
}
