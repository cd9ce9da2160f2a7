import { type ByteSource, CachedSource, readBytes, WindowSource } from "../../bytes/byte-source";
import { numberCheckpoint, type Checkpoint as ResumePoint, readNumberCheckpoint } from "../../bytes/checkpoint";
import { type Layout, LayoutSource, layoutOf, type Segment } from "../../bytes/layout";
import type { Range } from "../../bytes/range-set";
import type { AllocationMap } from "../allocation-map";
import {
  ALL_BYTES_THERE,
  absent,
  type ByteEvidence,
  type Content,
  type FileRecord,
  type FileSystem,
  FileSystemError,
  type Finding,
  likeliest,
  NO_CONTENT,
  placed,
  type RecordBatch,
  type StateOfVolume,
  unproven,
} from "../file-record";
import { describeUse, tellsOfUse } from "../mac-attributes";
import { COMPRESSION_ATTRIBUTE, compressedContent, FINDER_STREAM, RESOURCE_STREAM } from "../mac-compression";
import { finderFlagsIn, marksOfMac } from "../mac-marks";
import { nanosecondsToMs } from "../mac-times";
import { type Earlier, scanSectors } from "../sector-scan";
import { apfsFindings } from "./consistency";
import { Container } from "./container";
import { EarlierRecords } from "./earlier";
import { goneEvidence, MOST_LOOKED_INTO, type Ownership } from "./evidence";
import { type GoneFile, goneFiles } from "./gone";
import { type Group, groupsIn } from "./groups";
import { COMPRESSED, LINK_ATTRIBUTE, MODE, OBJECT, PRIVATE_FOLDER, RECORD_TYPE, RESOURCE_ATTRIBUTE, ROOT_FOLDER } from "./layout";
import { isSound, toObject } from "./objects";
import { type Extent, isNameless, numberOf, parseEntry, parseExtent, parseInode, parseSibling, shownName, typeOf } from "./records";
import { readAllocation } from "./space";
import { isEncrypted, isFileTreeNode, VolumeState } from "./state";
import { parseNode, type TreeNode } from "./tree";
import { parseView, writeView } from "./view";

export const UNKNOWN_PARENT = "/?";
const MOST_DEPTH = 512;
const MOST_TARGET = 4096;
const MOST_ATTRIBUTE = 1 << 20;
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
    private readonly disk: ByteSource,
    private readonly start: number,
    private readonly container: Container,
    private readonly state: VolumeState,
    private readonly index: number,
    private readonly standing: Standing,
    note: string | null = null,
  ) {
    this.label = state.volume.label;
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
  *readLeftovers(
    from: ResumePoint | null,
    step: number,
    part: Range = { start: 0, end: this.container.objects.volume.size },
    earlier: Earlier | null = null,
  ): Generator<RecordBatch, void, void> {
    if (!this.standing.present) return;
    this.#indexed();
    const known = this.#fromEarlierStates();
    const { blockSize, volume } = this.container.objects;
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
    const bytes = Math.min(part.end, volume.size) - part.start;
    const first = readNumberCheckpoint(from);
    for (const { done, noted } of scanSectors(volume, part, blockSize, note, first, earlier))
      yield { records: [], resume: numberCheckpoint(done), done, total: bytes, noted };
    const files = goneFiles(orphans, this.#surroundings([known.earlier]), known.files);
    const total = bytes + files.length;
    for (let next = Math.max(0, first - bytes); next < files.length; ) {
      const records: FileRecord[] = [];
      for (; next < files.length && records.length < step; next += 1) records.push(this.#goneRecord(files[next] as GoneFile, true));
      yield { records, resume: numberCheckpoint(bytes + next), done: bytes + next, total };
    }
    yield { records: [], resume: numberCheckpoint(total), done: total, total };
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
    const record = this.#asKept(group, this.#describe(group, this.#extentsOf(group), null));
    if (names.length === 0 || removed) {
      const note = removed
        ? "It was deleted while a program had it open, or is being deleted; its content is kept until the volume is used again."
        : "No folder has an entry for it: its name is not known.";
      const name = `file-${id}`;
      return [{ ...record, state: removed ? "deleted" : "live", path: `${UNKNOWN_PARENT}/${name}`, name, notes: [...record.notes, note] }];
    }
    return names.map(({ parentId, name }) => this.#named(record, parentId, name, names.length, []));
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

  #named(record: FileRecord, parentId: number, rawName: Uint8Array, links: number, others: readonly EarlierRecords[]): FileRecord {
    const parent = this.#pathOf(parentId, others);
    const name = shownName(rawName);
    const notes = parent.startsWith(UNKNOWN_PARENT)
      ? [...record.notes, "A folder above it is not known any more: the full path is not known."]
      : record.notes;
    return { ...record, path: `${parent}/${name}`, name, rawName: rawName.slice(), links, notes };
  }

  #extentsOf({ id, inode, extents }: Group): readonly Extent[] {
    const { privateId } = inode.facts;
    return this.#streamExtents(privateId, privateId === id ? extents : null);
  }

  /** @param known those that were met already; null: they have to be looked up */
  #streamExtents(streamId: number, known: readonly Extent[] | null): readonly Extent[] {
    const sealed = this.state.sealedExtents(streamId);
    if (sealed) return sealed;
    if (known && known.length > 0) return known;
    const found: Extent[] = [];
    for (const { node, index, type } of this.state.recordsOf(streamId)) {
      if (type !== RECORD_TYPE.extent) continue;
      const extent = parseExtent(node, index);
      if (extent) found.push(extent);
    }
    return found;
  }

  /** Lays out a data stream. Extents name holes as such: bytes that none of them has are lost with the node that had it. */
  #layoutOf(extents: readonly Extent[], size: number): Layout {
    const { blockSize, blockCount } = this.container.objects;
    const segments: Segment[] = [];
    let at = 0;
    for (const { logical, length, block } of [...extents].sort((a, b) => a.logical - b.logical)) {
      if (logical >= size || length <= 0 || logical < at) continue;
      if (logical > at) segments.push({ kind: "lost", length: logical - at });
      if (block === 0) segments.push({ kind: "hole", length });
      else if (block + Math.ceil(length / blockSize) > blockCount) segments.push({ kind: "lost", length });
      else segments.push({ kind: "disk", at: this.start + block * blockSize, length });
      at = logical + length;
    }
    if (at < size) segments.push({ kind: "lost", length: size - at });
    return layoutOf(segments, size);
  }

  /** A file or folder by its records; path and name are the caller's. @param evidence of one that is gone; null: it is there */
  #describe(group: Group, extents: readonly Extent[], evidence: ((layout: Layout) => ByteEvidence) | null): FileRecord {
    const { id, inode, attributes } = group;
    const { facts } = inode;
    const kind = facts.mode & MODE.mask;
    const folder = kind === MODE.folder;
    const place = (layout: Layout): Content => placed(layout, evidence ? evidence(layout) : lostOf(layout));
    const byName = new Map(attributes.map((attribute) => [attribute.name, attribute]));
    const layoutOfAttribute = ({ held, stream, paddr }: (typeof attributes)[number]): Layout => {
      if (held) {
        const at = this.start + paddr * this.clusterSize + held.at;
        return { size: held.bytes.length, segments: [{ kind: "held", at, length: held.bytes.length, bytes: held.bytes }] };
      }
      const size = Math.min(stream?.size ?? 0, 2 ** 50);
      return this.#layoutOf(this.#streamExtents(stream?.id ?? 0, null), size);
    };
    const notes: string[] = [];
    let size = folder ? 0 : Math.min(inode.size ?? 0, 2 ** 50);
    let content: Content = folder ? NO_CONTENT : place(this.#layoutOf(extents, size));
    const coded = byName.get(COMPRESSION_ATTRIBUTE);
    const resource = byName.get(RESOURCE_ATTRIBUTE);
    let usesResource = false;
    if (!folder && coded && (facts.bsdFlags & COMPRESSED) !== 0) {
      const layout = layoutOfAttribute(coded);
      const at = layout.segments[0];
      const bytes = readBytes(new LayoutSource(this.disk, layout), 0, Math.min(layout.size, MOST_ATTRIBUTE));
      const found = compressedContent(
        { bytes, at: at?.kind === "held" ? at.at : 0 },
        resource ? layoutOfAttribute(resource) : null,
        this.disk,
      );
      if (found) {
        ({ size, usesResource } = found);
        content = found.layout ? place(found.layout) : absent("not-followed", found.notes.join(" "));
        if (found.layout) notes.push(...found.notes);
      }
    }
    if (kind === MODE.link) {
      const target = byName.get(LINK_ATTRIBUTE)?.held?.bytes.subarray(0, MOST_TARGET) ?? new Uint8Array();
      const end = target.indexOf(0);
      const text = target.subarray(0, end < 0 ? target.length : end);
      size = text.length;
      content = absent("not-followed", `A link to “${new TextDecoder().decode(text)}”: it is shown and not followed.`);
    }
    for (const { name, held } of attributes) {
      const said = held && tellsOfUse(name) ? describeUse(name, held.bytes) : null;
      if (said) notes.push(said);
    }
    const streams = attributes
      .filter((attribute) => attribute !== coded && attribute.name !== LINK_ATTRIBUTE && !(usesResource && attribute === resource))
      .map((attribute) => {
        const layout = layoutOfAttribute(attribute);
        return { name: attribute === resource ? RESOURCE_STREAM : attribute.name, size: layout.size, layout };
      });
    return {
      reference: `number ${id} of volume ${this.index}`,
      state: "live",
      type: folder ? "folder" : "file",
      path: "",
      name: "",
      rawName: new Uint8Array(),
      size,
      created: nanosecondsToMs(facts.createLow, facts.createHigh),
      modified: nanosecondsToMs(facts.modifyLow, facts.modifyHigh),
      changed: nanosecondsToMs(facts.changeLow, facts.changeHigh),
      content,
      system: false,
      streams,
      links: 1,
      marks: marksOfMac({ flags: facts.bsdFlags, mode: facts.mode, finderFlags: finderFlagsIn(byName.get(FINDER_STREAM)?.held?.bytes) }),
      notes,
    };
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
      liveExtents: (group: Group) => this.#extentsOf(group),
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
    const { version, extents, name, others, taken, note, ownership } = file;
    const blocks = { container: this.container, start: this.start, map: this.allocation };
    const record = this.#describe(version, extents, (layout) =>
      goneEvidence(layout, blocks, { stream: version.inode.facts.privateId, xid: version.xid, taken, ownership }),
    );
    const deleted: FileRecord = {
      ...(record.size > MOST_LOOKED_INTO * this.clusterSize ? unproven(record) : record),
      state: "deleted",
      reference: `${record.reference}, as of transaction ${version.xid} in block ${version.paddr}`,
      notes: note ? [...record.notes, note] : record.notes,
      ...(leftover ? { leftover: true } : {}),
    };
    if (name) return this.#named(deleted, name.parentId, name.name, 1, others);
    const own = `file-${version.id}`;
    return {
      ...deleted,
      path: `${UNKNOWN_PARENT}/${own}`,
      name: own,
      incompleteName: true,
      notes: [...deleted.notes, "Its name is gone; its number stands in its place."],
    };
  }
}

const isEmpty = (nodes: Iterable<unknown>): boolean => nodes[Symbol.iterator]().next().done === true;

const lostOf = (layout: Layout): ByteEvidence => {
  const lost = layout.segments.reduce((sum, segment) => sum + (segment.kind === "lost" ? segment.length : 0), 0);
  return lost > 0 ? { ...ALL_BYTES_THERE, lost } : ALL_BYTES_THERE;
};

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
