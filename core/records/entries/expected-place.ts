/** Longest path that is taken for one, in characters, and most folders in it. */
const LONGEST = 1_000;
const MOST_FOLDERS = 60;

/** Where on the drive of a database a file belongs. */
export interface ExpectedPlace {
  /** "/" first; "": the root. */
  readonly folder: string;
  readonly name: string;
}

/**
 * Says where a file belongs that a row of a database has a path for: absolute ones (with a drive's letter, a slash, or as a file URL,
 * RFC 8089) on the drive of the database, others beside it. The row knows that drive by a letter or a mount point which is not known here: its
 * root is the folder below which the database's own path begins as the row's does. That is not the root of the present drive where a whole
 * drive was copied into a folder.
 * @param written the path as the row has it
 * @param databaseFolder where the database stands on its drive, "/" first
 * @returns null: it is no path, or one of another drive
 */
export function expectedPlace(written: string, databaseFolder: string): ExpectedPlace | null {
  const path = plainPath(written);
  if (path === null || path === "") return null;
  const own = partsOf(databaseFolder);
  if (own === null) return null;
  const windows = /^[a-z]:(?=[\\/])/i.exec(path);
  const isAbsolute = windows !== null || path.startsWith("/");
  // A name alone does not say that the file stands beside the database.
  if (path.startsWith("\\\\") || /^[a-z]:/i.test(path) !== (windows !== null) || !/[\\/]/.test(path)) return null;
  const rest = partsOf(
    isAbsolute ? path.slice(windows?.[0].length ?? 0) : path,
    isAbsolute ? [] : own,
    windows !== null || !path.includes("/"),
  );
  const name = rest?.at(-1);
  if (!rest || name === undefined || /[\\/]$/.test(path)) return null;
  let folder = rest.slice(0, -1);
  if (isAbsolute) {
    const root = rootOf(folder, own);
    if (root === null) return null;
    // Folders the database stands in are called as they are there.
    folder = [...own.slice(0, root.at + root.shared), ...folder.slice(root.shared)];
  }
  return { folder: folder.map((part) => `/${part}`).join(""), name };
}

/** The path a file URL means, without its host; other texts as they are. @returns null: it is none */
function plainPath(written: string): string | null {
  // biome-ignore lint/suspicious/noControlCharactersInRegex: no path has them
  if (written.length > LONGEST || /[\x00-\x1f]/.test(written)) return null;
  if (!/^file:/i.test(written)) return /^[a-z][a-z0-9+.-]+:/i.test(written) ? null : written;
  try {
    const { pathname, host } = new URL(written);
    const path = decodeURIComponent(pathname);
    if (host !== "" && host !== "localhost") return null;
    return /^\/[a-z]:\//i.test(path) ? path.slice(1) : path;
  } catch {
    return null;
  }
}

/** Splits a path into its names, goes back at "..". @returns null: it leaves the drive, or is too deep */
function partsOf(path: string, from: readonly string[] = [], backslash = false): string[] | null {
  const parts = [...from];
  for (const part of path.split(backslash ? /[\\/]/ : "/")) {
    if (part === "" || part === ".") continue;
    if (part !== "..") parts.push(part);
    else if (parts.pop() === undefined) return null;
  }
  return parts.length > MOST_FOLDERS ? null : parts;
}

/** Finds where in the database's folders a path from the root begins: the most folders in a row that both have. @returns null: they share none */
function rootOf(folder: readonly string[], own: readonly string[]): { readonly at: number; readonly shared: number } | null {
  let best: { at: number; shared: number } | null = null;
  for (let at = 0; at < own.length; at += 1) {
    let shared = 0;
    while (shared < folder.length && at + shared < own.length && sameName(folder[shared] as string, own[at + shared] as string))
      shared += 1;
    if (shared > (best?.shared ?? 0)) best = { at, shared };
  }
  return best;
}

const sameName = (one: string, other: string) => one.normalize("NFC").toLowerCase() === other.normalize("NFC").toLowerCase();
