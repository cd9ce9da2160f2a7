import { closeSync, constants, fstatSync, lstatSync, openSync, readSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import type { ByteSource } from "../core/bytes/byte-source";
import type { Range } from "../core/bytes/range-set";
import { BANDS, BUNDLE_LIST } from "../core/containers/sparse-bundle";
import { ReadOnlyFile } from "./read-only-file";

const LIST_MARK = "band-size";
const LIST_READ = 65_536;

/** Whether a folder is a disk image in the form of a bundle: its list and the folder of its bands lie in it. */
export function isBundle(path: string): boolean {
  const isThere = (name: string, kind: "isFile" | "isDirectory") =>
    lstatSync(join(path, name), { throwIfNoEntry: false })?.[kind]() ?? false;
  try {
    return isThere(BUNDLE_LIST, "isFile") && isThere(BANDS, "isDirectory") && beginningOf(join(path, BUNDLE_LIST)).includes(LIST_MARK);
  } catch {
    return false;
  }
}

function beginningOf(path: string): string {
  const file = openSync(path, constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK);
  try {
    if (!fstatSync(file).isFile()) return "";
    const bytes = Buffer.alloc(LIST_READ);
    return bytes.toString("latin1", 0, readSync(file, bytes, 0, LIST_READ, 0));
  } finally {
    closeSync(file);
  }
}

/** The file by which a disk is opened: of a bundle its list, of everything else the path itself. */
export const diskFile = (path: string): string => (isBundle(path) ? join(path, BUNDLE_LIST) : path);

/** The name of a disk for people: of a bundle that of its folder. */
export const diskName = (path: string): string => (basename(path) === BUNDLE_LIST ? basename(dirname(path)) : basename(path));

/** Files open at once of all bundles. */
const MOST_OPEN = 64;
const open = new Map<LazyFile, ReadOnlyFile>();

/** One of the many files of a bundle: it is opened when it is read, and closed again when too many are open. */
export class LazyFile implements ByteSource {
  /** @param size bytes, as the system says without opening it */
  constructor(
    private readonly path: string,
    readonly size: number,
  ) {}

  read(at: number, into: Uint8Array): void {
    this.#file().read(at, into);
  }

  /** What was refused while it was open: whoever reads it asks at once. */
  unreadable(at: number, length: number): Range[] {
    return open.get(this)?.unreadable(at, length) ?? [];
  }

  close(): void {
    open.get(this)?.close();
    open.delete(this);
  }

  #file(): ReadOnlyFile {
    const file = open.get(this) ?? new ReadOnlyFile(this.path);
    // Re-inserting moves it to the young end of the map's insertion order.
    open.delete(this);
    const oldest = open.size >= MOST_OPEN ? open.keys().next().value : undefined;
    oldest?.close();
    open.set(this, file);
    return file;
  }
}
