import { seeded } from "../../demo/draw";

const BLOCK = 512;

/** A file damaged in one of the ways drives do it: a byte, a sector of zeros, a sector of something else, a cut. Always the same for a number. */
export function damagedFile(bytes: Buffer, number: number): Buffer {
  const random = seeded(number * 7919 + bytes.length);
  const at = Math.floor(random() * bytes.length);
  const changed = Buffer.from(bytes);
  if (number % 4 === 0) changed[at] = (changed[at] as number) ^ (1 + Math.floor(random() * 255));
  else if (number % 4 === 1)
    changed.fill(0, Math.floor(at / BLOCK) * BLOCK, Math.min(bytes.length, Math.floor(at / BLOCK) * BLOCK + BLOCK));
  else if (number % 4 === 2) {
    const from = Math.floor(at / BLOCK) * BLOCK;
    for (let i = from; i < Math.min(bytes.length, from + BLOCK); i += 1) changed[i] = Math.floor(random() * 256);
  } else return changed.subarray(0, at);
  return changed;
}

/** How many damaged forms of each file are compared. */
export const FORMS = 500;
