import { decode } from "bmp-ts";
import { eq } from "drizzle-orm";
import sharp from "sharp";
import type { Connection } from "../database/connection";
import { thumbnails } from "../database/schema";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
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

/** A small picture for the grid, kept once it is made. */
export async function thumbnail(db: Connection, copyId: number, draw: (copyId: number) => Promise<Uint8Array>): Promise<Uint8Array> {
  const [kept] = await db.select({ picture: thumbnails.picture }).from(thumbnails).where(eq(thumbnails.copyId, copyId));
  if (kept) return kept.picture;
  const made = Buffer.from(await draw(copyId));
  await db.insert(thumbnails).values({ copyId, picture: made }).onConflictDoNothing();
  return made;
}
