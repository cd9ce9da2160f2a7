import { createHash } from "node:crypto";
import { existsSync, lstatSync, readdirSync } from "node:fs";
import { join, relative } from "node:path";
import Papa from "papaparse";
import type { ByteSource } from "../core/bytes/byte-source";
import { MemorySource } from "../core/bytes/byte-source";
import { describeGaps, type Gaps, gapsOf, hasGaps, OwnBytes } from "../core/restore/gaps";
import { Delivery } from "../io/deliver";
import { makeFolder } from "../io/make-folder";
import { describeWriteError } from "../io/system-errors";
import { withChosen } from "./chosen";
import { destination } from "./destination";
import type { Options } from "./options";
import { line, oneSource, say } from "./output";
import { Package } from "./package";
import { EXIT, Usage } from "./usage";
import { contentOf, notRestorable, type WantedFile, wantedFiles, wishOf } from "./wanted-files";

/** What to do where a file of that name is already: "compare" leaves it where it is the same, and keeps both where it is not. */
const CONFLICTS = ["keep-both", "skip", "replace", "compare"] as const;
type WishedConflict = (typeof CONFLICTS)[number];
const LIST = "restored files.csv";

/** `compass restore`: writes files, a line each; with a package, its tags at last. */
export function restore(positionals: readonly string[], options: Options): number {
  const source = oneSource(positionals);
  const wish = wishOf(options);
  const conflict = conflictOf(options.conflict);
  const root = destination(options.to, source);
  const bag = packageOf(options, root, source);
  const counter = { files: 0 };
  const rows: Row[] = [];
  let delivery: Delivery | null = null;
  const opened = () => {
    if (delivery) return delivery;
    makeFolder(root);
    delivery = Delivery.openHere(root);
    return delivery;
  };
  try {
    const code = withChosen(positionals, options, (chosen) => {
      let problems = false;
      for (const file of wantedFiles(chosen, options, wish, counter)) {
        const target = bag ? bag.payloadPath(file.target) : file.target;
        const result = restoreOne({ ...file, target }, opened, conflict, options.foreign ?? false);
        problems ||= (result.problem !== undefined && !result.same) || result.gaps !== undefined;
        rows.push({ ...result, raw: Buffer.from(file.copy.rawName).toString("hex") });
        if (result.output) bag?.add(relative(root, result.output));
        line(options.json, result, wordsOf(result));
      }
      return problems;
    });
    const listed = rows.filter(({ output }) => output);
    const changed = listed.some(({ path, output }) => `/${relative(root, output as string)}` !== path);
    if (listed.length > 0 && (bag || wish.layout !== "tree" || wish.pattern || (options.list && changed)))
      writeList(opened(), root, rows, bag);
    if (bag && listed.length > 0) bag.finish(opened());
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
    : `${result.sha256}\t${result.output}${result.gaps ? `\twith gaps: ${result.gaps.words}` : ""}`;

function conflictOf(text: string | undefined): WishedConflict {
  const wished = text ?? "keep-both";
  if (!(CONFLICTS as readonly string[]).includes(wished)) throw new Usage(`--conflict takes ${CONFLICTS.join(", ")}, not “${wished}”.`);
  return wished as WishedConflict;
}

function packageOf(options: Options, root: string, source: string): Package | null {
  if (options.package === undefined) return null;
  if (options.package !== "bagit") throw new Usage(`--package takes bagit, not “${options.package}”.`);
  if (existsSync(root) && readdirSync(root).length > 0)
    throw new Usage(`A package needs a folder of its own: ${root} has something in it.`);
  return new Package(root, source);
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
  /** It stands there already, byte for byte. */
  same?: true;
}

function restoreOne({ copy, disk, target }: WantedFile, opened: () => Delivery, conflict: WishedConflict, foreign: boolean): Result {
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
    if (
      conflict === "compare" &&
      delivery.isTaken(target) &&
      lstatSync(there).size === copy.size &&
      hashOf(bytes) === delivery.hashOf(there)?.sha256
    )
      return { ...result, same: true, problem: "It stands there already, byte for byte." };
    const done = delivery.deliver(bytes, target, { conflict: conflict === "compare" ? "keep-both" : conflict, modified: copy.modified });
    if (!done) return { ...result, problem: "A file of that name is there, and is left as it is." };
    const gaps = gapsOf(content);
    return {
      ...result,
      output: done.output,
      sha256: done.sha256,
      readBack: done.fromDevice ? "device" : "memory",
      ...(hasGaps(gaps) ? { gaps: { ...gaps, words: describeGaps(gaps, foreign) } } : {}),
    };
  } catch (error) {
    return { ...result, problem: describeWriteError(error) };
  }
}

const STEP = 1 << 20;
function hashOf(content: ByteSource): string {
  const hash = createHash("sha256");
  const buffer = new Uint8Array(STEP);
  for (let at = 0; at < content.size; at += STEP) {
    const part = buffer.subarray(0, Math.min(STEP, content.size - at));
    content.read(at, part);
    hash.update(part);
  }
  return hash.digest("hex");
}

type Row = Result & { readonly raw: string };

/** The list beside the files, by which every change of name and place can be undone. */
function writeList(delivery: Delivery, root: string, rows: readonly Row[], bag: Package | null): void {
  const table = rows.map(({ path, output, size, sha256, condition, raw, problem, gaps }) => ({
    "written as": output === null ? "" : relative(root, output),
    "original path": path,
    "name as stored, hex": raw,
    bytes: size,
    "sha-256": sha256 ?? "",
    condition,
    remark: problem ?? gaps?.words ?? "",
  }));
  const text = `\ufeff${Papa.unparse(table, { newline: "\r\n", escapeFormulae: true })}\r\n`;
  const target = bag ? bag.payloadPath([LIST]) : [LIST];
  const done = delivery.deliver(new MemorySource(Buffer.from(text)), target, { conflict: "keep-both" });
  if (done) bag?.add(relative(root, done.output));
}
