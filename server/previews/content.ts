import type { ByteSource } from "../../core/bytes/byte-source";
import { readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import { openBytes } from "../../io/open-searchable";
import { SourceError } from "../../io/source-error";
import type { Connection } from "../database/connection";
import { findStoredCopy, type StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { permittedSource } from "../sources/source-folders";

export async function storedCopy(db: Connection, copyId: number): Promise<StoredCopy> {
  const stored = await findStoredCopy(db, copyId);
  if (!stored) throw new Problem("There is no such copy.", 404);
  return stored;
}

/** Opens the bytes a copy's layout counts. @throws Problem when they may not be read, or are not there */
export function openPermitted({ sourcePath, beside, file }: Pick<StoredCopy, "sourcePath" | "beside" | "file">): {
  disk: ByteSource;
  close(): void;
} {
  try {
    return openBytes(permittedSource(sourcePath), file, beside.map(permittedSource));
  } catch (error) {
    if (error instanceof SourceError) throw new Problem(error.message);
    throw error;
  }
}

/** Opens a copy's content, gives it to `use`, and closes the source again. */
export async function withContent<T>(copy: StoredCopy, use: (content: LayoutSource) => T | Promise<T>): Promise<T> {
  if (!copy.layout) throw new Problem("The content of this copy cannot be read; its notes say why.", 409);
  const { disk, close } = openPermitted(copy);
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
