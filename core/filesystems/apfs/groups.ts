import { RECORD_TYPE } from "./layout";
import {
  type AttributeRecord,
  type Extent,
  type Inode,
  numberOf,
  parseAttribute,
  parseExtent,
  parseInode,
  parseSibling,
  typeOf,
} from "./records";
import type { TreeNode } from "./tree";

/** Records of one file that are taken at most, in all. */
const MOST_RECORDS = 4_000_000;

/** All that the tree of files says of one number. */
export interface Group {
  readonly id: number;
  readonly inode: Inode;
  readonly attributes: (AttributeRecord & { readonly paddr: number })[];
  readonly siblings: { readonly parentId: number; readonly name: Uint8Array }[];
  /** Of the data stream of the same number. */
  readonly extents: Extent[];
}

/** Adds a record to the group of its number. */
function add(group: Group, node: TreeNode, index: number): void {
  const type = typeOf(node, index);
  if (type === RECORD_TYPE.extent) {
    const extent = parseExtent(node, index);
    if (extent) group.extents.push(extent);
  } else if (type === RECORD_TYPE.attribute) {
    const attribute = parseAttribute(node, index);
    if (attribute) group.attributes.push({ ...attribute, paddr: node.paddr });
  } else if (type === RECORD_TYPE.sibling) {
    const sibling = parseSibling(node, index);
    if (sibling) group.siblings.push(sibling);
  }
}

/** The groups whose inode stands in a leaf. @param following the leaves after it, for a group that goes on there */
export function* groupsIn(node: TreeNode, following: Iterable<TreeNode>): Generator<Group, void, void> {
  let group: Group | null = null;
  for (let index = 0; index < node.keys.length; index += 1) {
    const id = numberOf(node, index);
    if (group && group.id !== id) {
      yield group;
      group = null;
    }
    if (typeOf(node, index) === RECORD_TYPE.inode) {
      const inode = parseInode(node, index);
      group = inode && { id, inode, attributes: [], siblings: [], extents: [] };
    } else if (group) add(group, node, index);
  }
  if (!group) return;
  let left = MOST_RECORDS;
  for (const next of following) {
    let index = 0;
    for (; index < next.keys.length && numberOf(next, index) === group.id && left > 0; index += 1, left -= 1) add(group, next, index);
    if (index < next.keys.length || left <= 0) break;
  }
  yield group;
}
