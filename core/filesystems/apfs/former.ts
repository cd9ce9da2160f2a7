import { readBytes } from "../../bytes/byte-source";
import { RangeSet } from "../../bytes/range-set";
import type { FileRecord } from "../file-record";
import type { Ground } from "../ground";
import type { LeftoverScan, LeftoverUnits } from "../leftovers";
import { FileDescriber, noState } from "./describe-file";
import { EarlierRecords } from "./earlier";
import { describeGone, type GoneFile, goneFiles, UNKNOWN_PARENT } from "./gone";
import { OBJECT_TYPE, PRIVATE_FOLDER, RECORD_TYPE, ROOT_FOLDER } from "./layout";
import { isSound, toObject } from "./objects";
import { isHashed, shownName, typeOf } from "./records";
import { isFileTreeNode } from "./state";
import { parseNode, type TreeNode } from "./tree";

/** Bytes of a block: the least, and the most that are looked for. */
const BLOCK_SIZES = [4096, 8192, 16_384, 32_768, 65_536];
/** Nodes kept in mind at most. */
const MOST_NODES = 1_000_000;
const MOST_DEPTH = 512;
/** Where an object has its type, in its lowest byte (`o_type`, `o_subtype`). */
const [TYPE_AT, SUBTYPE_AT] = [24, 28];

/**
 * Finds nodes of trees of files in a volume that is of another kind now. Which of several volumes of a container they belonged to is not known any
 * more; the latest of them tell of files as they were last.
 */
class TreeNodes implements LeftoverScan {
  readonly head = Math.max(...BLOCK_SIZES);
  readonly #found: { readonly at: number; readonly blockSize: number }[] = [];

  constructor(private readonly ground: Ground) {}

  note(block: Uint8Array, inside: number, at: number): boolean {
    const kind = block[inside + TYPE_AT];
    if (block[inside + SUBTYPE_AT] !== OBJECT_TYPE.fileTree || (kind !== OBJECT_TYPE.treeNode && kind !== OBJECT_TYPE.treeRoot))
      return false;
    if (this.#found.length >= MOST_NODES || !this.ground.isFree(at)) return false;
    const blockSize = BLOCK_SIZES.find(
      (size) => inside + size <= block.length && nodeIn(block.subarray(inside, inside + size), 0)?.leaf === true,
    );
    if (blockSize === undefined) return false;
    this.#found.push({ at, blockSize });
    return true;
  }

  found(): LeftoverUnits {
    const { ground } = this;
    const blockSize = this.#found[0]?.blockSize ?? (BLOCK_SIZES[0] as number);
    const earlier = new EarlierRecords(this.#areHashed());
    for (const node of this.#nodes()) earlier.take(node);
    const nothing = { others: [], blockSize, live: () => null, liveExtents: () => [], ownership: () => null };
    const files = goneFiles(earlier, nothing, []);
    const describer = new FileDescriber(ground.disk, ground.start, noState(blockSize, Math.floor(ground.volume.size / blockSize)), 0);
    const pathOf = (id: number, depth = 0): string => {
      if (id === ROOT_FOLDER) return "";
      const [name] = depth > MOST_DEPTH || id === PRIVATE_FOLDER ? [] : earlier.names(id);
      return name ? `${pathOf(name.parentId, depth + 1)}/${shownName(name.name)}` : UNKNOWN_PARENT;
    };
    const describe = (file: GoneFile): FileRecord => {
      const { version, extents, taken } = file;
      const record = describer.describe(version, extents, (layout) => ground.evidence(layout, RangeSet.from(taken), blockSize));
      return describeGone(record, file, pathOf);
    };
    return { count: files.length, describe: (unit) => [describe(files[unit] as GoneFile)] };
  }

  *#nodes(): Generator<TreeNode, void, void> {
    for (const { at, blockSize } of this.#found) {
      const node = nodeIn(readBytes(this.ground.volume, at, blockSize), at / blockSize);
      if (node) yield node;
    }
  }

  /** Whether names stand in keys with a hash before them: as most say. */
  #areHashed(): boolean {
    let balance = 0;
    for (const node of this.#nodes())
      for (let index = 0; index < node.keys.length; index += 1) {
        const hashed = typeOf(node, index) === RECORD_TYPE.entry ? isHashed(node, index) : null;
        if (hashed !== null) balance += hashed ? 1 : -1;
      }
    return balance >= 0;
  }
}

function nodeIn(bytes: Uint8Array, paddr: number): TreeNode | null {
  const object = toObject(bytes, paddr);
  return isFileTreeNode(object) && isSound(bytes) ? parseNode(object, null) : null;
}

/** Finds what APFS has left in a volume that is of another kind now. */
export const formerApfs = (ground: Ground): LeftoverScan => new TreeNodes(ground);
