import type { ByteSource } from "../../../bytes/byte-source";
import { blockHeaders, readBlock, type SnapshotStore } from "./catalog";
import { BLOCK, DESCRIPTOR, descriptor, RECORD, readBlockHeader } from "./layout";

/** Blocks of a store that are looked at for the rest of a broken list: 16 GiB. */
const MOST_LOOKED_AT = 1_000_000;
/** Descriptors of one store that are kept: 64 GiB of kept blocks. More of them would be an attack on memory. */
const MOST_DESCRIPTORS = 4_000_000;

/** Sectors of one block that stand elsewhere: a bit each, lowest first. */
export interface Overlay {
  readonly sectors: number;
  /** Volume byte offset. */
  readonly data: number;
}

/** What a store keeps, by the numbers of blocks of the volume. */
export interface BlockList {
  /** Volume byte offset of the kept data. */
  readonly kept: ReadonlyMap<number, number>;
  /** The block to which its content had been moved: it is looked for there in the next store. */
  readonly moved: ReadonlyMap<number, number>;
  readonly overlays: ReadonlyMap<number, readonly Overlay[]>;
  /** A part of it cannot be read: of a block that it does not name nothing is known. */
  readonly incomplete: boolean;
}

/** Reads the list of the blocks that a store keeps. */
export function readBlockList(volume: ByteSource, store: SnapshotStore): BlockList {
  const reading = new Reading(volume.size);
  const seen = new Set<number>();
  let broken = store.blockList === null;
  const follow = (from: number) => {
    for (let at = from; at !== 0 && !seen.has(at); ) {
      const block = readBlock(volume, at);
      const header = block && readBlockHeader(block);
      if (!block || header?.type !== RECORD.blockList || reading.full) {
        broken = true;
        return;
      }
      seen.add(at);
      for (let place = DESCRIPTOR.first; place + DESCRIPTOR.size <= BLOCK; place += DESCRIPTOR.size)
        reading.take(descriptor.read(block, place));
      at = header.next;
    }
  };
  if (store.blockList) follow(store.blockList);
  // Behind a block of the list that is lost the later ones still stand in the store's file.
  if (broken) for (const at of listBlocks(volume, store)) follow(at);
  return { kept: reading.kept, moved: reading.moved, overlays: reading.overlays, incomplete: broken || reading.odd };
}

/** The blocks of the list that stand in the store's file, in its order. */
function listBlocks(volume: ByteSource, { ranges }: SnapshotStore): number[] {
  const found: { at: number; relative: number }[] = [];
  for (const { at, header } of blockHeaders(volume, ranges, MOST_LOOKED_AT))
    if (header.type === RECORD.blockList) found.push({ at, relative: header.relative });
  return found.sort((a, b) => a.relative - b.relative).map(({ at }) => at);
}

class Reading {
  readonly kept = new Map<number, number>();
  readonly moved = new Map<number, number>();
  readonly overlays = new Map<number, Overlay[]>();
  /** Something in it cannot be. */
  odd = false;
  /** Of the moved: from where they went to the block they came from. */
  readonly #movedTo = new Map<number, number>();
  #count = 0;

  constructor(private readonly volumeSize: number) {}

  get full(): boolean {
    return this.#count >= MOST_DESCRIPTORS;
  }

  take({
    original,
    target,
    data,
    flags,
    sectors,
  }: {
    original: number;
    target: number;
    data: number;
    flags: number;
    sectors: number;
  }): void {
    if ((original === 0 && target === 0 && data === 0) || flags & DESCRIPTOR.unused) return;
    this.#count += 1;
    const block = original / BLOCK;
    const forwards = (flags & DESCRIPTOR.forwarder) !== 0;
    const to = forwards ? target : data;
    const fits = (at: number) => at >= 0 && at + 512 <= this.volumeSize;
    if (!Number.isInteger(block) || !fits(original) || !fits(to) || (forwards && to % BLOCK !== 0)) {
      this.odd = true;
      return;
    }
    if (flags & DESCRIPTOR.overlay) {
      const overlays = this.overlays.get(block) ?? [];
      overlays.push({ sectors, data });
      this.overlays.set(block, overlays);
    } else if (forwards) this.#move(block, to / BLOCK);
    else this.#keep(block, data);
  }

  /** A block to which another one had been moved keeps that one's content: it was overwritten after the move. */
  #keep(block: number, data: number): void {
    const from = this.#movedTo.get(block);
    if (from === undefined) {
      if (!this.kept.has(block)) this.kept.set(block, data);
      return;
    }
    this.#movedTo.delete(block);
    this.moved.delete(from);
    this.kept.set(from, data);
  }

  #move(block: number, to: number): void {
    // Moved on: it is still the content of the block it came from first.
    const from = this.#movedTo.get(block) ?? block;
    this.#movedTo.delete(block);
    this.moved.set(from, to);
    this.#movedTo.set(to, from);
  }
}
