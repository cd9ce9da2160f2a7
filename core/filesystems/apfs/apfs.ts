import { type ByteSource, CachedSource, WindowSource } from "../../bytes/byte-source";
import { numberCheckpoint, type Checkpoint as ResumePoint, readNumberCheckpoint } from "../../bytes/checkpoint";
import type { AllocationMap } from "../allocation-map";
import {
  type FileRecord,
  type FileSystem,
  FileSystemError,
  type Finding,
  likeliest,
  placed,
  type RecordBatch,
  type StateOfVolume,
  unproven,
} from "../file-record";
import type { LeftoverScan, Leftovers } from "../leftovers";
import { nanosecondsToMs } from "../mac-times";
import { apfsFindings } from "./consistency";
import { Container } from "./container";
import { FileDescriber } from "./describe-file";
import { EarlierRecords } from "./earlier";
import { goneEvidence, MOST_LOOKED_INTO, type Ownership } from "./evidence";
import { describeGone, type GoneFile, goneFiles, namedRecord, UNKNOWN_PARENT } from "./gone";
import { type Group, groupsIn } from "./groups";
import { OBJECT, PRIVATE_FOLDER, RECORD_TYPE, ROOT_FOLDER } from "./layout";
import { isSound, toObject } from "./objects";
import { isNameless, numberOf, parseEntry, parseExtent, parseInode, parseSibling, shownName, typeOf } from "./records";
import { readAllocation } from "./space";
import { isEncrypted, isFileTreeNode, VolumeState } from "./state";
import { parseNode, type TreeNode } from "./tree";
import { parseView, writeView } from "./view";

const MOST_DEPTH = 512;
/** Nodes of a tree at most: ten million files have fewer. */
const MOST_LEAVES = 4_000_000;

/**
 * Opens a volume of an APFS container, as it is now or as of one of its earlier states.
 * @param disk the whole disk: all offsets in records and layouts count from its first byte
 * @param view which volume, and as of when (`view.ts`); null: the first volume, now
 * @throws FileSystemError when the container or the volume cannot be followed
 */
export function openApfs(disk: ByteSource, start: number, length: number, view: string | null): FileSystem {
  const container = Container.open(new CachedSource(new WindowSource(disk, start, length), 16_384, 1024));
  const { index, kind, xid } = parseView(view);
  const wanted = index ?? container.newest.volumeOids.findIndex((oid) => oid !== 0);
  const present = VolumeState.atCheckpoint(container, container.newest, wanted);
  if (kind === "checkpoint") {
    const checkpoint = container.checkpoints.find((each) => each.xid === xid);
    const state = checkpoint && VolumeState.atCheckpoint(container, checkpoint, wanted);
    if (!state) throw new FileSystemError("This earlier state of the volume was written over: it cannot be followed any more.");
    return new ApfsVolume(disk, start, container, state, wanted, { present: false, kept: false, owners: present ?? state });
  }
  if (!present) {
    for (const checkpoint of container.checkpoints.slice(1)) {
      const state = VolumeState.atCheckpoint(container, checkpoint, wanted);
      if (state)
        return new ApfsVolume(disk, start, container, state, wanted, { present: kind === null, kept: false, owners: state }, OLDER);
    }
    throw new FileSystemError("The volume cannot be followed: its superblock or its object map is damaged in every checkpoint.");
  }
  if (isEncrypted(present.volume)) throw new FileSystemError(ENCRYPTED);
  if (kind === null) return new ApfsVolume(disk, start, container, present, wanted, { present: true, kept: true, owners: present });
  const snapshot = present.snapshots().find((each) => each.xid === xid);
  const state = snapshot && present.atSnapshot(snapshot);
  if (!state) throw new FileSystemError("There is no such snapshot in the volume, or its record is damaged.");
  return new ApfsVolume(disk, start, container, state, wanted, { present: false, kept: true, owners: present });
}

const OLDER = "The newest state of the volume cannot be followed; the newest older checkpoint that can be was used.";
export const ENCRYPTED =
  "The volume is encrypted. Ask the client for the password or the recovery key, have it opened with the client's own system, and image it there.";

/** What a state of a volume is to the container. */
interface Standing {
  /** It is the volume as it is now: what is gone from it is listed too. */
  readonly present: boolean;
  /** Its blocks are kept for it. Those of an older checkpoint are not: they may have been given to others and written over since. */
  readonly kept: boolean;
  /** The state whose lists say whose a block is now. */
  readonly owners: VolumeState;
}

class ApfsVolume implements FileSystem {
  readonly label: string | null;
  readonly notes: readonly string[];
  readonly allocation: AllocationMap | null;
  readonly #files: FileDescriber;
  readonly #rooms: readonly [Uint8Array, Uint8Array];
  /** Blocks of the leaves of the present tree, in order. */
  #leaves: Float64Array | undefined;
  readonly #nodes = new Set<number>();
  readonly #folders = new Map<number, { parent: number; name: string }>();
  readonly #paths = new Map<number, string>();
  #nameless = new Map<number, { parentId: number; name: Uint8Array }>();
  #ownerLists: readonly number[] | undefined;
  #gone: { readonly earlier: EarlierRecords; readonly files: readonly GoneFile[] } | undefined;

  constructor(
    disk: ByteSource,
    private readonly start: number,
    private readonly container: Container,
    private readonly state: VolumeState,
    private readonly index: number,
    private readonly standing: Standing,
    note: string | null = null,
  ) {
    this.label = state.volume.label;
    this.#files = new FileDescriber(disk, start, state, index);
    this.#rooms = [container.objects.room(), container.objects.room()];
    this.allocation = readAllocation(container, container.newest);
    this.notes = [
      ...container.notes,
      ...(note ? [note] : []),
      ...(this.allocation ? [] : ["The map of used blocks cannot be read: what deleted files still hold cannot be judged."]),
    ];
  }

  get clusterSize(): number {
    return this.container.objects.blockSize;
  }

  get allocationStart(): number {
    return this.start;
  }

  /** First the leaves of the tree of files in their order, then (a unit each) what only earlier states know. */
  *readRecords(from: ResumePoint | null, step: number): Generator<RecordBatch, void, void> {
    const leaves = this.#indexed();
    const gone = this.standing.present ? this.#fromEarlierStates().files : [];
    const total = leaves.length + gone.length;
    const first = readNumberCheckpoint(from);
    let records: FileRecord[] = [];
    const perBatch = Math.max(1, Math.round(step / 16));
    for (let next = first; next < leaves.length; ) {
      const end = Math.min(leaves.length, next + perBatch);
      for (; next < end; next += 1) for (const group of groupsIn(...this.#leafAt(leaves, next))) records.push(...this.#live(group));
      yield { records, resume: numberCheckpoint(next), done: next, total };
      records = [];
    }
    for (let next = Math.max(first, leaves.length); next < total; ) {
      const end = Math.min(total, next + step);
      for (; next < end; next += 1) records.push(this.#goneRecord(gone[next - leaves.length] as GoneFile, false));
      yield { records, resume: numberCheckpoint(next), done: next, total };
      records = [];
    }
  }

  /** Sound nodes of trees of files that no map names any more: what they know and the present tree does not. */
  leftovers(): Leftovers | null {
    if (!this.standing.present) return null;
    const { volume } = this.container.objects;
    return { volume, start: this.start, scans: [this.#treeNodes()], ...(this.index === 0 ? {} : { sharesPlace: true }) };
  }

  #treeNodes(): LeftoverScan {
    this.#indexed();
    const known = this.#fromEarlierStates();
    const { blockSize } = this.container.objects;
    const orphans = new EarlierRecords(this.state.hashedNames);
    const belongs = this.#ownership();
    const note = (block: Uint8Array, inside: number, at: number) => {
      if (at % blockSize !== 0 || inside + blockSize > block.length || this.#nodes.has(at / blockSize)) return false;
      const bytes = block.subarray(inside, inside + blockSize);
      const object = toObject(bytes, at / blockSize);
      if (!isFileTreeNode(object) || object.xid > this.container.newest.xid || !isSound(bytes)) return false;
      const node = parseNode(toObject(bytes.slice(), at / blockSize), null);
      if (!node?.leaf || !belongs(node)) return false;
      orphans.take(node);
      return true;
    };
    const found = () => {
      const files = goneFiles(orphans, this.#surroundings([known.earlier]), known.files);
      return { count: files.length, describe: (unit: number) => [this.#goneRecord(files[unit] as GoneFile, true)] };
    };
    return { head: blockSize, note, found };
  }

  findings(): Finding[] {
    const { blockSize, blockCount } = this.container.objects;
    return apfsFindings(this.state, { size: blockSize, count: blockCount, map: this.allocation });
  }

  readonly recordsCoverStates = true;

  states(): StateOfVolume[] {
    if (!this.standing.present) return [];
    const found: StateOfVolume[] = this.state
      .snapshots()
      .map(({ xid, name, made }) => ({ view: writeView(this.index, "snapshot", xid), kind: "snapshot", label: name, asOf: made }));
    // Several checkpoints may show the same state of this volume.
    const shown = new Set([this.state.volume.xid]);
    for (const checkpoint of this.container.checkpoints) {
      const state = VolumeState.atCheckpoint(this.container, checkpoint, this.index);
      if (!state || shown.has(state.volume.xid) || isEmpty(state.tree.leaves())) continue;
      shown.add(state.volume.xid);
      const { modifiedLow, modifiedHigh } = state.volume.facts;
      const asOf = nanosecondsToMs(modifiedLow, modifiedHigh);
      found.push({
        view: writeView(this.index, "checkpoint", checkpoint.xid),
        kind: "checkpoint",
        label: `checkpoint ${checkpoint.xid}`,
        asOf,
      });
    }
    return found;
  }

  /** Walks the tree once: its leaves, its folders, and names of files whose own record has none. */
  #indexed(): Float64Array {
    if (this.#leaves) return this.#leaves;
    const places: number[] = [];
    const unnamed = new Set<number>();
    for (const node of this.state.leavesBeside(this.#nodes)) {
      if (places.length >= MOST_LEAVES) break;
      places.push(node.paddr);
      for (let index = 0; index < node.keys.length; index += 1) {
        const type = typeOf(node, index);
        if (type === RECORD_TYPE.entry) {
          const entry = parseEntry(node, index, this.state.hashedNames);
          if (!entry) continue;
          if (entry.folder) this.#folders.set(entry.fileId, { parent: numberOf(node, index), name: shownName(entry.name) });
          else if (unnamed.has(entry.fileId))
            this.#nameless.set(entry.fileId, { parentId: numberOf(node, index), name: entry.name.slice() });
        } else if (type === RECORD_TYPE.inode && unnamed.size < MOST_LEAVES) {
          if (isNameless(node, index)) unnamed.add(numberOf(node, index));
        }
      }
    }
    this.#leaves = Float64Array.from(places);
    return this.#leaves;
  }

  #leafAt(leaves: Float64Array, index: number): [TreeNode, Iterable<TreeNode>] {
    // Only what is copied from a leaf is kept: two blocks are room enough for this one and, one after the other, those after it.
    const read = (at: number, room: Uint8Array): TreeNode => {
      const paddr = leaves[at] as number;
      const { objects } = this.container;
      const object = this.state.sealed ? objects.readBare(paddr, null, room) : objects.readAgain(paddr, room);
      const node = object && parseNode(object, null);
      // It was read before as the tree was walked.
      return (
        node ?? {
          paddr,
          oid: 0,
          xid: 0,
          cursor: toObject(new Uint8Array(OBJECT.size), 0).cursor,
          level: 0,
          leaf: true,
          keys: [],
          values: [],
        }
      );
    };
    const [own, next] = this.#rooms;
    function* after(): Generator<TreeNode, void, void> {
      for (let at = index + 1; at < leaves.length; at += 1) yield read(at, next);
    }
    return [read(index, own), after()];
  }

  /** Path of a folder, "" for the root. */
  #pathOf(id: number, others: readonly EarlierRecords[] = [], depth = 0): string {
    if (id === ROOT_FOLDER) return "";
    const kept = this.#paths.get(id);
    if (kept !== undefined) return kept;
    if (depth > MOST_DEPTH || id === PRIVATE_FOLDER) return UNKNOWN_PARENT;
    const folder = this.#folders.get(id);
    if (folder) {
      const path = `${this.#pathOf(folder.parent, others, depth + 1)}/${folder.name}`;
      this.#paths.set(id, path);
      return path;
    }
    const [name] = others.flatMap((each) => each.names(id).slice(0, 1));
    return name ? `${this.#pathOf(name.parentId, others, depth + 1)}/${shownName(name.name)}` : UNKNOWN_PARENT;
  }

  #live(group: Group): FileRecord[] {
    const { id, inode } = group;
    if (id === ROOT_FOLDER || id === PRIVATE_FOLDER) return [];
    const own = inode.name ? { parentId: inode.facts.parentId, name: inode.name } : (this.#nameless.get(id) ?? null);
    const removed = inode.facts.parentId === PRIVATE_FOLDER;
    const names = group.siblings.length > 0 ? group.siblings : own ? [own] : [];
    const record = this.#asKept(group, this.#files.describe(group, this.#files.extentsOf(group), null));
    if (names.length === 0 || removed) {
      const note = removed
        ? "It was deleted while a program had it open, or is being deleted; its content is kept until the volume is used again."
        : "No folder has an entry for it: its name is not known.";
      const name = `file-${id}`;
      return [{ ...record, state: removed ? "deleted" : "live", path: `${UNKNOWN_PARENT}/${name}`, name, notes: [...record.notes, note] }];
    }
    return names.map(({ parentId, name }) => namedRecord(record, this.#pathOf(parentId), name, names.length));
  }

  /** The same where the state's blocks are not kept for it: what stands in others is judged, and the rest only its content can prove. */
  #asKept({ inode }: Group, record: FileRecord): FileRecord {
    const place = likeliest(record);
    if (this.standing.kept || !place) return record;
    const { layout } = place;
    const claimant = { stream: inode.facts.privateId, xid: this.state.xid, taken: [], ownership: this.#ownershipNow() };
    const evidence = goneEvidence(layout, { container: this.container, start: this.start, map: this.allocation }, claimant);
    const stored = layout.segments.reduce((sum, { kind, length }) => sum + (kind === "disk" || kind === "coded" ? length : 0), 0);
    return { ...record, content: placed(layout, evidence, (evidence.shared ?? 0) >= stored) };
  }

  /** What older checkpoints and snapshots know that the present tree does not. */
  #fromEarlierStates(): { readonly earlier: EarlierRecords; readonly files: readonly GoneFile[] } {
    if (this.#gone) return this.#gone;
    this.#indexed();
    const earlier = new EarlierRecords(this.state.hashedNames);
    for (const state of this.#earlierStates()) for (const node of state.leavesBeside(this.#nodes)) earlier.take(node);
    this.#gone = { earlier, files: goneFiles(earlier, this.#surroundings([]), []) };
    return this.#gone;
  }

  *#earlierStates(): Generator<VolumeState, void, void> {
    for (const snapshot of this.state.snapshots()) {
      const state = this.state.atSnapshot(snapshot);
      if (state) yield state;
    }
    for (const checkpoint of this.container.checkpoints.slice(1)) {
      const state = VolumeState.atCheckpoint(this.container, checkpoint, this.index);
      if (state) yield state;
    }
  }

  /** The present volume's list and those of its snapshots: one of them knows the stream's blocks where they are still its own. */
  #ownershipNow(): Ownership {
    const { owners } = this.standing;
    this.#ownerLists ??= [
      owners.volume.facts.extentReferenceOid,
      ...owners.snapshots().map(({ extentReferenceOid }) => extentReferenceOid),
    ];
    const lists = this.#ownerLists;
    return (block, stream) => {
      const found = lists.flatMap((list) => (list === 0 ? [] : (owners.ownerIn(list, block) ?? [])));
      if (found.length === 0) return null;
      return { own: found.some((each) => each.stream === stream), end: Math.min(...found.map(({ end }) => end)) };
    };
  }

  #surroundings(others: readonly EarlierRecords[]) {
    return {
      others,
      blockSize: this.clusterSize,
      live: (id: number): Group | null => this.#liveGroup(id),
      liveExtents: (group: Group) => this.#files.extentsOf(group),
      ownership: this.#ownershipNow(),
    };
  }

  #liveGroup(id: number): Group | null {
    const group: { -readonly [K in keyof Group]: Group[K] | null } = { id, inode: null, attributes: [], siblings: [], extents: [] };
    for (const { node, index, type } of this.state.recordsOf(id)) {
      if (type === RECORD_TYPE.inode) group.inode = parseInode(node, index);
      else if (type === RECORD_TYPE.sibling || type === RECORD_TYPE.extent) {
        const extent = type === RECORD_TYPE.extent ? parseExtent(node, index) : null;
        if (extent) group.extents?.push(extent);
        const sibling = type === RECORD_TYPE.sibling ? parseSibling(node, index) : null;
        if (sibling) group.siblings?.push(sibling);
      }
    }
    return group.inode ? (group as Group) : null;
  }

  /** Which nodes without a place in a map are of this volume: numbers of nodes are given once in a container. */
  #ownership(): (node: TreeNode) => boolean {
    const { newest } = this.container;
    const others = newest.volumeOids.flatMap((oid, index) => {
      const state = oid !== 0 && index !== this.index ? VolumeState.atCheckpoint(this.container, newest, index) : null;
      return state && !isEncrypted(state.volume) ? [state] : [];
    });
    if (others.length === 0) return () => true;
    const numbers = (state: VolumeState) => new Set([...state.map.all()].map(({ oid }) => oid));
    const own = numbers(this.state);
    const theirs = others.map((state) => ({ state, known: numbers(state) }));
    return (node) => {
      if (own.has(node.oid)) return true;
      if (theirs.some(({ known }) => known.has(node.oid))) return false;
      const score = likeness(this.state, node);
      return theirs.every(({ state }) => likeness(state, node) <= score);
    };
  }

  #goneRecord(file: GoneFile, leftover: boolean): FileRecord {
    const { version, extents, taken, ownership } = file;
    const blocks = { container: this.container, start: this.start, map: this.allocation };
    const record = this.#files.describe(version, extents, (layout) =>
      goneEvidence(layout, blocks, { stream: version.inode.facts.privateId, xid: version.xid, taken, ownership }),
    );
    const proven = record.size > MOST_LOOKED_INTO * this.clusterSize ? unproven(record) : record;
    return describeGone(leftover ? { ...proven, leftover: true } : proven, file, (id) => this.#pathOf(id, file.others));
  }
}

const isEmpty = (nodes: Iterable<unknown>): boolean => nodes[Symbol.iterator]().next().done === true;

/** How many files of a node a state knows, by number and date of creation. */
function likeness(state: VolumeState, node: TreeNode): number {
  let known = 0;
  for (let index = 0; index < node.keys.length && index < 64; index += 1) {
    const inode = typeOf(node, index) === RECORD_TYPE.inode ? parseInode(node, index) : null;
    if (!inode) continue;
    for (const { node: own, index: at, type } of state.recordsOf(numberOf(node, index))) {
      const present = type === RECORD_TYPE.inode ? parseInode(own, at) : null;
      if (present?.facts.createLow === inode.facts.createLow && present.facts.createHigh === inode.facts.createHigh) known += 1;
    }
  }
  return known;
}
