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
 * RFC 8089) on the drive of the database, others beside it. An absolute path is taken for one of the same drive when it begins with the same
 * folder as the database's own: the row knows the drive by a letter or a mount point that is not known here.
 * @param told the path as the row has it
 * @param databaseFolder where the database stands on its drive, "/" first
 * @returns null: it is no path, or one of another drive
 */
export function expectedPlace(told: string, databaseFolder: string): ExpectedPlace | null {
  const path = plainPath(told);
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
  if (isAbsolute && (own.length === 0 || rest.length < 2 || !sameName(rest[0] as string, own[0] as string))) return null;
  const folder = rest.slice(0, -1);
  // Folders the database stands in are called as they are there.
  for (let i = 0; i < folder.length && i < own.length && sameName(folder[i] as string, own[i] as string); i += 1)
    folder[i] = own[i] as string;
  return { folder: folder.map((part) => `/${part}`).join(""), name };
}

/** The path a file URL means, without its host; other texts as they are. @returns null: it is none */
function plainPath(told: string): string | null {
  // biome-ignore lint/suspicious/noControlCharactersInRegex: no path has them
  if (told.length > LONGEST || /[\x00-\x1f]/.test(told)) return null;
  if (!/^file:/i.test(told)) return /^[a-z][a-z0-9+.-]+:/i.test(told) ? null : told;
  try {
    const { pathname, host } = new URL(told);
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

const sameName = (one: string, other: string) => one.normalize("NFC").toLowerCase() === other.normalize("NFC").toLowerCase();
