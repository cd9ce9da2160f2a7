import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { HEADER_MAP_AT, NODE, NODE_KIND, TREE_HEADER } from "./layout";

/** Node sizes that are possible ("B-Trees"): powers of two from 512 to 32,768 bytes. */
export const NODE_SIZES = [512, 1024, 2048, 4096, 8192, 16_384, 32_768] as const;
/** Nodes looked at when the header does not say how large they are. */
const MOST_TRIED = 256;
/** Map nodes of a tree: one of 512 bytes maps 3,900 nodes. */
const MOST_MAP_NODES = 1 << 20;
/** Bytes of a tree whose leaves are all read before their chain is followed, at most. */
const MOST_READ_BEFOREHAND = 2 ** 31;
/** Bytes of nodes read at once: a multiple of every size of nodes. */
export const READ_AHEAD = 1 << 18;

/** A node of a tree. Records are stretches of its bytes. */
export interface TreeNode {
  readonly number: number;
  readonly cursor: Cursor;
  readonly kind: number;
  readonly next: number;
  /** Where its sound records begin, and one place more: where the last one ends. */
  readonly starts: readonly number[];
  /** Where the free space behind its records begins, and where it ends. */
  readonly free: { readonly from: number; readonly to: number };
  /** Its list of records contradicts itself: those from there on are left out. */
  readonly damaged: boolean;
}

/** Reads a node from its bytes; null: they are none. */
export function parseNode(bytes: Uint8Array, number: number): TreeNode | null {
  const cursor = new Cursor(bytes);
  const { fLink, kind, height, numRecords } = NODE.read(cursor, 0);
  const known = kind === NODE_KIND.leaf || kind === NODE_KIND.index || kind === NODE_KIND.header || kind === NODE_KIND.map;
  if (!known || height > 32 || (kind === NODE_KIND.leaf && height !== 1) || !hasRoom(bytes, numRecords)) return null;
  const sound = soundOffsets(bytes, numRecords);
  if (sound === 0) return null;
  const starts = new Array<number>(sound);
  for (let index = 0; index < sound; index += 1) starts[index] = offsetAt(bytes, index);
  const free = { from: starts[sound - 1] as number, to: tableAt(bytes, numRecords) };
  return { number, cursor, kind, next: fLink, starts, free, damaged: sound <= numRecords };
}

/** Where the offsets of a node's records begin: they stand at its end, the last first ("B-Trees", "Record Offsets"). */
const tableAt = (bytes: Uint8Array, records: number) => bytes.length - 2 * (records + 1);
const hasRoom = (bytes: Uint8Array, records: number) => tableAt(bytes, records) >= NODE.size;
const offsetAt = (bytes: Uint8Array, index: number) => {
  const at = bytes.length - 2 * (index + 1);
  return ((bytes[at] as number) << 8) | (bytes[at + 1] as number);
};

/** How many of a node's offsets hold together: one more than it has records, where all do. */
function soundOffsets(bytes: Uint8Array, records: number): number {
  const end = tableAt(bytes, records);
  let last = 0;
  for (let index = 0; index <= records; index += 1) {
    const at = offsetAt(bytes, index);
    if (at % 2 !== 0 || at > end || (index === 0 ? at !== NODE.size : at <= last)) return index;
    last = at;
  }
  return records + 1;
}

/** What following the chain needs of a leaf. */
interface ChainLink {
  readonly next: number;
  readonly records: number;
  readonly damaged: boolean;
}

/** Reads as much of a leaf as following the chain needs, without making a node of it: leaves come by the ten thousand. null: it is none. */
function readLink(bytes: Uint8Array): ChainLink | null {
  const { fLink, kind, height, numRecords } = NODE.read(new Cursor(bytes), 0);
  if (kind !== NODE_KIND.leaf || height !== 1 || !hasRoom(bytes, numRecords)) return null;
  const sound = soundOffsets(bytes, numRecords);
  return sound === 0 ? null : { next: fLink, records: sound - 1, damaged: sound <= numRecords };
}

/** A B-tree in a file. Its nodes are read one by one; a damaged header or chain is gone round by looking at every node. */
export class BTree {
  /** Nodes that hold live records. */
  readonly #live: Uint8Array;
  readonly notes: string[] = [];

  private constructor(
    private readonly file: ByteSource,
    readonly nodeSize: number,
    /** Nodes the file has room for. */
    readonly nodes: number,
    /** Names are distinguished by case ("Catalog File Key Comparison", HFSX). */
    readonly caseSensitive: boolean,
    private readonly title: string,
    private readonly head: { readonly firstLeafNode: number; readonly leafRecords: number } | null,
  ) {
    this.#live = new Uint8Array(Math.ceil(nodes / 8));
    this.#findLive(head);
  }

  /** @param title what it is called in notes. @returns null: nothing in the file is a node */
  static open(file: ByteSource, title: string): BTree | null {
    if (file.size < 512) return null;
    const head = readHead(file);
    const nodeSize = head?.nodeSize ?? guessNodeSize(file);
    if (nodeSize === null) return null;
    const room = Math.floor(file.size / nodeSize);
    const nodes = head ? Math.min(room, Math.max(1, head.totalNodes)) : room;
    return new BTree(file, nodeSize, nodes, head?.keyCompareType === 0xbc, title, head);
  }

  node(number: number): TreeNode | null {
    return number < this.nodes ? parseNode(this.bytes(number), number) : null;
  }

  /** The bytes of a node, whatever they are. */
  bytes(number: number): Uint8Array {
    return readBytes(this.file, number * this.nodeSize, this.nodeSize);
  }

  /** Records of all leaves, as the head says; 0: it does not. */
  get leafRecords(): number {
    return this.head?.leafRecords ?? 0;
  }

  isLive(number: number): boolean {
    return (((this.#live[number >>> 3] ?? 0) >>> (number & 7)) & 1) === 1;
  }

  #mark(number: number): void {
    this.#live[number >>> 3] = (this.#live[number >>> 3] as number) | (1 << (number & 7));
  }

  /** The leaf with the least keys; null: the header does not lead to it. */
  firstLeaf(): TreeNode | null {
    const node = this.head ? this.node(this.head.firstLeafNode) : null;
    return node?.kind === NODE_KIND.leaf ? node : null;
  }

  /** Live are the leaves of the chain; where it breaks off, all leaves that the tree's map has in use. */
  #findLive(head: { readonly firstLeafNode: number; readonly leafRecords: number } | null): void {
    const leafAt = head ? this.#leafReader() : () => null;
    let records = 0;
    let number = head?.firstLeafNode ?? 0;
    let sound = head !== null;
    for (let steps = 0; sound && number !== 0 && steps < this.nodes; steps += 1) {
      const leaf = number < this.nodes && !this.isLive(number) ? leafAt(number) : null;
      sound = leaf !== null && !leaf.damaged;
      if (!leaf) break;
      this.#mark(number);
      records += leaf.records;
      number = leaf.next;
    }
    if (sound && records === head?.leafRecords) return;
    const used = this.#usedNodes();
    let added = 0;
    for (let each = 1; each < this.nodes; each += 1) {
      if (this.isLive(each) || !used(each)) continue;
      const node = this.node(each);
      if (node?.kind !== NODE_KIND.leaf) continue;
      this.#mark(each);
      added += 1;
    }
    if (!head) this.notes.push(`The head of the ${this.title} is damaged; its nodes were looked for one by one.`);
    else if (added > 0 || !sound)
      this.notes.push(`The ${this.title} does not hold together; what its nodes say was read node by node, and some of it may be missing.`);
  }

  /**
   * Reads leaves for following their chain: all of them beforehand, in the order of the file, because a chain that was split many times leads to and
   * fro on the drive; one by one in a file too large for that.
   */
  #leafReader(): (number: number) => ChainLink | null {
    if (this.nodes * this.nodeSize > MOST_READ_BEFOREHAND) return (number) => readLink(this.bytes(number));
    const next = new Uint32Array(this.nodes);
    // One more than its records; 0: it is no leaf.
    const counts = new Uint16Array(this.nodes);
    const damaged = new Set<number>();
    for (const { number, bytes } of this.inOrder(1, this.nodes, undefined, new Uint8Array(READ_AHEAD))) {
      const leaf = readLink(bytes);
      if (!leaf) continue;
      next[number] = leaf.next;
      counts[number] = leaf.records + 1;
      if (leaf.damaged) damaged.add(number);
    }
    return (number) => {
      const count = counts[number] as number;
      return count === 0 ? null : { next: next[number] as number, records: count - 1, damaged: damaged.has(number) };
    };
  }

  /** Which nodes the tree's own map has in use; where the map is gone, all may be. */
  #usedNodes(): (number: number) => boolean {
    const parts: { readonly first: number; readonly bytes: Uint8Array }[] = [];
    let first = 0;
    let next = 0;
    for (let count = 0; count < MOST_MAP_NODES && first < this.nodes; count += 1) {
      const node = this.node(next);
      const wanted = count === 0 ? NODE_KIND.header : NODE_KIND.map;
      if (node?.kind !== wanted) break;
      const from = count === 0 ? HEADER_MAP_AT : NODE.size;
      const bytes = node.cursor.bytes.subarray(from, this.nodeSize - (count === 0 ? 8 : 4));
      parts.push({ first, bytes });
      first += bytes.length * 8;
      if (node.next === 0 || node.next === next) break;
      next = node.next;
    }
    return (number) => {
      const part = parts.findLast((each) => each.first <= number);
      const byte = part?.bytes[(number - part.first) >>> 3];
      return byte === undefined || ((byte >>> (7 - ((number - (part?.first ?? 0)) & 7))) & 1) === 1;
    };
  }

  /** The live leaves, in the order of the file. @param into as of `inOrder` */
  *leaves(from = 0, to = this.nodes, into: Uint8Array | null = null): Generator<TreeNode, void, void> {
    for (const { number, bytes } of this.inOrder(from, to, (each) => this.isLive(each), into)) {
      const node = parseNode(bytes, number);
      if (node?.kind === NODE_KIND.leaf) yield node;
    }
  }

  /**
   * The bytes of node after node, whatever they are, many of them read at once.
   * @param wanted whether a node need be read
   * @param into where they are read to: what is given is valid until the next is asked for then
   */
  *inOrder(
    from: number,
    to = this.nodes,
    wanted: (number: number) => boolean = () => true,
    into: Uint8Array | null = null,
  ): Generator<{ readonly number: number; readonly bytes: Uint8Array }, void, void> {
    const { nodeSize } = this;
    const end = Math.min(to, this.nodes);
    for (let next = from; next < end; ) {
      if (!wanted(next)) {
        next += 1;
        continue;
      }
      const first = next;
      const count = Math.min(READ_AHEAD / nodeSize, end - first);
      const read = into?.subarray(0, count * nodeSize) ?? new Uint8Array(count * nodeSize);
      this.file.read(first * nodeSize, read);
      for (; next < first + count; next += 1)
        if (wanted(next)) yield { number: next, bytes: read.subarray((next - first) * nodeSize, (next - first + 1) * nodeSize) };
    }
  }
}

function readHead(file: ByteSource) {
  const bytes = readBytes(file, 0, 512);
  const cursor = new Cursor(bytes);
  if (NODE.read(cursor, 0).kind !== NODE_KIND.header) return null;
  const head = TREE_HEADER.read(cursor, NODE.size);
  return NODE_SIZES.some((size) => size === head.nodeSize) && head.nodeSize <= file.size ? head : null;
}

/** The size at which most of the first nodes make sense. */
function guessNodeSize(file: ByteSource): number | null {
  let best: { size: number; share: number } | null = null;
  for (const size of NODE_SIZES) {
    const tried = Math.min(MOST_TRIED, Math.floor(file.size / size) - 1);
    let sound = 0;
    let leaves = 0;
    for (let number = 1; number <= tried; number += 1) {
      const node = parseNode(readBytes(file, number * size, size), number);
      if (node && !node.damaged && node.starts.length > 1) {
        sound += 1;
        if (node.kind === NODE_KIND.leaf) leaves += 1;
      }
    }
    if (leaves === 0) continue;
    const share = sound * size;
    if (!best || share > best.share) best = { size, share };
  }
  return best?.size ?? null;
}

/** Which leaves may hold the records of a number: by the number that each leaf's first record has. */
export class LeafIndex {
  readonly #first: Uint32Array;
  readonly #node: Uint32Array;

  /** @param numberAt where the number stands in a key (bytes from the record's beginning) */
  constructor(
    private readonly tree: Pick<BTree, "leaves" | "node">,
    numberAt: number,
  ) {
    const found: { first: number; node: number }[] = [];
    for (const leaf of tree.leaves()) {
      if (leaf.starts.length < 2 || (leaf.starts[1] as number) < NODE.size + numberAt + 4) continue;
      found.push({ first: leaf.cursor.u32be(NODE.size + numberAt), node: leaf.number });
    }
    found.sort((a, b) => a.first - b.first || a.node - b.node);
    this.#first = Uint32Array.from(found, ({ first }) => first);
    this.#node = Uint32Array.from(found, ({ node }) => node);
  }

  get empty(): boolean {
    return this.#first.length === 0;
  }

  /** Leaves whose records may have the number: the last one that begins before it, and those that begin with it. */
  *leavesOf(number: number): Generator<TreeNode, void, void> {
    let low = 0;
    let high = this.#first.length;
    while (low < high) {
      const middle = (low + high) >>> 1;
      if ((this.#first[middle] as number) < number) low = middle + 1;
      else high = middle;
    }
    for (let index = Math.max(0, low - 1); index < this.#first.length && (this.#first[index] as number) <= number; index += 1) {
      const node = this.tree.node(this.#node[index] as number);
      if (node) yield node;
    }
  }
}
