import picomatch from "picomatch";
import type { ByteSource } from "../core/bytes/byte-source";
import { EMPTY_LAYOUT, LayoutSource } from "../core/bytes/layout";
import type { Copy } from "../core/copies/copy";
import { ABSENCE_WORDS } from "../core/copies/vocabulary";

import { identify, kindOf, runSummary } from "../core/formats/registry";
import { arrange, LAYOUTS, NamePattern, PatternError, type RestoreLayout } from "../core/restore/arrange";
import { safeComponents, streamFileName } from "../core/restore/names";
import { SECOND_FILE, twoFileLayout } from "../core/restore/two-files";
import type { StreamWish } from "../core/restore/wishes";
import { type Chosen, copiesOf, openBytesOf, stateFilter } from "./chosen";
import type { Options } from "./options";
import { Usage } from "./usage";

/** How files are chosen and laid out, by the flags of a call. */
export interface Wish {
  readonly wanted: (copy: Copy) => boolean;
  readonly layout: RestoreLayout;
  readonly pattern: NamePattern | null;
  readonly streams: StreamWish;
}

/** @throws Usage when a flag has a value that means nothing */
export function wishOf(options: Options): Wish {
  const ways = [options.streams, options["two-file"], options["keep-streams"]].filter(Boolean);
  if (ways.length > 1) throw new Usage("Named streams go along in one way: --keep-streams, --streams or --two-file.");
  const inState = stateFilter(options.state);
  const matches = options.match === undefined ? () => true : matcher(options.match);
  const layout = options.layout ?? "tree";
  if (!(LAYOUTS as readonly string[]).includes(layout)) throw new Usage(`--layout takes ${LAYOUTS.join(", ")}, not “${layout}”.`);
  return {
    wanted: (copy) => copy.type === "file" && !copy.system && inState(copy) && matches(copy.path.normalize("NFC")),
    layout: layout as RestoreLayout,
    pattern: patternOf(options.names),
    streams: options.streams ? "beside" : options["two-file"] ? "two-file" : options["keep-streams"] ? "keep" : "leave",
  };
}

function patternOf(text: string | undefined): NamePattern | null {
  if (text === undefined) return null;
  try {
    return new NamePattern(text);
  } catch (error) {
    if (!(error instanceof PatternError)) throw error;
    throw new Usage(error.message);
  }
}

/** A file that is to be written, and where: safe names below the destination. */
export interface WantedFile {
  readonly copy: Copy;
  /** null: it is not there any more. */
  readonly disk: ByteSource | null;
  readonly target: readonly string[];
}

/** Gives the files that a call chooses in a tree, each while it is open. @param counter counts the files of all trees of a call */
export function* wantedFiles(chosen: Chosen, options: Options, wish: Wish, counter: { files: number }): Generator<WantedFile, void, void> {
  const above = chosen.folder === null ? [] : safeComponents(chosen.folder);
  // The same path may stand in several sets.
  const inSets = chosen.volume.readThorough !== undefined && (chosen.volume.states?.().length ?? 0) !== 1 && !chosen.report?.view;
  for (const at of copiesOf(chosen, options)) {
    if (!wish.wanted(at.copy)) continue;
    const bytes = openBytesOf(chosen, at);
    try {
      for (const copy of [at.copy, ...(wish.streams === "beside" ? streamsOf(at.copy) : [])]) {
        counter.files += 1;
        const folder = inSets && copy.backup?.set ? [...above, ...safeComponents(`set-${copy.backup.set}`)] : above;
        const disk = bytes?.disk ?? null;
        yield { copy, disk, target: [...folder, ...placeOf(copy, disk, wish, counter.files)] };
      }
    } finally {
      bytes?.close();
    }
  }
}

function placeOf(copy: Copy, disk: ByteSource | null, { layout, pattern }: Wish, number: number): string[] {
  const file = { path: copy.path, name: copy.name, kind: kindOf(copy.name), modified: copy.modified, number };
  const nameless = copy.incompleteName === true && !copy.name.includes(".");
  if (!disk || !copy.layout || copy.size === 0 || !(nameless || layout === "date" || pattern?.tellsOfContent))
    return arrange(file, layout, pattern);
  const content = new LayoutSource(disk, copy.layout);
  const format = identify(content, copy.name);
  const { taken, title, camera } = format ? runSummary(format, content) : {};
  const extension = nameless ? format?.extensions[0] : undefined;
  return arrange({ ...file, taken, title, camera, extension, ...(extension ? { kind: kindOf(`x.${extension}`) } : {}) }, layout, pattern);
}

/** The named streams of a file as files beside it. */
const streamsOf = (copy: Copy): Copy[] =>
  copy.streams.map(({ name, size, layout }) => {
    const path = streamFileName(copy.path, name);
    return { ...copy, path, name: path.slice(path.lastIndexOf("/") + 1), size, layout, streams: [], marks: 0 };
  });

/**
 * The second file of the two-file form, called after the name its first one has got; null: nothing is in it.
 * @param target of the first file
 */
export function secondOf({ copy, disk }: WantedFile, target: readonly string[]): { file: WantedFile; left: readonly string[] } | null {
  const second = twoFileLayout(copy.streams);
  if (!second) return null;
  const { size } = second.layout;
  const folder = copy.path.slice(0, copy.path.length - copy.name.length);
  const name = `${SECOND_FILE}${copy.name}`;
  const file = {
    copy: {
      ...copy,
      name,
      path: `${folder}${name}`,
      size,
      layout: second.layout,
      condition: "not-checked" as const,
      absent: null,
      streams: [],
      marks: 0,
    },
    disk,
    target: [...target.slice(0, -1), `${SECOND_FILE}${target.at(-1)}`],
  };
  return { file, left: second.left };
}

/** Why nothing of a copy can be written; null: something can. */
export function notRestorable(copy: Copy): string | null {
  if (copy.condition === "name-only") return "Nothing of its content is left.";
  if (copy.absent) return ABSENCE_WORDS[copy.absent];
  if (!copy.layout && copy.size > 0) return "Its content cannot be read.";
  return null;
}

/** The content of a copy, as far as it can be read. */
export const contentOf = ({ copy, disk }: { readonly copy: Copy; readonly disk: ByteSource }): LayoutSource =>
  new LayoutSource(disk, copy.layout ?? EMPTY_LAYOUT);

function matcher(glob: string): (path: string) => boolean {
  // A pattern without a slash means the name alone, as in a shell.
  const test = picomatch(glob.replace(/^\//, ""), { dot: true, nocase: true, basename: !glob.includes("/") });
  return (path) => test(path.slice(1));
}
