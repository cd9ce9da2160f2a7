import { mkdir, readFile, rename, writeFile } from "node:fs/promises";
import { join } from "node:path";
import sharp from "sharp";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { readSettings } from "../settings";
import { wholeContent } from "./content";

const MAX_PICTURE = 1 << 27;
const MAX_PIXELS = 200_000_000;
const THUMBNAIL = 240;

/** The picture drawn anew as WebP: nothing of the file itself reaches the browser. */
export async function picturePreview(copy: StoredCopy, longest: number): Promise<Buffer> {
  return drawn(await wholeContent(copy, MAX_PICTURE, "picture"), longest);
}

/** A picture's bytes drawn anew as WebP. @throws Problem when they cannot be */
export async function drawn(bytes: Buffer, longest: number): Promise<Buffer> {
  try {
    return await sharp(bytes, { failOn: "none", limitInputPixels: MAX_PIXELS })
      .rotate()
      .resize({ width: longest, height: longest, fit: "inside", withoutEnlargement: true })
      .webp({ quality: 82 })
      .toBuffer();
  } catch {
    throw new Problem("This picture is too damaged to be drawn.", 422);
  }
}

/** A small picture for the grid, kept in the data folder once it is made. */
export async function thumbnail(copy: StoredCopy): Promise<Buffer> {
  const folder = join(readSettings().COMPASS_DATA, "thumbnails", String(copy.jobId));
  const path = join(folder, `${copy.id}.webp`);
  const kept = await readFile(path).catch(() => null);
  if (kept) return kept;
  const made = await picturePreview(copy, THUMBNAIL);
  await mkdir(folder, { recursive: true });
  // Written aside and renamed, so that nobody reads half a picture.
  const working = `${path}.${process.pid}`;
  await writeFile(working, made);
  await rename(working, path);
  return made;
}
