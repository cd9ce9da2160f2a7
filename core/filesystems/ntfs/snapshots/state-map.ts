import type { ByteSource } from "../../../bytes/byte-source";
import { type BlockList, readBlockList } from "./block-list";
import type { SnapshotStore } from "./catalog";
import { BLOCK } from "./layout";

const SECTOR = 512;

/**
 * How much is known of a stretch. "present": it is as it is now; "kept": a store of the catalog has it; "freed": a store has it whose blocks
 * are not its own any more; "later": a part of a list is lost, so that it may be of a later time; "loose": it is the present one, but nothing
 * kept what was written over since the last snapshot was deleted.
 */
export type Trust = "present" | "kept" | "freed" | "later" | "loose";

/** A stretch of a state: where it stands in the volume now, and how much is known of that. Bytes. */
export interface Piece {
  readonly at: number;
  readonly length: number;
  readonly trust: Trust;
}

/** Finds the blocks of a volume as they were: in the store of that time, in those after it, or where they are now. */
export class StateMap {
  readonly #lists: { readonly list: BlockList; readonly deleted: boolean }[];
  /** Nothing has kept what was written over since. */
  readonly isLoose: boolean;

  /** @param stores that of the state, and those after it, oldest first */
  constructor(volume: ByteSource, stores: readonly SnapshotStore[]) {
    this.#lists = stores.map((store) => ({ list: readBlockList(volume, store), deleted: store.deleted }));
    this.isLoose = stores.at(-1)?.deleted ?? false;
  }

  /** Whether a part of what its stores say is lost. */
  get incomplete(): boolean {
    return this.#lists.some(({ list }) => list.incomplete);
  }

  /** Where the stretch [at, at + length) of the state stands: pieces in its order. Volume byte offsets. */
  *pieces(at: number, length: number): Generator<Piece, void, void> {
    let open: { at: number; length: number; trust: Trust } | null = null;
    for (const piece of this.#inBlocks(at, at + length)) {
      if (open && open.at + open.length === piece.at && open.trust === piece.trust) open.length += piece.length;
      else {
        if (open) yield open;
        open = { ...piece };
      }
    }
    if (open) yield open;
  }

  *#inBlocks(start: number, end: number): Generator<Piece, void, void> {
    for (let at = start; at < end; ) {
      const block = Math.floor(at / BLOCK);
      const until = Math.min(end, (block + 1) * BLOCK);
      const overlays = this.#lists[0]?.list.overlays.get(block);
      const found = this.#find(block);
      if (!overlays) yield { at: found.at + at - block * BLOCK, length: until - at, trust: found.trust };
      else
        for (let inside = at - block * BLOCK; inside < until - block * BLOCK; ) {
          const sector = Math.floor(inside / SECTOR);
          const length = Math.min(until - block * BLOCK, (sector + 1) * SECTOR) - inside;
          const overlay = overlays.find(({ sectors }) => ((sectors >>> sector) & 1) === 1);
          const trust = this.#lists[0]?.deleted ? "freed" : "kept";
          yield overlay ? { at: overlay.data + inside, length, trust } : { at: found.at + inside, length, trust: found.trust };
          inside += length;
        }
      at = until;
    }
  }

  #find(wanted: number): { at: number; trust: Trust } {
    let block = wanted;
    let doubtful = false;
    for (const { list, deleted } of this.#lists) {
      const data = list.kept.get(block);
      if (data !== undefined) return { at: data, trust: doubtful ? "later" : deleted ? "freed" : "kept" };
      doubtful ||= list.incomplete;
      block = list.moved.get(block) ?? block;
    }
    return { at: block * BLOCK, trust: doubtful ? "later" : this.isLoose ? "loose" : "present" };
  }
}
