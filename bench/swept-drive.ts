import { createCipheriv } from "node:crypto";
import { closeSync, existsSync, openSync, statSync, writeSync } from "node:fs";
import { join } from "node:path";
import { carveImage } from "../tests/support/lab-files";

const SIZE = 2 ** 32;
const STRETCH = 1 << 24;

/** A drive of 4 GiB to sweep: zeros, packed data (half of it), some text, and one stretch of real files. Made once. */
export function sweptDrive(folder: string): string {
  const path = join(folder, "swept-drive.img");
  if (existsSync(path) && statSync(path).size === SIZE) return path;
  const { bytes } = carveImage();
  const text = Buffer.alloc(STRETCH, "The harbour was quiet that evening, and nobody asked about the lantern on the pier.\r\n");
  const packed = createCipheriv("aes-128-ctr", Buffer.alloc(16, 7), Buffer.alloc(16)).update(Buffer.alloc(STRETCH));
  const empty = Buffer.alloc(STRETCH);
  const file = openSync(path, "w");
  for (let at = 0, i = 0; at < SIZE; at += STRETCH, i += 1) {
    const stretch = i === 5 ? bytes.subarray(0, STRETCH) : i % 16 === 7 ? text : i % 2 === 0 ? empty : packed;
    writeSync(file, stretch, 0, STRETCH, at);
  }
  closeSync(file);
  return path;
}
