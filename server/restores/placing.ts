import { extname } from "node:path";
import type { CopyFacts } from "../../core/copies/facts";
import { FORMATS, kindOf } from "../../core/formats/registry";
import { type ArrangedFile, arrange, type NamePattern, nameOf, type RestoreLayout } from "../../core/restore/arrange";
import { PAYLOAD } from "../../core/restore/bagit";
import { fold, numberedName, safeName, streamFileName } from "../../core/restore/names";
import type { RestoreForm } from "../../core/restore/wishes";
import type { RestoredHome } from "./planned";

/** The folder each home's files go to: its own name; where several are called alike, within a folder of their source. */
export function homeFolders(volumes: readonly RestoredHome[]): Map<number, readonly string[]> {
  const own = (volume: RestoredHome) => safeName(volume.label);
  const folders = new Map<number, readonly string[]>();
  const taken = new Set<string>();
  for (const volume of volumes) {
    const name = own(volume);
    const alone = volumes.filter((each) => fold(own(each)) === fold(name)).length === 1;
    const source = safeName(volume.sourceName.slice(0, volume.sourceName.length - extname(volume.sourceName).length) || volume.sourceName);
    let path = alone ? [name] : [source, name];
    for (let number = 2; taken.has(fold(path.join("/"))); number += 1) path = [...path.slice(0, -1), numberedName(name, number)];
    taken.add(fold(path.join("/")));
    folders.set(volume.id, path);
  }
  return folders;
}

/** A file's own name with the moment of its last change, for several copies of one file beside each other. */
export function datedName(name: string, modified: Date | null, timeZone: string): string {
  const moment = modified
    ? modified.toLocaleString("sv-SE", { timeZone, dateStyle: "short", timeStyle: "short" }).replace(":", ".")
    : "no date";
  const extension = extname(name);
  return `${name.slice(0, name.length - extension.length)} (${moment})${extension}`;
}

/** A file of a restore, as far as its place and its name go by it. */
export interface PlacedFile {
  readonly folder: string;
  readonly name: string;
  readonly stream?: string | null;
  readonly dated: boolean;
  readonly modified: Date | null;
  /** Counts the copies of a restore, from 1; 0: no name goes by it. */
  readonly number: number;
  /** What its content says of itself; null: it was not looked into. */
  readonly facts: CopyFacts | null;
  /** Its name is lost, and another one stands in its place. */
  readonly nameless: boolean;
  /** The format its content begins with; null: it was not looked at, or none is known. */
  readonly format: string | null;
}

/** Where an application expects a file, as it is stored. */
export interface ExpectedPlace {
  readonly place_home: number | null;
  readonly place_folder: string | null;
  readonly place_name: string | null;
}

/** A file with the home, folder and name it is restored to: where an application expects it, if that is known, else where it stood. */
export function settledAt<T extends { home_id: number | null; folder: string; name: string; nameless: boolean }>(
  row: T & ExpectedPlace,
  folders: ReadonlyMap<number, readonly string[]>,
): { readonly homeFolder: readonly string[]; readonly row: T } {
  const { place_home: home, place_folder: folder, place_name: name } = row;
  const expected = home === null || folder === null || name === null ? undefined : folders.get(home);
  if (expected) return { homeFolder: expected, row: { ...row, folder: folder as string, name: name as string, nameless: false } };
  return { homeFolder: (row.home_id === null ? undefined : folders.get(row.home_id)) ?? [], row };
}

/** How a restore lays out its files. */
export interface Arrangement {
  readonly timeZone: string;
  readonly layout: RestoreLayout;
  /** null: files keep their own names. */
  readonly pattern: NamePattern | null;
}

/** Names of folders and file below the destination: the volume's, then as it was on the volume; or as another layout or a pattern has it. */
export function componentsOf(volumeFolder: readonly string[], placed: PlacedFile, { timeZone, layout, pattern }: Arrangement): string[] {
  const { folder, name, stream = null, dated, modified, facts, number } = placed;
  const file: ArrangedFile = {
    path: `${folder}/${name}`,
    name,
    kind: kindOf(name),
    // Reckoning a moment in another zone costs more than all the rest.
    modified: pattern !== null || layout === "date" ? localTime(modified, timeZone) : null,
    number,
    taken: facts?.taken,
    title: facts?.title,
    camera: facts?.camera,
    extension: lostExtension(placed),
  };
  const made = nameOf(file, pattern);
  const own = dated ? datedName(made, modified, timeZone) : made;
  const written = stream === null ? own : streamFileName(own, stream);
  const parts = arrange({ ...file, name: written, path: `${folder}/${written}`, extension: undefined }, layout, null);
  return layout === "tree" ? [...volumeFolder, ...parts] : parts;
}

/** The extension of what a content begins with, for a file whose name is lost; undefined: its own name says, or nothing does. */
const lostExtension = ({ nameless, format }: PlacedFile): string | undefined =>
  nameless && format !== null ? FORMATS.find(({ id }) => id === format)?.extensions[0] : undefined;

/** The folders a file's package has below the destination, its payload's the last: none for plain files. @param bag null: there is one package */
export const bagFolder = (form: RestoreForm, bag: number | null): string[] =>
  form === "files" ? [] : [...(bag === null ? [] : [`Package ${bag}`]), PAYLOAD];

/** A moment as the clocks of a zone had it, as if that were UTC; milliseconds. */
const localTime = (moment: Date | null, timeZone: string): number | null =>
  moment && Date.parse(`${moment.toLocaleString("sv-SE", { timeZone }).replace(" ", "T")}Z`);
