import { OBJECT_MAP, OBJECT_MAP_KEY, OBJECT_MAP_VALUE, OBJECT_TYPE } from "./layout";
import type { Objects } from "./objects";
import { parseNode, type Stretch, Tree, type TreeNode } from "./tree";

const SIZES = { key: OBJECT_MAP_KEY.size, value: OBJECT_MAP_VALUE.size, least: OBJECT_MAP_VALUE.size } as const;

/** Parsed nodes kept of a map. */
const MOST_NODES = 512;

/** Where virtual objects stand, as of any transaction. */
export class ObjectMap {
  readonly #tree: Tree;
  readonly #nodes = new Map<number, TreeNode>();

  private constructor(
    objects: Objects,
    root: number,
    /** Transactions after this one are not known to the map: what claims to be of one was written over it. */
    private readonly latest: number,
  ) {
    this.#tree = new Tree({ oid: root, hash: null }, ({ oid: paddr }) => this.#node(objects, paddr));
  }

  #node(objects: Objects, paddr: number): TreeNode | null {
    const known = this.#nodes.get(paddr);
    if (known) return known;
    const object = objects.read(paddr);
    const node = object && object.xid <= this.latest ? parseNode(object, SIZES) : null;
    if (!node) return null;
    if (this.#nodes.size >= MOST_NODES) this.#nodes.clear();
    this.#nodes.set(paddr, node);
    return node;
  }

  /** @returns null: there is no sound map of that time at the place */
  static open(objects: Objects, paddr: number, latest: number): ObjectMap | null {
    const object = objects.read(paddr);
    if (!object || object.type !== OBJECT_TYPE.objectMap || object.xid > latest || object.cursor.size < OBJECT_MAP.size) return null;
    return new ObjectMap(objects, OBJECT_MAP.read(object.cursor, 0).treeOid, latest);
  }

  /** The block of an object as of a transaction; null: it did not exist then, or is not known. */
  find(oid: number, xid = this.latest): number | null {
    const found = this.#tree.find((node, index) => compareKey(node, index, oid, xid));
    if (!found) return null;
    const { node, index } = found;
    const key = node.keys[index] as Stretch;
    const value = node.values[index] as Stretch;
    if (node.cursor.u64(key.at + OBJECT_MAP_KEY.oid) !== oid) return null;
    if ((node.cursor.u32(value.at + OBJECT_MAP_VALUE.flags) & OBJECT_MAP_VALUE.deleted) !== 0) return null;
    return node.cursor.u64(value.at + OBJECT_MAP_VALUE.paddr);
  }

  /** All objects that the map knows of any time: number and block. */
  *all(): Generator<{ readonly oid: number; readonly paddr: number }, void, void> {
    for (const node of this.#tree.leaves())
      for (let index = 0; index < node.keys.length; index += 1)
        yield {
          oid: node.cursor.u64((node.keys[index] as Stretch).at + OBJECT_MAP_KEY.oid),
          paddr: node.cursor.u64((node.values[index] as Stretch).at + OBJECT_MAP_VALUE.paddr),
        };
  }
}

function compareKey(node: TreeNode, index: number, oid: number, xid: number): number {
  const { at } = node.keys[index] as Stretch;
  const own = node.cursor.u64(at + OBJECT_MAP_KEY.oid);
  return own === oid ? node.cursor.u64(at + OBJECT_MAP_KEY.xid) - xid : own - oid;
}
