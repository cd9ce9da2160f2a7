import type { Cursor } from "../../bytes/cursor";
import { KEY_SIZE, NODE, NODE_FLAG, TREE_INFO_SIZE } from "./layout";
import type { ApfsObject } from "./objects";

const MOST_LEVELS = 16;
/** The value of an entry that leads to a node below; in the tree of files of a sealed volume a hash follows (`btn_index_node_val_t`). */
const CHILD_SIZE = 8;
const CHILD_HASH_SIZE = 32;

/** A stretch of a node's bytes. */
export interface Stretch {
  readonly at: number;
  readonly length: number;
}

/** A node of a tree; keys and values are stretches of its bytes. */
export interface TreeNode {
  readonly paddr: number;
  readonly oid: number;
  readonly xid: number;
  readonly cursor: Cursor;
  readonly level: number;
  readonly leaf: boolean;
  readonly keys: readonly Stretch[];
  readonly values: readonly Stretch[];
}

/** Sizes in trees whose keys and values all have the same. */
export interface FixedSizes {
  readonly key: number;
  readonly value: number;
  /** Bytes that a leaf's value must have: 0 where entries without one count. */
  readonly least: number;
}

/** Reads a node (`btree_node_phys_t`); null: the object is none, or contradicts itself. Entries that lie outside the node, or are too short to be any, are left out. */
export function parseNode(object: ApfsObject, fixed: FixedSizes | null): TreeNode | null {
  const { cursor } = object;
  if (cursor.size < NODE.size) return null;
  const { flags, level, count, tableOffset, tableLength } = NODE.read(cursor, 0);
  const leaf = (flags & NODE_FLAG.leaf) !== 0;
  const isFixed = (flags & NODE_FLAG.fixed) !== 0;
  if (level > MOST_LEVELS || leaf !== (level === 0) || (isFixed && !fixed)) return null;
  const tableAt = NODE.size + tableOffset;
  const keysAt = tableAt + tableLength;
  const valuesEnd = cursor.size - ((flags & NODE_FLAG.root) !== 0 ? TREE_INFO_SIZE : 0);
  const width = isFixed ? 4 : 8;
  if (keysAt > valuesEnd || count * width > tableLength) return null;
  const keys: Stretch[] = [];
  const values: Stretch[] = [];
  for (let index = 0; index < count; index += 1) {
    const at = tableAt + index * width;
    const key = { at: keysAt + cursor.u16(at), length: isFixed ? (fixed as FixedSizes).key : cursor.u16(at + 2) };
    const back = cursor.u16(at + (isFixed ? 2 : 4));
    // An entry without a value has a place that is none.
    const ghost = back === 0xffff;
    const length = isFixed ? (leaf ? (fixed as FixedSizes).value : 8) : cursor.u16(at + 6);
    const value = ghost ? { at: valuesEnd, length: 0 } : { at: valuesEnd - back, length };
    if (key.at + key.length > valuesEnd || value.at < keysAt || value.at + value.length > valuesEnd) continue;
    if (key.length < (fixed?.key ?? KEY_SIZE) || value.length < (leaf ? (fixed?.least ?? 0) : CHILD_SIZE)) continue;
    keys.push(key);
    values.push(value);
  }
  return { paddr: object.paddr, oid: object.oid, xid: object.xid, cursor, level, leaf, keys, values };
}

/** Compares the key of an entry with what is looked for: below 0 when the key comes before it. */
export type Compare = (node: TreeNode, index: number) => number;

/** A node by its number, and the hash that its block must have where the tree keeps hashes. */
export interface NodeLink {
  readonly oid: number;
  readonly hash: Uint8Array | null;
}

interface TreeWalk {
  readonly low: Compare | null;
  readonly high: Compare | null;
  readonly lost: ((link: NodeLink) => void) | null;
}

/** A tree whose nodes are read by their numbers. What cannot be read is passed by. */
export class Tree {
  constructor(
    private readonly root: NodeLink,
    /** The node of a number; null: it cannot be read. */
    private readonly node: (link: NodeLink) => TreeNode | null,
    /** The number that those of nodes below are counted from. */
    private readonly base = 0,
  ) {}

  /**
   * The leaves whose entries may lie between two bounds, in order. Without bounds all.
   * @param lost is called with nodes that should be there and are not, or are damaged
   */
  leaves(low: Compare | null = null, high: Compare | null = null, lost: ((link: NodeLink) => void) | null = null): Iterable<TreeNode> {
    return this.#below(this.root, MOST_LEVELS + 1, { low, high, lost });
  }

  *#below(link: NodeLink, level: number, walk: TreeWalk): Generator<TreeNode, void, void> {
    const { low, high, lost } = walk;
    const node = this.node(link);
    // A node that lies no lower than the one above it would run in a circle.
    if (!node || node.level >= level) {
      lost?.(link);
      return;
    }
    if (node.leaf) {
      yield node;
      return;
    }
    const last = node.keys.length - 1;
    for (let index = low ? lastBefore(node, low) : 0; index <= last; index += 1) {
      if (high && high(node, index) > 0) return;
      yield* this.#below(childOf(node, index, this.base), node.level, walk);
    }
  }

  /** The entry with the greatest key that does not come after what is looked for; null: there is none. */
  find(compare: Compare): { node: TreeNode; index: number } | null {
    let link = this.root;
    for (let level = MOST_LEVELS + 1; level > 0; ) {
      const node = this.node(link);
      if (!node || node.level >= level) return null;
      const index = lastNotAfter(node, compare);
      if (index < 0) return null;
      if (node.leaf) return { node, index };
      level = node.level;
      link = childOf(node, index, this.base);
    }
    return null;
  }
}

/** What an entry of a node that is no leaf leads to. @param base the number that the entry's counts from */
export function childOf({ cursor, values }: TreeNode, index: number, base: number): NodeLink {
  const { at, length } = values[index] as Stretch;
  const hash = length === CHILD_SIZE + CHILD_HASH_SIZE ? cursor.slice(at + CHILD_SIZE, CHILD_HASH_SIZE) : null;
  return { oid: base + cursor.u64(at), hash };
}

/** The last entry whose key is not after what is looked for; -1: all are. */
function lastNotAfter(node: TreeNode, compare: Compare): number {
  let low = 0;
  let high = node.keys.length;
  while (low < high) {
    const middle = (low + high) >>> 1;
    if (compare(node, middle) <= 0) low = middle + 1;
    else high = middle;
  }
  return low - 1;
}

/** The last entry whose key comes before what is looked for; the first one when none does. */
function lastBefore(node: TreeNode, compare: Compare): number {
  let low = 0;
  let high = node.keys.length;
  while (low < high) {
    const middle = (low + high) >>> 1;
    if (compare(node, middle) < 0) low = middle + 1;
    else high = middle;
  }
  return Math.max(0, low - 1);
}
