import { nanosecondsToMs } from "../mac-times";
import type { Checkpoint, Container } from "./container";
import {
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
import { childOf, type FixedSizes, parseNode, type Stretch, Tree, type TreeNode } from "./tree";

/** Parsed nodes kept of one state. */
const MOST_NODES = 1024;
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

/** A volume as of one transaction: the present one, a snapshot, or an older checkpoint. */
export class VolumeState {
  readonly #nodes = new Map<number, TreeNode>();
  readonly tree: Tree;
  readonly hashedNames: boolean;
  readonly sealed: boolean;
  readonly #extents: Tree | null;

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
    this.tree = new Tree(rootTreeOid, (oid) => this.nodeOf(oid));
    this.#extents =
      this.sealed && extentTreeOid !== 0 ? new Tree(extentTreeOid, (paddr) => this.#node(paddr, { key: 16, value: 16, least: 16 })) : null;
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

  nodeOf(oid: number): TreeNode | null {
    const paddr = this.placeOf(oid);
    return paddr === null ? null : this.#node(paddr, null);
  }

  #node(paddr: number, fixed: FixedSizes | null): TreeNode | null {
    const known = this.#nodes.get(paddr);
    if (known) return known;
    const { objects } = this.container;
    const node = this.#parse(this.sealed ? objects.readBare(paddr) : objects.read(paddr), fixed);
    if (!node) return null;
    if (this.#nodes.size >= MOST_NODES) {
      const oldest = this.#nodes.keys().next().value;
      if (oldest !== undefined) this.#nodes.delete(oldest);
    }
    this.#nodes.set(paddr, node);
    return node;
  }

  /** The same without keeping it, for what is gone through once. */
  #nodeOnce(paddr: number): TreeNode | null {
    const { objects } = this.container;
    return this.#parse(this.sealed ? objects.readBare(paddr) : objects.readOnce(paddr), null);
  }

  // Nodes of a sealed volume have no checksum of their own: the nodes above carry their hashes.
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
    const found: Extent[] = [];
    const id = (node: TreeNode, index: number) => node.cursor.u64((node.keys[index] as Stretch).at);
    const compare = (node: TreeNode, index: number) => id(node, index) - streamId;
    for (const node of this.#extents.leaves(compare, compare))
      for (let index = 0; index < node.keys.length; index += 1) {
        if (id(node, index) !== streamId) continue;
        const value = node.values[index] as Stretch;
        const length = (node.cursor.u32(value.at + 4) & 0x00ff_ffff) * 4_294_967_296 + node.cursor.u32(value.at);
        found.push({ logical: node.cursor.u64((node.keys[index] as Stretch).at + 8), length, block: node.cursor.u64(value.at + 8) });
      }
    return found;
  }

  /** The volume's snapshots, the oldest first. */
  snapshots(): Snapshot[] {
    const found: Snapshot[] = [];
    const tree = new Tree(this.volume.facts.snapshotTreeOid, (paddr) => this.#node(paddr, null));
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
    const tree = new Tree(extentReferenceOid, (paddr) => this.#node(paddr, null));
    const found = tree.find((node, index) => numberOf(node, index) - block);
    if (!found) return null;
    const { node, index } = found;
    const value = node.values[index] as Stretch;
    if (typeOf(node, index) !== RECORD_TYPE.physicalExtent || value.length < PHYSICAL_EXTENT.size - 4) return null;
    const blocks = (node.cursor.u32(value.at + 4) & 0x0fff_ffff) * 4_294_967_296 + node.cursor.u32(value.at);
    const end = numberOf(node, index) + blocks;
    return block < end ? { stream: node.cursor.u64(value.at + PHYSICAL_EXTENT.owner), end } : null;
  }

  /** Leaves of the tree of files whose blocks are not among those given; each block that is met is added. */
  *leavesBeside(seen: Set<number>): Generator<TreeNode, void, void> {
    yield* this.#beside(this.volume.facts.rootTreeOid, seen, 32, false);
  }

  /** @param once whether the node is a leaf, by the one above it, and is not asked for again soon */
  *#beside(oid: number, seen: Set<number>, depth: number, once: boolean): Generator<TreeNode, void, void> {
    const paddr = this.placeOf(oid);
    if (paddr === null || seen.has(paddr) || depth === 0) return;
    seen.add(paddr);
    const node = once ? this.#nodeOnce(paddr) : this.#node(paddr, null);
    if (!node) return;
    if (node.leaf) yield node;
    else
      for (let index = 0; index < node.keys.length; index += 1)
        yield* this.#beside(childOf(node, index), seen, depth - 1, node.level === 1);
  }
}

/** Whether an object could be a node of a tree of files. */
export const isFileTreeNode = ({ type, subtype }: ApfsObject): boolean =>
  (type === OBJECT_TYPE.treeNode || type === OBJECT_TYPE.treeRoot) && subtype === OBJECT_TYPE.fileTree;
