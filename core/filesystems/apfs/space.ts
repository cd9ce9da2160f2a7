import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { type Range, RangeSet } from "../../bytes/range-set";
import { AllocationMap } from "../allocation-map";
import type { Checkpoint, Container } from "./container";
import { CHUNK_INFO, CHUNK_INFO_BLOCK, OBJECT_TYPE, SPACE_MANAGER } from "./layout";
import { parseNode, type Stretch, Tree } from "./tree";

/** Chunks of a container at most: 2^23 of 128 MiB are a petabyte. */
const MOST_CHUNKS = 1 << 23;
const MOST_QUEUED = 4_000_000;

interface ChunkMap {
  /** Blocks in a chunk. */
  readonly blocks: number;
  /** Of each chunk where its bitmap stands; 0: all is free. */
  readonly bitmaps: Float64Array;
}

/** Which blocks of a container are in use: by the space manager, less those that wait to be freed. null: it cannot be read. */
export function readAllocation(container: Container, checkpoint: Checkpoint): AllocationMap | null {
  const { objects } = container;
  const ephemeral = container.ephemeral(checkpoint);
  const manager = objects.read(ephemeral.get(checkpoint.facts.spaceManagerOid) ?? 0);
  if (manager?.type !== OBJECT_TYPE.spaceManager || manager.cursor.size < SPACE_MANAGER.size) return null;
  const facts = SPACE_MANAGER.read(manager.cursor, 0);
  const { blocksPerChunk, chunkCount, infoCount, addressesCount, addressOffset } = facts;
  if (blocksPerChunk === 0 || blocksPerChunk % 8 !== 0 || chunkCount > MOST_CHUNKS || infoCount > chunkCount) return null;
  const bitmaps = new Float64Array(chunkCount);
  const addressesAt = (cursor: typeof manager.cursor, at: number, count: number) =>
    Array.from({ length: Math.min(count, Math.floor((cursor.size - at) / 8)) }, (_, index) => cursor.u64(at + index * 8));
  const inManager = addressesAt(manager.cursor, addressOffset, addressesCount || infoCount);
  const infos = addressesCount
    ? inManager.flatMap((paddr) => {
        const block = objects.read(paddr);
        if (block?.type !== OBJECT_TYPE.chunkInfoAddresses) return [];
        return addressesAt(block.cursor, CHUNK_INFO_BLOCK.size, CHUNK_INFO_BLOCK.read(block.cursor, 0).count);
      })
    : inManager;
  if (infos.length < infoCount) return null;
  for (const paddr of infos) {
    const block = objects.read(paddr);
    if (block?.type !== OBJECT_TYPE.chunkInfo) return null;
    const { count } = CHUNK_INFO_BLOCK.read(block.cursor, 0);
    for (let index = 0; index < count; index += 1) {
      const at = CHUNK_INFO_BLOCK.size + index * CHUNK_INFO.size;
      if (at + CHUNK_INFO.size > block.cursor.size) break;
      const { address, bitmap } = CHUNK_INFO.read(block.cursor, at);
      const chunk = address / blocksPerChunk;
      if (Number.isInteger(chunk) && chunk < chunkCount) bitmaps[chunk] = bitmap;
    }
  }
  const queued = freeQueue(container, ephemeral.get(facts.queueTreeOid) ?? null);
  return new AllocationMap(
    new ChunkBits(objects.volume, objects.blockSize, { blocks: blocksPerChunk, bitmaps }, queued),
    objects.blockCount,
  );
}

/** Blocks that were given up and are not marked as free yet. */
function freeQueue({ objects }: Container, root: number | null): RangeSet {
  const queued: Range[] = [];
  if (root !== null) {
    // Keys are a transaction and a block, values the number of blocks; without a value it is one.
    const tree = new Tree({ oid: root, hash: null }, ({ oid: paddr }) => {
      const object = objects.read(paddr);
      return object && parseNode(object, { key: 16, value: 8, least: 0 });
    });
    for (const node of tree.leaves())
      for (let index = 0; index < node.keys.length && queued.length < MOST_QUEUED; index += 1) {
        const start = node.cursor.u64((node.keys[index] as Stretch).at + 8);
        const value = node.values[index] as Stretch;
        const count = value.length >= 8 ? node.cursor.u64(value.at) : 1;
        if (start < objects.blockCount && count <= objects.blockCount) queued.push({ start, end: start + count });
      }
  }
  return RangeSet.from(queued.sort((a, b) => a.start - b.start));
}

/** The bitmaps of all chunks as one, with the blocks cleared that wait to be freed. */
class ChunkBits implements ByteSource {
  readonly size: number;

  constructor(
    private readonly volume: ByteSource,
    private readonly blockSize: number,
    private readonly chunks: ChunkMap,
    private readonly queued: RangeSet,
  ) {
    this.size = (chunks.bitmaps.length * chunks.blocks) / 8;
  }

  read(at: number, into: Uint8Array): void {
    into.fill(0);
    const bytes = this.chunks.blocks / 8;
    const end = Math.min(this.size, at + into.length);
    for (let from = at; from < end; ) {
      const chunk = Math.floor(from / bytes);
      const inside = from - chunk * bytes;
      const part = Math.min(bytes - inside, end - from);
      const bitmap = this.chunks.bitmaps[chunk] as number;
      if (bitmap !== 0) into.set(readBytes(this.volume, bitmap * this.blockSize + inside, part), from - at);
      from += part;
    }
    for (const { start, end: stop } of this.queued.within(at * 8, end * 8))
      for (let block = start; block < stop; block += 1) {
        const byte = (block >>> 3) - at;
        into[byte] = (into[byte] as number) & ~(1 << (block & 7));
      }
  }

  unreadable(): Range[] {
    return [];
  }
}
