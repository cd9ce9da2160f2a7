import { type Checkpoint, numberCheckpoint, readNumberCheckpoint } from "../bytes/checkpoint";
import { layoutOf, type Segment } from "../bytes/layout";
import type { Range } from "../bytes/range-set";
import type { Chain, ClusterGeometry, ClusterRun } from "./cluster-chain";
import { DeletedClaims } from "./deleted-claims";
import { type ClusterSpace, EntryReader } from "./entry-reader";
import { type FileRecord, NO_CONTENT, type RecordBatch } from "./file-record";
import { folderBytes } from "./folder-entry";
import { type FolderTrace, formerMap, type LostFolder, LostFolders } from "./lost-folders";
import { namelessFile } from "./nameless-file";
import type { Earlier } from "./sector-scan";

/** What a volume of folder entries is asked for: what is left over in it. */
export interface LeftoverTree {
  readonly space: ClusterSpace;
  /** What the deleted files claim that folders still name. */
  readonly claims: DeletedClaims;
  /** First clusters of all folders that entries lead to, with their paths. */
  readonly reached: ReadonlyMap<number, string>;
  /** Where the clusters of the deleted ones among them begin: offsets in the volume. */
  readonly covered: ReadonlySet<number>;
  trace(head: Uint8Array, at: number): FolderTrace | null;
  /** Chains that the table has in use and no folder leads to. */
  lostChains(): readonly Chain[];
}

/** Folders nothing leads to any more, of this file system or of one before it, and chains of clusters that belong to no file. */
export function* treeLeftovers(
  tree: LeftoverTree,
  from: Checkpoint | null,
  step: number,
  part: Range,
  earlier: Earlier | null,
): Generator<RecordBatch, void, void> {
  const { space } = tree;
  const { volume } = space;
  const spaceOf = spacesOf(space);
  const lost = new LostFolders({
    volume,
    geometry: space.geometry,
    reached: tree.reached,
    covered: tree.covered,
    trace: (head, at) => tree.trace(head, at),
    entriesAt: (runs) => space.entriesIn(folderBytes(volume, runs)),
    goOn: (geometry, cluster) => new EntryReader(spaceOf(geometry), new DeletedClaims()).clustersOfFolder(cluster),
  });
  const size = Math.min(part.end, volume.size) - part.start;
  const first = readNumberCheckpoint(from);
  for (const { done, noted } of lost.scan(part, first, earlier))
    yield { records: [], resume: numberCheckpoint(done), done, total: size, noted };
  const units: (() => FileRecord[])[] = [];
  for (const { geometry, folders } of lost.trees()) {
    const claims = new DeletedClaims();
    const measured = spaceOf(geometry);
    // Files that were deleted since may have been written over these, whatever the measures of the file system before.
    claims.addAll(tree.claims, (run) => measuredIn(run, space.geometry, measured.geometry));
    const reader = new EntryReader(measured, claims);
    const entriesOf = (folder: LostFolder) => space.entriesIn(folderBytes(volume, folder.runs));
    for (const folder of folders)
      for (const entry of entriesOf(folder)) if (!entry.directory) claims.add(reader.contiguous(entry), entry.firstCluster, !entry.deleted);
    claims.settle();
    for (const folder of folders)
      units.push(() => [
        ...(folder.named ? [folderRecord(folder, space.start)] : []),
        ...entriesOf(folder).map((entry) => reader.toFileRecord(folder, entry)),
      ]);
  }
  // A chain has no place of its own in a part: only the whole volume can say which ones are lost.
  const whole = part.start === 0 && part.end >= volume.size;
  for (const chain of whole ? tree.lostChains() : []) units.push(() => [chainRecord(chain, space)]);
  const total = size + units.length;
  for (let next = Math.max(0, first - size); next < units.length; ) {
    const records: FileRecord[] = [];
    for (; next < units.length && records.length < step; next += 1)
      records.push(...(units[next] as () => FileRecord[])().map((record) => ({ ...record, leftover: true })));
    yield { records, resume: numberCheckpoint(size + next), done: size + next, total };
  }
  yield { records: [], resume: numberCheckpoint(total), done: total, total };
}

/** The clusters of one way of measuring that a run of clusters of another one lies in, or touches. */
function measuredIn({ first, count }: ClusterRun, from: ClusterGeometry, to: ClusterGeometry): ClusterRun {
  if (from.clusterSize === to.clusterSize && from.dataAt === to.dataAt) return { first, count };
  const start = from.dataAt + (first - 2) * from.clusterSize - to.dataAt;
  const begin = Math.max(0, Math.floor(start / to.clusterSize));
  const end = Math.ceil((start + count * from.clusterSize) / to.clusterSize);
  return { first: begin + 2, count: Math.max(0, end - begin) };
}

/** The same volume seen with the measures of the file system that was there before; each way of seeing it is made once. */
function spacesOf(own: ClusterSpace): (geometry: ClusterGeometry) => ClusterSpace {
  const made = new Map<string, ClusterSpace>();
  return (geometry) => {
    if (geometry.clusterSize === own.geometry.clusterSize && geometry.dataAt === own.geometry.dataAt) return own;
    const key = `${geometry.clusterSize} ${geometry.dataAt}`;
    let space = made.get(key);
    if (!space) {
      const map = formerMap(geometry, own.geometry, own.map);
      space = {
        volume: own.volume,
        start: own.start,
        geometry,
        map,
        isUsed: (cluster) => map?.isUsed(cluster - 2) ?? false,
        chain: () => ({ runs: [], clusters: 0, problem: "its table of clusters is gone" }),
        otherStarts: () => [],
        entriesIn: (bytes) => own.entriesIn(bytes),
        goesOn: (bytes) => own.goesOn(bytes),
      };
      made.set(key, space);
    }
    return space;
  };
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
