import { readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import { type OpenedDisk, openDisk, SourceError } from "../../io/open-source";
import type { Connection } from "../database/connection";
import { findStoredCopy, type StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { permittedSource } from "../sources/source-folders";

export async function storedCopy(db: Connection, copyId: number): Promise<StoredCopy> {
  const stored = await findStoredCopy(db, copyId);
  if (!stored) throw new Problem("There is no such copy.", 404);
  return stored;
}

/** Opens the disk that copies were found on. @throws Problem when it may not be read, or is not there */
export function openPermitted(path: string): OpenedDisk {
  try {
    return openDisk(permittedSource(path));
  } catch (error) {
    if (error instanceof SourceError) throw new Problem(error.message);
    throw error;
  }
}

/** Opens a copy's content, gives it to `use`, and closes the source again. */
export async function withContent<T>(copy: StoredCopy, use: (content: LayoutSource) => T | Promise<T>): Promise<T> {
  if (!copy.layout) throw new Problem("The content of this copy cannot be read; its notes say why.", 409);
  const { disk, close } = openPermitted(copy.sourcePath);
  try {
    return await use(new LayoutSource(disk, copy.layout));
  } finally {
    close();
  }
}

/** All of a copy's content in memory. @throws Problem when it is longer than `most` */
export async function wholeContent(copy: StoredCopy, most: number, what: string): Promise<Buffer> {
  return withContent(copy, (content) => {
    if (content.size > most) throw new Problem(`This ${what} is too large to be shown here. Restore it to open it.`, 413);
    return Buffer.from(readBytes(content, 0, content.size));
  });
}
