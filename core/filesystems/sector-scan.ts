import type { ByteSource } from "../bytes/byte-source";
import type { Range } from "../bytes/range-set";

const STEP = 1 << 20;
/** What is noted begins at a multiple of this, in bytes. */
export const SECTOR = 512;

/** A step of a scan: bytes of the part that are done, and what was noted in this step (bytes from the volume's beginning). */
export interface ScanStep {
  readonly done: number;
  readonly noted: readonly number[];
}

/** What an earlier scan of the same part noted up to where this one goes on; bytes from the volume's beginning, ascending. */
export type Earlier = ArrayLike<number>;

/**
 * Goes through a part of a volume sector by sector, for things that begin with one. It can go on where an earlier scan ended:
 * what that one noted is read and noted again, what lies between is not.
 * @param head bytes from the beginning of a sector that `note` may look at
 * @param note whether what stands `inside` a block was taken note of; `at`: the same place in bytes from the volume's beginning
 * @param from bytes of the part that are done; `earlier`: what was noted in them, null to begin anew
 */
export function* scanSectors(
  volume: ByteSource,
  part: Range,
  head: number,
  note: (block: Uint8Array, inside: number, at: number) => boolean,
  from: number,
  earlier: Earlier | null,
): Generator<ScanStep, void, void> {
  const block = new Uint8Array(STEP + head);
  const readAt = (at: number) => {
    const bytes = block.subarray(0, Math.max(0, Math.min(block.length, volume.size - at)));
    volume.read(at, bytes);
    return bytes;
  };
  for (let index = 0; earlier && index < earlier.length; ) {
    const at = earlier[index] as number;
    const bytes = readAt(at);
    for (; index < earlier.length && (earlier[index] as number) < at + STEP; index += 1) {
      const inside = (earlier[index] as number) - at;
      if (inside >= 0 && inside + SECTOR <= bytes.length) note(bytes, inside, at + inside);
    }
  }
  const first = part.start - (part.start % SECTOR);
  // Begun anew, it has nothing to say until it is where the earlier one was: then it says all at once.
  let noted: number[] = [];
  const end = Math.min(part.end, volume.size);
  for (let at = first + (earlier ? from : 0); at < end; at += STEP) {
    const bytes = readAt(at);
    for (let inside = 0; inside < Math.min(STEP, end - at) && inside + SECTOR <= bytes.length; inside += SECTOR)
      if (note(bytes, inside, at + inside)) noted.push(at + inside);
    const done = Math.min(end, at + STEP) - first;
    if (done <= from) continue;
    yield { done, noted };
    noted = [];
  }
  if (noted.length > 0) yield { done: from, noted };
}
