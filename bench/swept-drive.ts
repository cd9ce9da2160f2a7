import { createCipheriv } from "node:crypto";
import { closeSync, existsSync, openSync, statSync, writeSync } from "node:fs";
import { join } from "node:path";
import { carveImage } from "../tests/support/lab-files";

const SIZE = 2 ** 32;
const STRETCH = 1 << 24;

/** A drive of 4 GiB to sweep: zeros, packed data (half of it), some text, and one stretch of real files. Made once. */
export function sweptDrive(folder: string): string {
  const { bytes } = carveImage();
  const text = Buffer.alloc(STRETCH, "The harbour was quiet that evening, and nobody asked about the lantern on the pier.\r\n");
  const empty = Buffer.alloc(STRETCH);
  return drive(join(folder, "swept-drive.img"), (i) =>
    i === 5 ? bytes.subarray(0, STRETCH) : i % 16 === 7 ? text : i % 2 === 0 ? empty : packed(0),
  );
}

/** A drive of 4 GiB full of packed data, in which nothing begins but by chance. Made once. */
export const packedDrive = (folder: string): string => drive(join(folder, "packed-drive.img"), packed);

/** Data without any order, like those of packed or enciphered files. */
const packed = (stretch: number) =>
  createCipheriv("aes-128-ctr", Buffer.alloc(16, 7), Buffer.alloc(16, stretch)).update(Buffer.alloc(STRETCH));

function drive(path: string, stretchOf: (index: number) => Uint8Array): string {
  if (existsSync(path) && statSync(path).size === SIZE) return path;
  const file = openSync(path, "w");
  for (let at = 0, i = 0; at < SIZE; at += STRETCH, i += 1) writeSync(file, stretchOf(i), 0, STRETCH, at);
  closeSync(file);
  return path;
}
