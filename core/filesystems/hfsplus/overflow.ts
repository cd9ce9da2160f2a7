import { Cursor } from "../../bytes/cursor";
import { type BTree, parseNode, type TreeNode } from "./b-tree";
import { type Extent, type Fork, readExtents } from "./catalog-record";
import { EXTENT_KEY, EXTENT_SIZE, EXTENTS_IN_RECORD } from "./layout";

/** Extents kept in mind at most: files of very many pieces beyond that are read as far as known. */
const MOST_EXTENTS = 8_000_000;

/** The further extents of files in more than eight pieces: all that any record of the extents overflow file says. */
export class OverflowExtents {
  /** By file and fork: the first block in the file of each piece, then its extent. */
  readonly #live = new Map<string, Map<number, readonly Extent[]>>();
  readonly #remnants = new Map<string, Map<number, readonly Extent[]>>();
  #count = 0;

  /** Takes all records of a tree, those in unused space too. */
  static of(tree: BTree | null, totalBlocks: number): OverflowExtents {
    const overflow = new OverflowExtents();
    if (!tree) return overflow;
    for (const { number, bytes } of tree.inOrder(1)) {
      const node = tree.isLive(number) ? parseNode(bytes, number) : null;
      if (node) overflow.#takeNode(node, totalBlocks);
      overflow.takeRemnants(bytes, node ? node.free.from : 0, node ? node.free.to : bytes.length, totalBlocks);
    }
    return overflow;
  }

  #takeNode(node: TreeNode, totalBlocks: number): void {
    for (let index = 0; index + 1 < node.starts.length; index += 1)
      this.#take(this.#live, node.cursor, node.starts[index] as number, node.starts[index + 1] as number, totalBlocks);
  }

  /** Takes what stands in a stretch that holds no live records (any more). */
  takeRemnants(bytes: Uint8Array, from: number, to: number, totalBlocks: number): void {
    const cursor = new Cursor(bytes);
    for (let at = from; at + EXTENT_KEY.data + EXTENT_SIZE <= to; at += 2)
      if (bytes[at] === 0 && bytes[at + 1] === EXTENT_KEY.length) this.#take(this.#remnants, cursor, at, to, totalBlocks);
  }

  #take(into: Map<string, Map<number, readonly Extent[]>>, cursor: Cursor, at: number, to: number, totalBlocks: number): void {
    if (at + EXTENT_KEY.data + EXTENTS_IN_RECORD * EXTENT_SIZE > to || cursor.u16be(at) !== EXTENT_KEY.length) return;
    const extents = readExtents(cursor, at + EXTENT_KEY.data);
    if (extents.length === 0 || extents.some(({ start, count }) => start + count > totalBlocks)) return;
    if (this.#count >= MOST_EXTENTS) return;
    this.#count += extents.length;
    const key = `${cursor.u32be(at + EXTENT_KEY.fileID)} ${cursor.u8(at + EXTENT_KEY.forkType)}`;
    const pieces = into.get(key) ?? new Map<number, readonly Extent[]>();
    const first = cursor.u32be(at + EXTENT_KEY.startBlock);
    if (!pieces.has(first)) pieces.set(first, extents);
    into.set(key, pieces);
  }

  /** All extents of a fork; they end where the next piece is not known. Of a file that is gone, remnants may have what the tree does not. */
  extentsOf(fileID: number, forkType: number, fork: Fork, remnants: boolean): readonly Extent[] {
    let blocks = fork.extents.reduce((sum, { count }) => sum + count, 0);
    if (blocks >= fork.blocks || fork.extents.length < EXTENTS_IN_RECORD) return fork.extents;
    const key = `${fileID} ${forkType}`;
    const sources = [this.#live.get(key), ...(remnants ? [this.#remnants.get(key)] : [])];
    const all = [...fork.extents];
    while (blocks < fork.blocks) {
      const at = blocks;
      const piece = sources.flatMap((source) => source?.get(at) ?? []);
      if (piece.length === 0) break;
      for (const extent of piece.slice(0, EXTENTS_IN_RECORD)) {
        all.push(extent);
        blocks += extent.count;
      }
    }
    return all;
  }
}
