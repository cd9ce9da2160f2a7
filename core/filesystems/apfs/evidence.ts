import { readBytes } from "../../bytes/byte-source";
import type { Layout } from "../../bytes/layout";
import { type Range, RangeSet, without } from "../../bytes/range-set";
import type { AllocationMap } from "../allocation-map";
import type { ByteEvidence } from "../file-record";
import type { Container } from "./container";
import { OBJECT } from "./layout";
import { isSound, toObject } from "./objects";

/** Free blocks of one file that are looked into for what was written there since; of a larger file its content alone can prove the rest. */
export const MOST_LOOKED_INTO = 65_536;

/** Blocks that no list names are passed by so many at once. */
const UNOWNED_STEP = 64;

/** Where the blocks of a container stand, and which are in use. */
export interface ContainerBlocks {
  readonly container: Container;
  /** Disk byte offset of the container. */
  readonly start: number;
  readonly map: AllocationMap | null;
}

/** Whether a block in use is a stream's own still, and up to which block that goes for; null: no list of the volume names it. */
export type Ownership = (block: number, stream: number) => { readonly own: boolean; readonly end: number } | null;

/** A file that is gone, as the blocks know it: its data stream, and as of which transaction it was seen. */
export interface Claimant {
  readonly stream: number;
  readonly xid: number;
  /** Blocks that belonged to another file later. */
  readonly taken: readonly Range[];
  readonly ownership: Ownership;
}

/** What became of the blocks of a file that is gone: by the space manager, who owns them now, and what was written there since. */
export function goneEvidence(
  layout: Layout,
  { container, start, map }: ContainerBlocks,
  { stream, xid, taken, ownership }: Claimant,
): ByteEvidence {
  const { blockSize } = container.objects;
  const later = RangeSet.from(taken);
  let left = MOST_LOOKED_INTO;
  const foreign = new RangeSet();
  let [usedByOthers, takenBytes, shared, lost] = [0, 0, 0, 0];
  const judge = (at: number, length: number, plain: number | null) => {
    const first = Math.floor((at - start) / blockSize);
    const end = Math.floor((at - start + length - 1) / blockSize) + 1;
    let [used, gone] = [false, false];
    /** The bytes of a run of blocks that belong to the stretch; they are another's now. */
    const bytesOf = (from: number, to: number) => Math.min(at + length, start + to * blockSize) - Math.max(at, start + from * blockSize);
    const note = (from: number, to: number) =>
      foreign.add(Math.max(at, start + from * blockSize), Math.min(at + length, start + to * blockSize));
    const inUse = map?.usedWithin(first, end - first) ?? [];
    for (const range of inUse)
      for (let block = range.start; block < range.end; ) {
        const owned = ownership(block, stream);
        const next = Math.min(range.end, owned?.end ?? block + UNOWNED_STEP);
        if (owned?.own) shared += plain === null ? bytesOf(block, next) : 0;
        else {
          used = true;
          if (plain === null) usedByOthers += bytesOf(block, next);
          note(block, next);
        }
        block = next;
      }
    const free = without({ start: first, end }, inUse);
    const goneNow = (from: number, to: number) => {
      gone = true;
      if (plain === null) takenBytes += bytesOf(from, to);
      note(from, to);
    };
    for (const range of free) {
      const claimed = later.within(range.start, range.end);
      for (const each of claimed) goneNow(each.start, each.end);
      for (const rest of without(range, claimed))
        for (let block = rest.start; block < rest.end && left > 0; block += 1, left -= 1)
          if (writtenSince(container, block, xid)) goneNow(block, block + 1);
    }
    // One lost byte spoils all that is coded after it.
    if (plain !== null && used) usedByOthers += plain;
    else if (plain !== null && gone) takenBytes += plain;
  };
  for (const segment of layout.segments) {
    if (segment.kind === "lost") lost += segment.length;
    else if (segment.kind === "disk") judge(segment.at, segment.length, null);
    else if (segment.kind === "coded" && !segment.held) for (const run of segment.from) judge(run.at, run.length, segment.length);
  }
  return { usedByOthers, takenLater: takenBytes, ...(shared > 0 ? { shared } : {}), lost, foreign: foreign.ranges };
}

/** Whether a free block holds an object of the container's own that was written after a transaction. */
function writtenSince(container: Container, block: number, xid: number): boolean {
  const { volume, blockSize } = container.objects;
  const { newest } = container;
  const head = toObject(readBytes(volume, block * blockSize, OBJECT.size), block);
  if (head.xid <= xid || head.xid > newest.xid || head.oid === 0 || head.oid >= newest.facts.nextOid + newest.facts.blockCount)
    return false;
  return isSound(readBytes(volume, block * blockSize, blockSize));
}
