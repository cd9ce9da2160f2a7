import type { Range } from "../../bytes/range-set";
import { type Group, groupsIn } from "./groups";
import { PRIVATE_FOLDER, RECORD_TYPE, ROOT_FOLDER } from "./layout";
import { type Extent, numberOf, parseEntry, parseExtent, typeOf } from "./records";
import type { TreeNode } from "./tree";

/** Records kept of nodes that are not part of the present tree, at most. */
const MOST_RECORDS = 3_000_000;
/** Versions kept of one file. */
const MOST_VERSIONS = 64;

/** A file as one node of an earlier tree had it. */
export interface Version extends Group {
  readonly xid: number;
  readonly paddr: number;
}

export interface EarlierName {
  readonly parentId: number;
  readonly name: Uint8Array;
  readonly xid: number;
}

/** What nodes of earlier trees say: files in several versions, entries of folders, stretches of data streams. */
export class EarlierRecords {
  readonly #versions = new Map<number, Version[]>();
  readonly #names = new Map<number, EarlierName[]>();
  readonly #streams = new Map<number, { readonly xid: number; readonly extents: readonly Extent[] }[]>();
  #count = 0;

  constructor(private readonly hashedNames: boolean) {}

  get full(): boolean {
    return this.#count >= MOST_RECORDS;
  }

  /** Takes all records of a leaf. */
  take(node: TreeNode): void {
    if (this.full) return;
    this.#count += node.keys.length;
    for (const group of groupsIn(node, [])) this.#keep({ ...detached(group), xid: node.xid, paddr: node.paddr });
    const streams = new Map<number, Extent[]>();
    for (let index = 0; index < node.keys.length; index += 1) {
      const type = typeOf(node, index);
      const id = numberOf(node, index);
      if (type === RECORD_TYPE.extent) {
        const extent = parseExtent(node, index);
        const extents = streams.get(id);
        if (extent && extents) extents.push(extent);
        else if (extent) streams.set(id, [extent]);
      } else if (type === RECORD_TYPE.entry) {
        const entry = parseEntry(node, index, this.hashedNames);
        if (entry) this.#name(entry.fileId, { parentId: id, name: entry.name.slice(), xid: node.xid });
      }
    }
    for (const [id, extents] of streams) this.#streams.set(id, [...(this.#streams.get(id) ?? []), { xid: node.xid, extents }]);
  }

  #keep(version: Version): void {
    const all = this.#versions.get(version.id) ?? [];
    const same = all.findIndex((each) => isSame(each, version));
    // The same file in a later copy of the node says nothing new, but that it was there so long.
    if (same >= 0) {
      const known = all[same] as Version;
      if (version.xid > known.xid || known.extents.length < version.extents.length)
        all[same] = { ...version, xid: Math.max(version.xid, known.xid) };
    } else if (all.length < MOST_VERSIONS) all.push(version);
    this.#versions.set(version.id, all);
  }

  #name(id: number, name: EarlierName): void {
    const all = this.#names.get(id) ?? [];
    const same = all.findIndex((each) => each.parentId === name.parentId && sameBytes(each.name, name.name));
    if (same < 0) all.push(name);
    else if (name.xid > (all[same] as EarlierName).xid) all[same] = name;
    this.#names.set(id, all);
  }

  ids(): Iterable<number> {
    return [...this.#versions.keys()].sort((a, b) => a - b);
  }

  /** Versions of a file, the latest first. */
  versions(id: number): readonly Version[] {
    return [...(this.#versions.get(id) ?? [])].sort((a, b) => b.xid - a.xid);
  }

  /** Names a file or folder had, the latest first; those it had only while it was being removed are none. */
  names(id: number): readonly EarlierName[] {
    const fromInodes = this.versions(id).flatMap(({ inode, xid }): EarlierName[] =>
      inode.name ? [{ parentId: inode.facts.parentId, name: inode.name, xid }] : [],
    );
    const all = [...(this.#names.get(id) ?? []), ...fromInodes].filter(({ parentId }) => parentId !== PRIVATE_FOLDER);
    return all.sort((a, b) => b.xid - a.xid);
  }

  /** Stretches of a data stream beside those that are known, as of a transaction or the nearest one that knows them. */
  extentsOf(streamId: number, xid: number, known: readonly Extent[]): Extent[] {
    const runs = [...(this.#streams.get(streamId) ?? [])].sort((a, b) => nearness(a.xid, xid) - nearness(b.xid, xid));
    const taken = [...known];
    for (const run of runs)
      for (const extent of run.extents)
        if (!taken.some((each) => each.logical < extent.logical + extent.length && extent.logical < each.logical + each.length))
          taken.push(extent);
    return taken.sort((a, b) => a.logical - b.logical);
  }
}

/** States up to a transaction, the latest first; then those after it. */
const nearness = (xid: number, wanted: number) => (xid <= wanted ? wanted - xid : 2 ** 40 + xid - wanted);

const sameBytes = (a: Uint8Array, b: Uint8Array) => a.length === b.length && a.every((byte, index) => byte === b[index]);

const isSame = (a: Version, b: Version): boolean => {
  const [x, y] = [a.inode.facts, b.inode.facts];
  const sameFacts =
    x.parentId === y.parentId && x.privateId === y.privateId && x.modifyLow === y.modifyLow && x.modifyHigh === y.modifyHigh;
  const shorter = Math.min(a.extents.length, b.extents.length);
  return (
    sameFacts &&
    a.inode.size === b.inode.size &&
    a.extents
      .slice(0, shorter)
      .every((extent, index) => extent.block === b.extents[index]?.block && extent.length === b.extents[index]?.length)
  );
};

/** A group that does not hold on to the bytes of its node. */
const detached = ({ inode, siblings, ...rest }: Group): Group => ({
  ...rest,
  inode: { ...inode, name: inode.name?.slice() ?? null },
  siblings: siblings.map(({ parentId, name }) => ({ parentId, name: name.slice() })),
});

/** A claim of a file that is gone on blocks: the stream they belonged to, and as of which transaction. */
export interface BlockClaim extends Range {
  readonly stream: number;
  readonly xid: number;
}

/** Which of the blocks of claims belonged to another stream later. @returns in the order of the claims */
export function takenLater(claims: readonly BlockClaim[]): Range[][] {
  const taken: Range[][] = claims.map(() => []);
  const order = [...claims.keys()].sort((a, b) => (claims[a] as BlockClaim).start - (claims[b] as BlockClaim).start);
  let open: number[] = [];
  for (const current of order) {
    const claim = claims[current] as BlockClaim;
    open = open.filter((other) => (claims[other] as BlockClaim).end > claim.start);
    for (const other of open) {
      const before = claims[other] as BlockClaim;
      const end = Math.min(before.end, claim.end);
      // Clones hold the same stretch under two numbers.
      const same = before.stream === claim.stream || (before.start === claim.start && before.end === claim.end);
      if (same || before.xid === claim.xid) continue;
      (taken[before.xid < claim.xid ? other : current] as Range[]).push({ start: claim.start, end });
    }
    if (open.length < 1024) open.push(current);
  }
  return taken;
}

export const isFolderNumber = (id: number): boolean => id === ROOT_FOLDER || id === PRIVATE_FOLDER;
