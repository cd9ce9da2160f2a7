import { type ByteSource, readBytes } from "../../bytes/byte-source";
import type { FileRecord } from "../file-record";
import type { Ground } from "../ground";
import type { LeftoverScan, LeftoverUnits } from "../leftovers";
import { Attributes } from "./attributes";
import { NODE_SIZES, parseNode } from "./b-tree";
import { CatalogIndex, NO_TREE, recordsOf } from "./catalog-index";
import { FileDescriber, forkLayout } from "./files";
import { GoneFiles } from "./gone-files";
import { NODE, NODE_KIND } from "./layout";
import { OverflowExtents } from "./overflow";
import { Remnants } from "./remnants";

/** Bytes of blocks that are in use somewhere. */
const [SMALLEST_BLOCK, LARGEST_BLOCK] = [512, 65_536];

/** Nodes kept in mind at most. */
const MOST_NODES = 4_000_000;

interface Around {
  readonly volume: ByteSource;
  /** Disk byte offset of the volume. */
  readonly start: number;
  /** Of the present catalog; null: there is none. */
  readonly nodeSize: number | null;
  /** Numbers from this one on have not been given; without a present catalog it is not known. */
  readonly nextCatalogID: number;
  /** Whether nothing uses a place. Bytes from the volume's beginning. */
  isFree(at: number): boolean;
  units(remnants: Remnants): readonly (() => FileRecord[])[];
}

/** Finds nodes of a catalog in blocks nothing uses: of a file system that was there before, or of the present one before its catalog was moved. */
export class CatalogNodes implements LeftoverScan {
  readonly head: number;
  readonly #sizes: readonly number[];
  readonly #found: { at: number; size: number }[] = [];

  constructor(private readonly around: Around) {
    // Another file system may have had nodes of another size.
    this.#sizes = [...new Set([...(around.nodeSize === null ? [] : [around.nodeSize]), ...NODE_SIZES])];
    this.head = Math.max(...this.#sizes);
  }

  note(block: Uint8Array, inside: number, at: number): boolean {
    if (block[inside + 8] !== NODE_KIND.leaf || block[inside + 9] !== 1 || this.#found.length >= MOST_NODES) return false;
    if (!this.around.isFree(at)) return false;
    const size = this.#sizes.find((each) => {
      const node = inside + each <= block.length ? parseNode(block.subarray(inside, inside + each), 0) : null;
      return node && !node.damaged && node.starts.length > 1 && !recordsOf(node).next().done;
    });
    if (size === undefined) return false;
    this.#found.push({ at, size });
    return true;
  }

  found(): LeftoverUnits {
    const { volume, start, nextCatalogID } = this.around;
    // What an earlier file system has left may count in other blocks.
    const remnants = new Remnants({ nextCatalogID, blockSize: LARGEST_BLOCK, totalBlocks: Math.ceil(volume.size / SMALLEST_BLOCK) });
    for (const { at, size } of this.#found) remnants.take(readBytes(volume, at, size), NODE.size, size, start + at);
    const units = this.around.units(remnants);
    return { count: units.length, describe: (unit) => units[unit]?.() ?? [] };
  }
}

/** Finds what HFS Plus has left in a volume that is of another kind now. Its attributes, and pieces of files beyond the first eight, are not known. */
export function formerHfsPlus(ground: Ground): LeftoverScan {
  const blocks = { start: ground.start, blockSize: SMALLEST_BLOCK, count: Math.floor(ground.volume.size / SMALLEST_BLOCK) };
  const overflow = OverflowExtents.of(null, 0);
  const attributes = new Attributes(
    null,
    () => 0,
    (fork, extents) => forkLayout(blocks, fork, extents),
  );
  const gone = new GoneFiles({
    index: new CatalogIndex(NO_TREE),
    files: new FileDescriber(ground.disk, blocks, overflow, attributes),
    overflow,
    blockSize: SMALLEST_BLOCK,
    evidence: (layout, taken, unit) => ground.evidence(layout, taken, unit),
  });
  return new CatalogNodes({
    volume: ground.volume,
    start: ground.start,
    nodeSize: null,
    nextCatalogID: 2 ** 32,
    isFree: (at) => ground.isFree(at),
    units: (remnants) => gone.units(remnants, null, remnants.blockSize(null)),
  });
}
