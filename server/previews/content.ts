import { CachedSource, readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import { ReadOnlyFile } from "../../io/read-only-file";
import type { Connection } from "../database/connection";
import { findStoredCopy, type StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { permittedSource } from "../sources/source-folders";

export async function storedCopy(db: Connection, copyId: number): Promise<StoredCopy> {
  const stored = await findStoredCopy(db, copyId);
  if (!stored) throw new Problem("There is no such copy.", 404);
  return stored;
}

/** Opens a copy's content, gives it to `use`, and closes the source again. */
export async function withContent<T>(copy: StoredCopy, use: (content: LayoutSource) => T | Promise<T>): Promise<T> {
  if (!copy.layout) throw new Problem("The content of this copy cannot be read; its notes say why.", 409);
  const file = new ReadOnlyFile(permittedSource(copy.sourcePath));
  try {
    return await use(new LayoutSource(new CachedSource(file), copy.layout));
  } finally {
    file.close();
  }
}

/** All of a copy's content in memory. @throws Problem when it is longer than `most` */
export async function wholeContent(copy: StoredCopy, most: number, what: string): Promise<Buffer> {
  return withContent(copy, (content) => {
    if (content.size > most) throw new Problem(`This ${what} is too large to be shown here. Restore it to open it.`, 413);
    return Buffer.from(readBytes(content, 0, content.size));
  });
}
