import { statSync } from "node:fs";
import type { ByteSource } from "../../core/bytes/byte-source";
import { readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import type { Range } from "../../core/bytes/range-set";
import { bytesIn } from "../../core/restore/gaps";
import { openBytes } from "../../io/open-searchable";
import { pickSourceAt, type SourceAt } from "../../io/open-source";
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

interface Kept {
  readonly disk: ByteSource;
  readonly close: () => void;
  /** What shows whether the path still means the same file. */
  readonly identity: string;
  idle: NodeJS.Timeout | undefined;
  users: number;
}
const MOST_KEPT = 4;
const IDLE_MS = 10_000;
let kept: Map<string, Kept> | null = null;

/** Keeps sources open for a while in this process, so that what is looked at next need not open them again. */
export function reuseOpened(): void {
  kept ??= new Map();
}

const identityOf = (path: string) => {
  const { ino, dev, size, mtimeMs } = statSync(path);
  return [ino, dev, size, mtimeMs].join(" ");
};

/** An opened source of the kept ones, opened now where it is not yet. */
function openKept(all: Map<string, Kept>, key: string, path: string, open: () => { disk: ByteSource; close(): void }) {
  const identity = identityOf(path);
  let found = all.get(key);
  if (found && found.identity !== identity) {
    drop(all, key, found);
    found = undefined;
  }
  if (!found) {
    for (const [name, each] of all) if (all.size >= MOST_KEPT && each.users === 0) drop(all, name, each);
    const opened = open();
    found = { disk: opened.disk, close: () => opened.close(), identity, idle: undefined, users: 0 };
    all.set(key, found);
  }
  const one = found;
  one.users += 1;
  clearTimeout(one.idle);
  return {
    disk: one.disk,
    close: () => {
      one.users -= 1;
      if (all.get(key) !== one) one.close();
      else if (one.users === 0) one.idle = setTimeout(() => drop(all, key, one), IDLE_MS).unref();
    },
  };
}

function drop(all: Map<string, Kept>, key: string, one: Kept): void {
  clearTimeout(one.idle);
  all.delete(key);
  if (one.users === 0) one.close();
}

/** What was met of sources that could not be read, until it is taken. Disk byte offsets, by source. */
const met = new Map<number, readonly Range[]>();

/** What could not be read of sources since this was last asked, so that it can be kept with them. */
export function takeMetBad(): [sourceId: number, ranges: readonly Range[]][] {
  const all = [...met];
  met.clear();
  return all;
}

type Place = SourceAt & Pick<StoredCopy, "sourceId" | "file">;

/** Opens the bytes a copy's layout counts. @throws Problem when they may not be read, or are not there */
export function openPermitted(place: Place): { disk: ByteSource; close(): void } {
  const { sourceId, file, bad } = place;
  try {
    const sourcePath = permittedSource(place.sourcePath);
    const open = () => openBytes({ ...pickSourceAt(place), sourcePath, beside: place.beside.map(permittedSource) }, file);
    // Files of a folder are many and small: they are opened one by one.
    if (file !== null) return open();
    const { disk, close } = kept
      ? openKept(kept, JSON.stringify([sourceId, sourcePath, place.beside, bad.length]), sourcePath, open)
      : open();
    return {
      disk,
      close: () => {
        const found = disk.unreadable(0, disk.size);
        if (bytesIn(found) > bytesIn(bad)) met.set(sourceId, found);
        close();
      },
    };
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
