import { existsSync, readdirSync, realpathSync, statSync } from "node:fs";
import { basename, dirname, join, relative, resolve, sep } from "node:path";
import { isBundle } from "../../io/bundle";
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
  const numbered = /^(.*)\.\d{3}\.dmgpart$/i.exec(path);
  if (numbered && existsSync(`${numbered[1]}.dmg`)) return basename(`${numbered[1]}.dmg`);
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
  // Whether something is there is said of what may be read, and of drives; of everything else the answer is the same in any case.
  if (!existsSync(path)) {
    if (mayBeThere(path)) throw new Problem(`“${path}” is not there. Check that the drive is connected.`, 404);
    throw outside(path);
  }
  const real = realpathSync(path);
  if (statSync(/*turbopackIgnore: true*/ real).isBlockDevice()) return permittedDrive(path).path;
  if ([...realFolders(), ...realRoots()].some((folder) => liesWithin(real, folder))) return real;
  throw outside(path);
}

const outside = (path: string) =>
  new Problem(
    `“${path}” is outside the source folders. Only what lies in them may be read; the settings COMPASS_SOURCES and COMPASS_SOURCE_ROOTS name them.`,
    403,
  );

/** Whether a path that is not there would be permitted if it were. */
function mayBeThere(path: string): boolean {
  const { COMPASS_SOURCES, COMPASS_SOURCE_ROOTS } = readSettings();
  const asked = resolve(path);
  if (liesWithin(asked, "/dev") || [...COMPASS_SOURCES, ...COMPASS_SOURCE_ROOTS].some((folder) => liesWithin(asked, folder))) {
    let above = asked;
    while (!existsSync(above)) above = dirname(above);
    const real = realpathSync(above);
    // A link in a source folder must not show what lies where it leads.
    return above === real || [...realFolders(), ...realRoots(), "/dev"].some((folder) => liesWithin(real, folder));
  }
  return false;
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
    const drivesHidden = readSettings().COMPASS_DRIVES === "hide";
    return { path: null, parent: null, entries: folders, notes: [], listed: null, drives: offeredDrives(), drivesHidden, problem };
  }
  const asked = permittedSource(path);
  // A path that was typed may be the image's own: its folder is shown.
  const real = statSync(/*turbopackIgnore: true*/ asked).isDirectory() ? asked : dirname(asked);
  const parent = [...realFolders(), ...realRoots()].includes(real) ? null : dirname(real);
  const listed: SourceListing["listed"] = realFolders().includes(real) ? "by settings" : byHand.includes(real) ? "by hand" : null;
  const place = { path: real, parent, listed, drives: [], drivesHidden: false };
  try {
    return { ...place, ...entriesOf(real), problem: null };
  } catch (error) {
    return { ...place, entries: [], notes: [], problem: `This folder cannot be read: ${(error as Error).message}.` };
  }
}

/** What lies in a folder, folders first, and what of it is not shown. @throws what the system says where it cannot be listed */
function entriesOf(folder: string): Pick<SourceListing, "entries" | "notes"> {
  const names = readdirSync(/*turbopackIgnore: true*/ folder);
  const shown = names.filter((name) => !name.startsWith("."));
  const found = shown.slice(0, MAX_ENTRIES).map((name) => toEntry(join(/*turbopackIgnore: true*/ folder, name)));
  const entries = found
    .filter((entry) => entry !== null)
    .sort((a, b) => Number(b.folder) - Number(a.folder) || a.name.localeCompare(b.name));
  const [hidden, cut, unseen] = [names.length - shown.length, Math.max(0, shown.length - MAX_ENTRIES), found.length - entries.length];
  const notes = [
    hidden > 0 && `${hidden} hidden, with a name that begins with a dot.`,
    cut > 0 && `${cut} more than are shown here: type the path.`,
    unseen > 0 && `${unseen} that this user may not look at, or that lead nowhere.`,
  ];
  return { entries, notes: notes.filter((note) => note !== false) };
}

/** A file or folder as it is shown; null: nothing can be said of it. */
function toEntry(path: string): SourceListing["entries"][number] | null {
  try {
    const stats = statSync(/*turbopackIgnore: true*/ path);
    const folder = stats.isDirectory() && !isBundle(path);
    return { path, name: basename(path), folder, size: stats.size, modified: stats.mtime, part: folder ? null : partOf(path) };
  } catch {
    return null;
  }
}
