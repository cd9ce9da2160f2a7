import { existsSync, readdirSync, realpathSync, statSync } from "node:fs";
import { dirname, join, relative, sep } from "node:path";
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

const realFolders = () =>
  readSettings()
    .COMPASS_SOURCES.filter(existsSync)
    .map((folder) => realpathSync(folder));

/** The path of a source, once it is sure to lie in a source folder or to be a drive that is offered. @throws Problem otherwise */
export function permittedSource(path: string): string {
  if (!existsSync(path)) throw new Problem(`“${path}” is not there. Check that the drive is connected.`, 404);
  const real = realpathSync(path);
  if (statSync(real).isBlockDevice()) return permittedDrive(path).path;
  if (realFolders().some((folder) => liesWithin(real, folder))) return real;
  throw new Problem(
    `“${path}” is outside the source folders. Only what lies in them may be read; the setting COMPASS_SOURCES names them.`,
    403,
  );
}

/** What is in a source folder; without a path, the source folders themselves. */
export function browse(path: string | null): SourceListing {
  if (path === null) {
    const folders = realFolders().map((folder) => ({ path: folder, name: folder, folder: true, size: 0, modified: null }));
    const problem = folders.length === 0 ? "None of the source folders exists. The setting COMPASS_SOURCES names them." : null;
    return { path: null, parent: null, entries: folders, drives: offeredDrives(), problem };
  }
  const real = permittedSource(path);
  const parent = realFolders().includes(real) ? null : dirname(real);
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
              },
            ]
          : [];
      })
      .sort((a, b) => Number(b.folder) - Number(a.folder) || a.name.localeCompare(b.name));
    return { path: real, parent, entries, drives: [], problem: null };
  } catch (error) {
    return { path: real, parent, entries: [], drives: [], problem: `This folder cannot be read: ${(error as Error).message}.` };
  }
}
