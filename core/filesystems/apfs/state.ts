import { nanosecondsToMs } from "../mac-times";
import type { Checkpoint, Container } from "./container";
import {
  HASH_SHA256,
  INTEGRITY,
  INTEGRITY_FLAG,
  OBJECT_TYPE,
  PHYSICAL_EXTENT,
  RECORD_TYPE,
  SNAPSHOT,
  VOLUME,
  VOLUME_FLAG,
  VOLUME_GROUP_AT,
  VOLUME_INCOMPATIBLE,
  VOLUME_MARK,
  VOLUME_NAME,
  VOLUME_UUID_AT,
} from "./layout";
import { ObjectMap } from "./object-map";
import type { ApfsObject } from "./objects";
import { byNumber, type Extent, numberOf, shownName, typeOf } from "./records";
import { childOf, type FixedSizes, type NodeLink, parseNode, type Stretch, Tree, type TreeNode } from "./tree";

/** Parsed nodes kept of one state. */
const MOST_NODES = 1024;
const MOST_DEPTH = 32;
/** `fext_tree_key_t`, `fext_tree_val_t`. */
const EXTENT_KEY_SIZE = 16;
const EXTENT_VALUE_SIZE = 16;
const utf8 = new TextDecoder();

/** A volume as its superblock describes it. */
export interface VolumeFacts {
  readonly facts: ReturnType<typeof VOLUME.read>;
  readonly xid: number;
  readonly label: string | null;
  readonly uuid: string | null;
  /** The same for all volumes that make up one system; null: it stands alone. */
  readonly group: string | null;
}

export function parseVolume(object: ApfsObject | null): VolumeFacts | null {
  if (!object || object.cursor.size < VOLUME.size) return null;
  const facts = VOLUME.read(object.cursor, 0);
  if (facts.magic !== VOLUME_MARK) return null;
  const raw = object.cursor.slice(VOLUME_NAME.at, VOLUME_NAME.length);
  const end = raw.indexOf(0);
  const label = utf8.decode(raw.subarray(0, end < 0 ? raw.length : end)).normalize("NFC");
  const [uuid, group] = [VOLUME_UUID_AT, VOLUME_GROUP_AT].map((at) => toUuid(object.cursor.slice(at, 16)));
  return { facts, xid: object.xid, label: label || null, uuid: uuid ?? null, group: group ?? null };
}

/** Writes an identifier of 16 bytes in the usual way, as RFC 9562 orders them; null: it is all zeros, which says that there is none. */
function toUuid(bytes: Uint8Array): string | null {
  if (bytes.every((byte) => byte === 0)) return null;
  return Buffer.from(bytes)
    .toString("hex")
    .replace(/^(.{8})(.{4})(.{4})(.{4})/, "$1-$2-$3-$4-");
}

export const isEncrypted = ({ facts }: VolumeFacts): boolean => facts.flags % 2 !== VOLUME_FLAG.unencrypted;

/** A snapshot, by its record in the volume's list of them. */
export interface Snapshot {
  readonly xid: number;
  readonly name: string;
  /** UTC milliseconds. */
  readonly made: number | null;
  readonly volumeAt: number;
  readonly extentReferenceOid: number;
}

/** A node of a tree that cannot be read. */
export interface UnreadNode {
  readonly oid: number;
  /** null: no map names a block of it. */
  readonly paddr: number | null;
}

interface Walk {
  readonly seen: Set<number>;
  readonly lost: ((node: UnreadNode) => void) | null;
}

interface Seal {
  readonly broken: boolean;
  /** SHA-256 of the root of the tree of files; null: it is not known, and no node is held to its hash. */
  readonly rootHash: Uint8Array | null;
}

/** A volume as of one transaction: the present one, a snapshot, or an older checkpoint. */
export class VolumeState {
  readonly #nodes = new Map<number, TreeNode>();
  readonly tree: Tree;
  readonly hashedNames: boolean;
  readonly sealed: boolean;
  readonly #extents: Tree | null;
  /** For nodes that are read once. */
  readonly #room: Uint8Array;
  readonly #seal: Seal | null;
  readonly #root: NodeLink;
  readonly #base: number;
  #ownerLists: readonly number[] | undefined;

  constructor(
    readonly container: Container,
    readonly volume: VolumeFacts,
    readonly map: ObjectMap,
    /** The transaction as of which objects are looked up. */
    readonly xid: number,
  ) {
    const { incompatible, rootTreeOid, extentTreeOid } = volume.facts;
    this.hashedNames = (incompatible & (VOLUME_INCOMPATIBLE.caseInsensitive | VOLUME_INCOMPATIBLE.normalizationInsensitive)) !== 0;
    this.sealed = (incompatible & VOLUME_INCOMPATIBLE.sealed) !== 0;
    this.#room = container.objects.room();
    this.#seal = this.sealed ? this.#readSeal() : null;
    this.#root = { oid: rootTreeOid, hash: this.#seal?.rootHash ?? null };
    // Numbers of nodes of a sealed volume are counted from the root's: the reference says nothing of it, the apfs driver of Linux and apfsck do it.
    this.#base = this.sealed ? rootTreeOid : 0;
    this.tree = new Tree(this.#root, (link) => this.#nodeOf(link, false), this.#base);
    this.#extents =
      this.sealed && extentTreeOid !== 0
        ? this.#physicalTree(extentTreeOid, { key: EXTENT_KEY_SIZE, value: EXTENT_VALUE_SIZE, least: EXTENT_VALUE_SIZE })
        : null;
  }

  /** What is known of the volume's seal: whether it is whole, and the hash of the root of its files. */
  #readSeal(): Seal {
    const paddr = this.map.find(this.volume.facts.integrityOid, this.xid);
    const object = paddr === null ? null : this.container.objects.read(paddr);
    if (!object || object.type !== OBJECT_TYPE.integrity || object.cursor.size < INTEGRITY.size) return { broken: false, rootHash: null };
    const { flags, hashType, rootHashOffset } = INTEGRITY.read(object.cursor, 0);
    const broken = (flags & INTEGRITY_FLAG.broken) !== 0;
    const fits = rootHashOffset >= INTEGRITY.size && rootHashOffset + HASH_SHA256.size <= object.cursor.size;
    return {
      broken,
      rootHash: hashType === HASH_SHA256.type && fits && !broken ? object.cursor.slice(rootHashOffset, HASH_SHA256.size) : null,
    };
  }

  /** Whether a sealed volume's nodes are held to their hashes; null: it is not sealed. */
  get seal(): "checked" | "broken" | "unchecked" | null {
    return this.#seal && (this.#seal.rootHash ? "checked" : this.#seal.broken ? "broken" : "unchecked");
  }

  /** Opens a volume of a checkpoint; null: it is not there, or cannot be followed any more. */
  static atCheckpoint(container: Container, checkpoint: Checkpoint, index: number): VolumeState | null {
    const oid = checkpoint.volumeOids[index];
    const paddr = oid ? container.mapAt(checkpoint)?.find(oid, checkpoint.xid) : null;
    const object = paddr ? container.objects.read(paddr) : null;
    const volume = object && object.xid <= checkpoint.xid ? parseVolume(object) : null;
    const map = volume && ObjectMap.open(container.objects, volume.facts.objectMapOid, checkpoint.xid);
    return volume && map ? new VolumeState(container, volume, map, checkpoint.xid) : null;
  }

  /** The volume as a snapshot of it has it. */
  atSnapshot(snapshot: Snapshot): VolumeState | null {
    const volume = parseVolume(this.container.objects.read(snapshot.volumeAt));
    return volume && new VolumeState(this.container, volume, this.map, snapshot.xid);
  }

  /** The block of a node of the tree of files; null: it is not known. */
  placeOf(oid: number): number | null {
    return this.map.find(oid, this.xid);
  }

  /** @param once whether the node is not asked for again soon: it is not kept, and holds until the next one is read so */
  #nodeOf({ oid, hash }: NodeLink, once: boolean): TreeNode | null {
    const paddr = this.placeOf(oid);
    if (paddr === null) return null;
    const known = this.#nodes.get(paddr);
    if (known) return known;
    const { objects } = this.container;
    const held = this.#seal?.rootHash ? hash : null;
    const object = this.sealed
      ? objects.readBare(paddr, held, once ? this.#room : objects.room())
      : once
        ? objects.readOnce(paddr, this.#room)
        : objects.read(paddr);
    const node = this.#parse(object, null);
    return node && !once ? this.#kept(paddr, node) : node;
  }

  /** A tree whose nodes are named by their blocks. */
  #physicalTree(root: number, fixed: FixedSizes | null): Tree {
    return new Tree({ oid: root, hash: null }, ({ oid: paddr }) => {
      const known = this.#nodes.get(paddr);
      if (known) return known;
      const node = this.#parse(this.container.objects.read(paddr), fixed);
      return node && this.#kept(paddr, node);
    });
  }

  #kept(paddr: number, node: TreeNode): TreeNode {
    if (this.#nodes.size >= MOST_NODES) {
      const oldest = this.#nodes.keys().next().value;
      if (oldest !== undefined) this.#nodes.delete(oldest);
    }
    this.#nodes.set(paddr, node);
    return node;
  }

  #parse(object: ApfsObject | null, fixed: FixedSizes | null): TreeNode | null {
    return object && object.xid <= this.xid ? parseNode(object, fixed) : null;
  }

  /** All records of a number, as places in nodes. */
  *recordsOf(number: number): Generator<{ readonly node: TreeNode; readonly index: number; readonly type: number }, void, void> {
    const compare = byNumber(number);
    for (const node of this.tree.leaves(compare, compare))
      for (let index = 0; index < node.keys.length; index += 1)
        if (numberOf(node, index) === number) yield { node, index, type: typeOf(node, index) };
  }

  /** Extents of a data stream that a sealed volume keeps in a tree of their own; null: it does not. */
  sealedExtents(streamId: number): Extent[] | null {
    if (!this.#extents) return null;
    const compare = (node: TreeNode, index: number) => streamOf(node, index) - streamId;
    const found: Extent[] = [];
    for (const node of this.#extents.leaves(compare, compare))
      for (let index = 0; index < node.keys.length; index += 1)
        if (streamOf(node, index) === streamId) found.push(parseSealedExtent(node, index));
    return found;
  }

  /** The extents of all data streams, where they stand in a tree of their own. @param lost is called with nodes that cannot be read */
  *allSealedExtents(lost: (node: UnreadNode) => void): Generator<{ readonly stream: number; readonly extent: Extent }, void, void> {
    for (const node of this.#extents?.leaves(null, null, ({ oid }) => lost({ oid, paddr: oid })) ?? [])
      for (let index = 0; index < node.keys.length; index += 1)
        yield { stream: streamOf(node, index), extent: parseSealedExtent(node, index) };
  }

  /** The volume's snapshots, the oldest first. */
  snapshots(): Snapshot[] {
    const found: Snapshot[] = [];
    const tree = this.#physicalTree(this.volume.facts.snapshotTreeOid, null);
    for (const node of tree.leaves())
      for (let index = 0; index < node.keys.length; index += 1) {
        const { at, length } = node.values[index] as Stretch;
        if (typeOf(node, index) !== RECORD_TYPE.snapshot || length < SNAPSHOT.size) continue;
        const { extentReferenceOid, volumeOid, createLow, createHigh, nameLength } = SNAPSHOT.read(node.cursor, at);
        const name = shownName(node.cursor.slice(at + SNAPSHOT.size, Math.min(nameLength, length - SNAPSHOT.size)));
        found.push({
          xid: numberOf(node, index),
          name,
          made: nanosecondsToMs(createLow, createHigh),
          volumeAt: volumeOid,
          extentReferenceOid,
        });
      }
    return found.sort((a, b) => a.xid - b.xid);
  }

  /** Which data stream a block belongs to, and up to which block, by one of the lists of who owns what. */
  ownerIn(extentReferenceOid: number, block: number): { readonly stream: number; readonly end: number } | null {
    const found = this.#physicalExtent(extentReferenceOid, block);
    return found && { stream: found.node.cursor.u64(found.at + PHYSICAL_EXTENT.owner), end: found.end };
  }

  /** How many data streams own a block, by the volume's list and those of its snapshots, which count on from one another. */
  referencesTo(block: number): number {
    this.#ownerLists ??= [this.volume.facts.extentReferenceOid, ...this.snapshots().map(({ extentReferenceOid }) => extentReferenceOid)];
    let references = 0;
    for (const list of this.#ownerLists) {
      const found = list === 0 ? null : this.#physicalExtent(list, block);
      if (found) references += found.node.cursor.u32(found.at + PHYSICAL_EXTENT.references) | 0;
    }
    return references;
  }

  #physicalExtent(
    extentReferenceOid: number,
    block: number,
  ): { readonly node: TreeNode; readonly at: number; readonly end: number } | null {
    const found = this.#physicalTree(extentReferenceOid, null).find((node, index) => numberOf(node, index) - block);
    if (!found) return null;
    const { node, index } = found;
    const { at, length } = node.values[index] as Stretch;
    if (typeOf(node, index) !== RECORD_TYPE.physicalExtent || length < PHYSICAL_EXTENT.size) return null;
    const blocks = (node.cursor.u32(at + 4) & 0x0fff_ffff) * 4_294_967_296 + node.cursor.u32(at);
    const end = numberOf(node, index) + blocks;
    return block < end ? { node, at, end } : null;
  }

  /**
   * Leaves of the tree of files whose blocks are not among those given; each block that is met is added. A leaf holds until the next one.
   * @param lost is called with nodes that cannot be read
   */
  *leavesBeside(seen: Set<number>, lost: ((node: UnreadNode) => void) | null = null): Generator<TreeNode, void, void> {
    yield* this.#beside(this.#root, { seen, lost }, MOST_DEPTH, false);
  }

  /** @param once whether the node is a leaf, by the one above it, and is not asked for again soon */
  *#beside(link: NodeLink, walk: Walk, depth: number, once: boolean): Generator<TreeNode, void, void> {
    const { seen, lost } = walk;
    const paddr = this.placeOf(link.oid);
    if (paddr === null) lost?.({ oid: link.oid, paddr });
    if (paddr === null || seen.has(paddr) || depth === 0) return;
    seen.add(paddr);
    const node = this.#nodeOf(link, once);
    if (!node) lost?.({ oid: link.oid, paddr });
    else if (node.leaf) yield node;
    else
      for (let index = 0; index < node.keys.length; index += 1)
        yield* this.#beside(childOf(node, index, this.#base), walk, depth - 1, node.level === 1);
  }
}

const streamOf = ({ cursor, keys }: TreeNode, index: number): number => cursor.u64((keys[index] as Stretch).at);

/** Reads an entry of the tree of extents of a sealed volume (`fext_tree_key_t`, `fext_tree_val_t`). */
function parseSealedExtent({ cursor, keys, values }: TreeNode, index: number): Extent {
  const { at } = values[index] as Stretch;
  const length = (cursor.u32(at + 4) & 0x00ff_ffff) * 4_294_967_296 + cursor.u32(at);
  return { logical: cursor.u64((keys[index] as Stretch).at + 8), length, block: cursor.u64(at + 8) };
}

/** Whether an object could be a node of a tree of files. */
export const isFileTreeNode = ({ type, subtype }: ApfsObject): boolean =>
  (type === OBJECT_TYPE.treeNode || type === OBJECT_TYPE.treeRoot) && subtype === OBJECT_TYPE.fileTree;
