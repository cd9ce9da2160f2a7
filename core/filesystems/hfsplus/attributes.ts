import type { Layout } from "../../bytes/layout";
import { type BTree, LeafIndex } from "./b-tree";
import { type Extent, type Fork, readExtents, readFork, shownName } from "./catalog-record";
import { ATTRIBUTE_FORK_AT, ATTRIBUTE_INLINE, ATTRIBUTE_KEY, ATTRIBUTE_TYPE, FORK, MOST_NAME } from "./layout";

/** Extended attributes of one file at most. */
const MOST_ATTRIBUTES = 1024;

/** An extended attribute of a file. */
export interface Attribute {
  readonly name: string;
  readonly size: number;
  /** Its bytes where they stand in the record; null: they stand in blocks of their own. */
  readonly held: { readonly bytes: Uint8Array; readonly at: number } | null;
  readonly layout: Layout;
}

/** Extended attributes by the number of their file or folder. */
export class Attributes {
  readonly #index: LeafIndex | null;

  /**
   * @param placeOf disk byte offset of a byte of the attributes file
   * @param layoutOf where the bytes of a fork stand, given all its extents
   */
  constructor(
    private readonly tree: BTree | null,
    private readonly placeOf: (at: number) => number,
    private readonly layoutOf: (fork: Fork, extents: readonly Extent[]) => Layout,
  ) {
    this.#index = tree ? new LeafIndex(tree, ATTRIBUTE_KEY.fileID) : null;
  }

  /** Stretches of attributes that stand in blocks of their own. */
  *forks(): Generator<{ readonly extents: readonly Extent[] }, void, void> {
    for (const { cursor, starts } of this.tree?.leaves() ?? [])
      for (let index = 0; index + 1 < starts.length; index += 1) {
        const [at, to] = [starts[index] as number, starts[index + 1] as number];
        const data = at + 2 + cursor.u16be(at);
        if (data + ATTRIBUTE_FORK_AT + FORK.size > to) continue;
        const type = cursor.u32be(data);
        if (type === ATTRIBUTE_TYPE.fork) yield readFork(cursor, data + ATTRIBUTE_FORK_AT);
        else if (type === ATTRIBUTE_TYPE.extents) yield { extents: readExtents(cursor, data + ATTRIBUTE_FORK_AT) };
      }
  }

  of(fileID: number): Attribute[] {
    if (!this.#index || this.#index.empty || !this.tree) return [];
    const found: Attribute[] = [];
    const further = new Map<string, { first: number; extents: readonly Extent[] }[]>();
    const forks: { name: string; fork: Fork }[] = [];
    for (const node of this.#index.leavesOf(fileID)) {
      const { cursor, starts } = node;
      for (let index = 0; index + 1 < starts.length && found.length + forks.length < MOST_ATTRIBUTES; index += 1) {
        const [at, to] = [starts[index] as number, starts[index + 1] as number];
        if (at + ATTRIBUTE_KEY.name > to || cursor.u32be(at + ATTRIBUTE_KEY.fileID) !== fileID) continue;
        const characters = cursor.u16be(at + ATTRIBUTE_KEY.nameLength);
        const data = at + 2 + cursor.u16be(at);
        if (characters > MOST_NAME || at + ATTRIBUTE_KEY.name + 2 * characters > data || data + 4 > to) continue;
        const name = shownName(cursor.slice(at + ATTRIBUTE_KEY.name, 2 * characters));
        const type = cursor.u32be(data);
        if (type === ATTRIBUTE_TYPE.inline && data + ATTRIBUTE_INLINE.data <= to) {
          const size = cursor.u32be(data + ATTRIBUTE_INLINE.size);
          const bytes = cursor.slice(data + ATTRIBUTE_INLINE.data, Math.min(size, to - data - ATTRIBUTE_INLINE.data)).slice();
          const place = this.placeOf(node.number * this.tree.nodeSize + data + ATTRIBUTE_INLINE.data);
          const layout: Layout = { size: bytes.length, segments: [{ kind: "held", at: place, length: bytes.length, bytes }] };
          found.push({ name, size: bytes.length, held: { bytes, at: place }, layout });
        } else if (type === ATTRIBUTE_TYPE.fork && data + ATTRIBUTE_FORK_AT + FORK.size <= to)
          forks.push({ name, fork: readFork(cursor, data + ATTRIBUTE_FORK_AT) });
        else if (type === ATTRIBUTE_TYPE.extents && data + ATTRIBUTE_FORK_AT + 64 <= to)
          further.set(name, [
            ...(further.get(name) ?? []),
            { first: cursor.u32be(at + ATTRIBUTE_KEY.startBlock), extents: readExtents(cursor, data + ATTRIBUTE_FORK_AT) },
          ]);
      }
    }
    for (const { name, fork } of forks) {
      const rest = (further.get(name) ?? []).sort((a, b) => a.first - b.first).flatMap(({ extents }) => extents);
      found.push({ name, size: fork.size, held: null, layout: this.layoutOf(fork, [...fork.extents, ...rest]) });
    }
    return found;
  }
}
