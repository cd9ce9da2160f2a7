import { existsSync, lstatSync, realpathSync, statSync } from "node:fs";
import { dirname, resolve, sep } from "node:path";
import picomatch from "picomatch";
import type { ByteSource } from "../core/bytes/byte-source";
import { EMPTY_LAYOUT, LayoutSource } from "../core/bytes/layout";
import type { Copy } from "../core/copies/copy";
import { ABSENCE_WORDS } from "../core/copies/vocabulary";
import { describeGaps, type Gaps, gapsOf, hasGaps, OwnBytes } from "../core/restore/gaps";
import { safeComponents, streamFileName } from "../core/restore/names";
import { Delivery } from "../io/deliver";
import { liesOnDrive } from "../io/drives";
import { makeFolder } from "../io/make-folder";
import { describeWriteError } from "../io/system-errors";
import { copiesOf, openBytesOf, stateFilter, withChosen } from "./chosen";
import type { Options } from "./options";
import { line, oneSource } from "./output";
import { Usage } from "./usage";

/** `compass restore`: writes files with their folders, a line each. */
export function restore(positionals: readonly string[], options: Options): number {
  const wanted = stateFilter(options.state);
  const root = destination(options.to, oneSource(positionals));
  const matches = options.match === undefined ? () => true : matcher(options.match);
  let delivery: Delivery | null = null;
  const opened = () => {
    if (delivery) return delivery;
    makeFolder(root);
    delivery = Delivery.openHere(root);
    return delivery;
  };
  try {
    return withChosen(positionals, options, (chosen) => {
      let problems = false;
      const above = chosen.folder === null ? [] : safeComponents(chosen.folder);
      // The same path may stand in several sets.
      const inSets = chosen.volume.readThorough !== undefined && (chosen.volume.states?.().length ?? 0) !== 1 && !chosen.report?.view;
      for (const at of copiesOf(chosen, options)) {
        const { copy } = at;
        if (copy.type !== "file" || copy.system || !wanted(copy) || !matches(copy.path.normalize("NFC"))) continue;
        const bytes = openBytesOf(chosen, at);
        try {
          for (const one of [copy, ...(options.streams ? streamsOf(copy) : [])]) {
            const folder = inSets && copy.backup ? [...above, ...safeComponents(`set-${copy.backup.set}`)] : above;
            const result = restoreOne(one, bytes?.disk ?? null, opened(), folder, options.foreign ?? false);
            problems ||= result.problem !== undefined || result.gaps !== undefined;
            line(
              options.json,
              result,
              result.problem
                ? `not restored\t${one.path}\t${result.problem}`
                : `${result.sha256}\t${result.output}${result.gaps ? `\twith gaps: ${result.gaps.words}` : ""}`,
            );
          }
        } finally {
          bytes?.close();
        }
      }
      return problems;
    });
  } finally {
    (delivery as Delivery | null)?.close();
  }
}

/** The named streams of a file as files beside it. */
const streamsOf = (copy: Copy): Copy[] =>
  copy.streams.map(({ name, size, layout }) => ({
    ...copy,
    path: streamFileName(copy.path, name),
    size,
    layout,
    streams: [],
  }));

interface Result {
  path: string;
  output: string | null;
  size: number;
  sha256: string | null;
  condition: string;
  /** Where it was read again from to be compared; null: it was not written. */
  readBack: "device" | "memory" | null;
  /** Stretches that are not the file's own bytes, in its content. */
  gaps?: Gaps & { words: string };
  problem?: string;
}

function restoreOne(copy: Copy, disk: ByteSource | null, delivery: Delivery, above: readonly string[], foreign: boolean): Result {
  const result: Result = {
    path: copy.path.normalize("NFC"),
    output: null,
    size: copy.size,
    sha256: null,
    condition: copy.condition,
    readBack: null,
  };
  const why = notRestorable(copy);
  if (why) return { ...result, problem: why };
  if (!disk) return { ...result, problem: "It is not there any more, or cannot be opened." };
  try {
    const content = new LayoutSource(disk, copy.layout ?? EMPTY_LAYOUT);
    const done = delivery.deliver(foreign ? content : new OwnBytes(content), [...above, ...safeComponents(copy.path)], {
      conflict: "keep-both",
      modified: copy.modified,
    });
    const gaps = gapsOf(content);
    return {
      ...result,
      output: done?.output ?? null,
      sha256: done?.sha256 ?? null,
      readBack: done ? (done.fromDevice ? "device" : "memory") : null,
      ...(hasGaps(gaps) ? { gaps: { ...gaps, words: describeGaps(gaps, foreign) } } : {}),
    };
  } catch (error) {
    return { ...result, problem: describeWriteError(error) };
  }
}

function notRestorable(copy: Copy): string | null {
  if (copy.condition === "name-only") return "Nothing of its content is left.";
  if (copy.absent) return ABSENCE_WORDS[copy.absent];
  if (!copy.layout && copy.size > 0) return "Its content cannot be read.";
  return null;
}

function destination(to: string | undefined, source: string): string {
  if (to === undefined) throw new Usage("Say where to restore to: --to DIR.");
  const root = resolve(to);
  if (existsSync(root) && !lstatSync(realpathSync(root)).isDirectory()) throw new Usage(`${to} is a file, not a folder to restore to.`);
  if (existsSync(source) && liesIn(root, realpathSync(source)))
    throw new Usage("The destination is the source itself, or lies in it: choose another folder.");
  if (statSync(source, { throwIfNoEntry: false })?.isBlockDevice() && liesOnDrive(root, source))
    throw new Usage(
      "The destination is on the drive that is read: what is still to be found there could be destroyed. Choose another device.",
    );
  return root;
}

/** Whether a folder, or the nearest one above it that is there, is another one or lies below it. */
function liesIn(folder: string, source: string): boolean {
  let at = folder;
  while (!existsSync(at)) at = dirname(at);
  const real = realpathSync(at);
  return real === source || real.startsWith(`${source}${sep}`);
}

function matcher(glob: string): (path: string) => boolean {
  // A pattern without a slash means the name alone, as in a shell.
  const test = picomatch(glob.replace(/^\//, ""), { dot: true, nocase: true, basename: !glob.includes("/") });
  return (path) => test(path.slice(1));
}
