import { existsSync, readdirSync, realpathSync, statSync } from "node:fs";
import { basename, dirname, join, relative, sep } from "node:path";
import { Problem } from "../problem";
import { readSettings } from "../settings";
import type { SourceListing } from "./contract";
import { offeredDrives, permittedDrive } from "./drives";

const MAX_ENTRIES = 5000;

/** Whether `path` is `folder` or lies below it. Both must be real paths. */
export function liesWithin(path: string, folder: string): boolean {
  const way = relative(folder, path);
  return way === "" || (way !== ".." && !way.startsWith(`..${sep}`) && !way.startsWith(sep));
}

/** Where drives are usually mounted: what is there may be read too. */
const realRoots = () =>
  readSettings()
    .COMPASS_SOURCE_ROOTS.filter(existsSync)
    .map((folder) => realpathSync(folder));

const realFolders = () =>
  readSettings()
    .COMPASS_SOURCES.filter(existsSync)
    .map((folder) => realpathSync(folder));

/** How the parts of one image are called (the first part of each series, and what a further one ends in). */
const SERIES: readonly (readonly [further: RegExp, first: readonly string[]])[] = [
  [/\.(?!0*[01]$)\d{2,4}$/, ["0", "1"]],
  [/\.(?!a+$)[a-z]{2,3}$/, ["a"]],
];

/** The name of the first part of an image of which a file is a further part; null: it is none. */
export function partOf(path: string): string | null {
  for (const [further, first] of SERIES) {
    const match = further.exec(path);
    if (!match) continue;
    const width = match[0].length - 1;
    for (const start of first) {
      const name = `${path.slice(0, match.index)}.${start === "a" ? "a".repeat(width) : start.padStart(width, "0")}`;
      // A name of three letters is an extension like any other, unless its series is there.
      if (existsSync(name) && (start !== "a" || existsSync(`${name.slice(0, -1)}b`))) return basename(name);
    }
  }
  return null;
}

/** The path of a source, once it is sure to lie in a source folder or to be a drive that is offered. @throws Problem otherwise */
export function permittedSource(path: string): string {
  if (!existsSync(path)) throw new Problem(`“${path}” is not there. Check that the drive is connected.`, 404);
  const real = realpathSync(path);
  if (statSync(/*turbopackIgnore: true*/ real).isBlockDevice()) return permittedDrive(path).path;
  if ([...realFolders(), ...realRoots()].some((folder) => liesWithin(real, folder))) return real;
  throw new Problem(
    `“${path}” is outside the source folders. Only what lies in them may be read; the settings COMPASS_SOURCES and COMPASS_SOURCE_ROOTS name them.`,
    403,
  );
}

/** The folders right below one; none where it cannot be listed. */
function foldersIn(folder: string): string[] {
  try {
    return readdirSync(/*turbopackIgnore: true*/ folder, { withFileTypes: true })
      .filter((entry) => entry.isDirectory())
      .slice(0, MAX_ENTRIES)
      .map((entry) => join(/*turbopackIgnore: true*/ folder, entry.name));
  } catch {
    return [];
  }
}

/** What is in a source folder; without a path, the source folders themselves. @param byHand folders that were put on the list */
export function browse(path: string | null, byHand: readonly string[] = []): SourceListing {
  if (path === null) {
    const mounted = realRoots().flatMap(foldersIn);
    const folders = [...new Set([...realFolders(), ...byHand, ...mounted])].map((folder) => ({
      path: folder,
      name: folder,
      folder: true,
      size: 0,
      modified: null,
      part: null,
    }));
    const problem = folders.length === 0 ? "None of the source folders exists. The setting COMPASS_SOURCES names them." : null;
    return { path: null, parent: null, entries: folders, listed: null, drives: offeredDrives(), problem };
  }
  const asked = permittedSource(path);
  // A path that was typed may be the image's own: its folder is shown.
  const real = statSync(/*turbopackIgnore: true*/ asked).isDirectory() ? asked : dirname(asked);
  const parent = [...realFolders(), ...realRoots()].includes(real) ? null : dirname(real);
  const listed = realFolders().includes(real) ? "by settings" : byHand.includes(real) ? "by hand" : null;
  try {
    const entries = readdirSync(/*turbopackIgnore: true*/ real, { withFileTypes: true })
      .filter((entry) => !entry.name.startsWith("."))
      .slice(0, MAX_ENTRIES)
      .flatMap((entry) => {
        const stats = statSync(/*turbopackIgnore: true*/ join(real, entry.name), { throwIfNoEntry: false });
        return stats
          ? [
              {
                path: join(/*turbopackIgnore: true*/ real, entry.name),
                name: entry.name,
                folder: stats.isDirectory(),
                size: stats.size,
                modified: stats.mtime,
                part: stats.isDirectory() ? null : partOf(join(/*turbopackIgnore: true*/ real, entry.name)),
              },
            ]
          : [];
      })
      .sort((a, b) => Number(b.folder) - Number(a.folder) || a.name.localeCompare(b.name));
    return { path: real, parent, entries, listed, drives: [], problem: null };
  } catch (error) {
    return { path: real, parent, entries: [], listed, drives: [], problem: `This folder cannot be read: ${(error as Error).message}.` };
  }
}
