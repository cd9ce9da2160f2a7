import { mkdir, readFile, rename, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { decode } from "bmp-ts";
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
    return await opened(bytes)
      .rotate()
      .resize({ width: longest, height: longest, fit: "inside", withoutEnlargement: true })
      .webp({ quality: 82 })
      .toBuffer();
  } catch (error) {
    if (error instanceof Problem) throw error;
    // The drawing library's words for a picture beyond `limitInputPixels`.
    if (/pixel limit/i.test((error as Error).message)) throw tooLarge();
    throw new Problem("This picture is too damaged to be drawn.", 422);
  }
}

const tooLarge = () => new Problem("This picture is too large to be drawn here: restore it to open it.", 413);

/** Bitmaps are the one common kind that the drawing library does not read. */
function opened(bytes: Buffer): ReturnType<typeof sharp> {
  if (bytes[0] !== 0x42 || bytes[1] !== 0x4d) return sharp(bytes, { failOn: "none", limitInputPixels: MAX_PIXELS });
  const [width, height] = [Math.abs(bytes.readInt32LE(18)), Math.abs(bytes.readInt32LE(22))];
  if (width * height > MAX_PIXELS / 4) throw tooLarge();
  const { data } = decode(bytes, { toRGBA: true });
  // What bitmaps keep beside the colours is seldom meant as transparency.
  return sharp(data, { raw: { width, height, channels: 4 } }).removeAlpha();
}

/** A small picture for the grid. */
export const drawnThumbnail = (copy: StoredCopy): Promise<Buffer> => picturePreview(copy, THUMBNAIL);

/** A small picture for the grid, kept in the data folder once it is made. */
export async function thumbnail(
  copy: Pick<StoredCopy, "id" | "jobId">,
  draw: (copyId: number) => Promise<Uint8Array>,
): Promise<Uint8Array> {
  const folder = join(readSettings().COMPASS_DATA, "thumbnails", String(copy.jobId));
  const path = join(folder, `${copy.id}.webp`);
  const kept = await readFile(path).catch(() => null);
  if (kept) return kept;
  const made = await draw(copy.id);
  await mkdir(folder, { recursive: true });
  // Written aside and renamed, so that nobody reads half a picture.
  const working = `${path}.${process.pid}`;
  await writeFile(working, made);
  await rename(working, path);
  return made;
}
