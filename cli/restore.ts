import { existsSync, readdirSync } from "node:fs";
import { basename, join, relative, sep } from "node:path";
import { MemorySource } from "../core/bytes/byte-source";
import { marksOf } from "../core/restore/carried";
import { LIST_NAME, toListRow } from "../core/restore/file-list";
import { describeGaps, type Gaps, gapsOf, hasGaps, OwnBytes } from "../core/restore/gaps";
import { describeLeftBehind, describeNotCarried, describeStreams } from "../core/restore/left-behind";
import { CONFLICTS, type Conflict, takenFor } from "../core/restore/wishes";
import { isDatabase, standsAlone } from "../io/companions";
import { Delivery } from "../io/deliver";
import { hashContent } from "../io/hash-content";
import { makeFolder } from "../io/make-folder";
import { writeSheet } from "../io/sheet";
import { readStreamAttributes } from "../io/stream-attributes";
import { describeWriteError } from "../io/system-errors";
import { closeBag, inPayload } from "../io/write-bag";
import { withChosen } from "./chosen";
import { destination } from "./destination";
import type { Options } from "./options";
import { line, oneSource, say } from "./output";
import { EXIT, Usage } from "./usage";
import { contentOf, notRestorable, secondOf, type WantedFile, wantedFiles, wishOf } from "./wanted-files";

/** `compass restore`: writes files, a line each; with a package, its tags at last. */
export function restore(positionals: readonly string[], options: Options): number {
  const source = oneSource(positionals);
  const wish = wishOf(options);
  const conflict = conflictOf(options.conflict);
  const root = destination(options.to, source);
  const bag = isBag(options, root);
  const how = { foreign: options.foreign ?? false, keep: wish.streams === "keep" };
  const counter = { files: 0 };
  const rows: Row[] = [];
  /** Absolute paths of what this restore has written. */
  const written = new Set<string>();
  let delivery: Delivery | null = null;
  const opened = () => {
    if (delivery) return delivery;
    makeFolder(root);
    delivery = Delivery.openHere(root).distinguish((path) => written.has(path));
    return delivery;
  };
  try {
    const code = withChosen(positionals, options, (chosen) => {
      let problems = false;
      for (const file of wantedFiles(chosen, options, wish, counter)) {
        const target = bag ? inPayload(file.target) : file.target;
        const write = (one: WantedFile, left: readonly string[], taken = conflict) => {
          const result = restoreOne(one, left, opened, taken, how, written);
          problems ||= (result.problem !== undefined && !result.same) || result.gaps !== undefined;
          rows.push({ ...result, raw: Buffer.from(one.copy.rawName).toString("hex") });
          line(options.json, result, wordsOf(result));
          return result.output;
        };
        const output = write({ ...file, target }, describeLeftBehind(file.copy.streams, wish.streams));
        const second = output && wish.streams === "two-file" ? secondOf(file, relative(root, output).split(sep)) : null;
        // Under another name than that of its first file it would belong to none: it is never numbered.
        if (second)
          write(second.file, second.left.length > 0 ? [describeStreams(second.left)] : [], conflict === "replace" ? conflict : "skip");
      }
      return problems;
    });
    const listed = rows.filter(({ output }) => output);
    const changed = listed.some(({ path, output }) => `/${relative(root, output as string)}` !== path);
    const list = listOf(root, rows, options.foreign ?? false);
    if (bag && listed.length > 0)
      closeBag(
        opened(),
        [],
        listed.map(({ output, sha256 }) => ({ path: relative(root, output as string), sha256: sha256 as string })),
        { info: [["External-Description", `Files recovered from ${basename(source)}`]], tags: [{ name: LIST_NAME, text: list }] },
      );
    else if (listed.length > 0 && (wish.layout !== "tree" || wish.pattern || (options.list && changed)))
      opened().deliver(new MemorySource(Buffer.from(list)), [LIST_NAME], { conflict: "keep-both" });
    return code;
  } catch (error) {
    if (!(error instanceof Usage)) say(describeWriteError(error));
    if (error instanceof Usage) throw error;
    return EXIT.problems;
  } finally {
    (delivery as Delivery | null)?.close();
  }
}

const wordsOf = (result: Result): string =>
  result.problem
    ? `not restored\t${result.path}\t${result.problem}`
    : `${result.sha256}\t${result.output}${result.gaps ? `\twith gaps: ${result.gaps.words}` : ""}${result.leftBehind ? `\tleft behind: ${result.leftBehind.join("; ")}` : ""}`;

function conflictOf(text: string | undefined): Conflict {
  const wished = text ?? "keep-both";
  if (!(CONFLICTS as readonly string[]).includes(wished)) throw new Usage(`--conflict takes ${CONFLICTS.join(", ")}, not “${wished}”.`);
  return wished as Conflict;
}

/** Whether a package is asked for. @throws Usage when its folder has something in it */
function isBag(options: Options, root: string): boolean {
  if (options.package === undefined) return false;
  if (options.package !== "bagit") throw new Usage(`--package takes bagit, not “${options.package}”.`);
  if (existsSync(root) && readdirSync(root).length > 0)
    throw new Usage(`A package needs a folder of its own: ${root} has something in it.`);
  return true;
}

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
  /** What did not go along, in words. */
  leftBehind?: string[];
  /** It stands there already, byte for byte. */
  same?: true;
}

function restoreOne(
  { copy, disk, target }: WantedFile,
  leftBehind: readonly string[],
  opened: () => Delivery,
  conflict: Conflict,
  { foreign, keep }: { readonly foreign: boolean; readonly keep: boolean },
  written: Set<string>,
): Result {
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
    const delivery = opened();
    const content = contentOf({ copy, disk });
    const bytes = foreign ? content : new OwnBytes(content);
    const there = join(delivery.path, ...target);
    if (conflict === "compare" && delivery.sizeOf(target) === copy.size && hashContent(bytes) === delivery.hashOf(there)?.sha256)
      return { ...result, same: true, problem: "It stands there already, byte for byte." };
    const streams = keep ? copy.streams : [];
    const { modified, created } = copy;
    const facts = { modified, created, ...marksOf(copy.marks), attributes: readStreamAttributes(disk, streams) };
    const database = isDatabase(bytes);
    const done = delivery.deliver(bytes, target, {
      conflict: takenFor(conflict),
      facts,
      isFree: (folders, name) =>
        standsAlone(delivery, folders, name, database, (components) => written.has(join(delivery.path, ...components))),
    });
    if (done) written.add(done.output);
    if (!done) return { ...result, problem: "A file of that name is there, and is left as it is." };
    const gaps = gapsOf(content);
    const names = streams.map(({ name }) => name);
    const left = [...leftBehind, ...describeNotCarried(facts, done.carried, names)];
    return {
      ...result,
      output: done.output,
      sha256: done.sha256,
      readBack: done.fromDevice ? "device" : "memory",
      ...(left.length > 0 ? { leftBehind: left } : {}),
      ...(hasGaps(gaps) ? { gaps: { ...gaps, words: describeGaps(gaps, foreign) } } : {}),
    };
  } catch (error) {
    return { ...result, problem: describeWriteError(error) };
  }
}

type Row = Result & { readonly raw: string };

/** The list beside the files, by which every change of name and place can be undone. */
const listOf = (root: string, rows: readonly Row[], foreign: boolean): string =>
  writeSheet(
    rows.map(({ path, output, size, sha256, condition, raw, problem, gaps, leftBehind = [] }) =>
      toListRow({
        written: output === null ? null : relative(root, output),
        path,
        rawName: raw,
        size,
        sha256,
        condition,
        gaps: gaps ?? null,
        asFound: foreign,
        leftBehind,
        remark: problem ?? null,
      }),
    ),
  );
