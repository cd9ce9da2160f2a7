import { BlockReader } from "../bytes/block-reader";
import { PastEnd } from "../bytes/past-end";
import type { FileRecord } from "../filesystems/file-record";
import { partsAtEnd } from "../formats/zip/members";
import type { FileTree } from "../places/file-tree";

/** Parts of a split archive. */
const MOST_PARTS = 10_000;

/** Files that may be archives, by the ends of their names; a part of a split one has a number. */
export const ARCHIVE = /\.(?:zip|z\d{2,4}|tar|tgz|tbz2?|txz|tar\.(?:gz|bz2|xz))$/i;
const PART = /\.z(\d{2,4})$/i;

/** A part of an archive: a file. */
export interface Part {
  /** Bytes. */
  readonly size: number;
  /** null: it is missing. */
  readonly file: FileRecord | null;
}

/** An archive of one file, or of the parts it is split over, in their order. */
export interface Archive {
  readonly name: string;
  readonly parts: readonly Part[];
  /** Names of parts that are missing. */
  readonly missing: readonly string[];
}

export const filesOf = ({ parts }: Archive): FileRecord[] => parts.flatMap(({ file }) => file ?? []);

export const sizeOfParts = ({ parts }: Archive): number => parts.reduce((sum, part) => sum + part.size, 0);

/** Parts that are named where they are missing. */
const MOST_NAMED = 8;

export function missingParts({ missing }: Archive): string[] {
  if (missing.length === 0) return [];
  const names = missing.slice(0, MOST_NAMED).map((name) => `“${name}”`);
  const others = missing.length - names.length;
  const all = `${names.join(", ")}${others > 0 ? ` and ${others} others` : ""}`;
  return missing.length === 1
    ? [`The part ${all} of an archive is missing: files that reach into it are not whole.`]
    : [`Parts of an archive are missing: ${all}. Files that reach into them are not whole.`];
}

/** Joins the parts of split archives; in the order of their numbers. */
export function archivesOf(files: readonly FileRecord[], tree: FileTree): Archive[] {
  const stems = new Map<string, FileRecord[]>();
  for (const file of files) {
    const stem = file.name.replace(/\.z(?:ip|\d{2,4})$/i, "");
    stems.set(stem, [...(stems.get(stem) ?? []), file]);
  }
  return [...stems]
    .map(([name, parts]) => toArchive(name, parts, tree))
    .sort((a, b) => a.name.localeCompare(b.name, "en", { numeric: true }));
}

/** Puts the parts of an archive in their order. A part whose number is left out is missing, and was as large as the others: all but the last are. */
function toArchive(name: string, files: readonly FileRecord[], tree: FileTree): Archive {
  const numbered = new Map(files.flatMap((file) => (PART.test(file.name) ? [[Number(PART.exec(file.name)?.[1]), file] as const] : [])));
  const others = files.filter((file) => !PART.test(file.name)).map((file): Part => ({ size: file.size, file }));
  const last = Math.max(0, ...numbered.keys(), numbered.size > 0 ? partsBefore(others[0]?.file ?? null, tree) : 0);
  const size = Math.max(0, ...[...numbered.values()].map((file) => file.size));
  const parts = Array.from({ length: last }, (_, index): Part => {
    const file = numbered.get(index + 1) ?? null;
    return { size: file?.size ?? size, file };
  });
  const missing = parts.flatMap(({ file }, index) => (file ? [] : [`${name}.z${String(index + 1).padStart(2, "0")}`]));
  return { name, parts: [...parts, ...others], missing: others.length > 0 ? missing : [...missing, `${name}.zip`] };
}

/** How many parts stand before the last one of a split archive, as that says itself; 0: it does not. */
function partsBefore(end: FileRecord | null, tree: FileTree): number {
  const opened = end && tree.open(end);
  if (!opened) return 0;
  try {
    return Math.min(partsAtEnd(new BlockReader(opened.content)) - 1, MOST_PARTS);
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return 0;
  } finally {
    opened.close();
  }
}

/** Archives that the numbers of the others leave out. */
export function missingNumbers(archives: readonly Archive[]): string[] {
  const numbered = archives.flatMap(({ name }) => {
    const found = /^(.*?)(\d+)$/s.exec(name);
    return found ? [{ stem: found[1] as string, number: Number(found[2]) }] : [];
  });
  const [first] = numbered;
  if (!first || numbered.length !== archives.length || numbered.some(({ stem }) => stem !== first.stem)) return [];
  const there = new Set(numbered.map(({ number }) => number));
  const last = Math.max(...there);
  if (last > there.size + 1000) return [];
  return Array.from({ length: last }, (_, index) => index + 1)
    .filter((number) => !there.has(number))
    .map((number) => `${first.stem}${number}.zip`);
}
