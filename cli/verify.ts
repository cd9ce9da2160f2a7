import { existsSync, lstatSync, readFileSync } from "node:fs";
import { basename, join } from "node:path";
import { BAG_DECLARATION, manifestName, parseManifest } from "../core/restore/bagit";
import { verifyBag } from "../io/verify-bag";
import { type HandoverReport, verifyHandover } from "../io/verify-handover";
import type { Options } from "./options";
import { flush, line, oneSource } from "./output";
import { EXIT, Usage } from "./usage";

const HANDOVER = "handover.json";

/**
 * `compass verify`: whether a package is complete and unchanged, or a handover as data holds together, without the bench's database: a line
 * a problem and one for all. A package's own handover is checked with it, and must know every file of it.
 */
export function verify(positionals: readonly string[], options: Options): number {
  const root = oneSource(positionals).replace(/(?<=.)\/+$/, "");
  const isFile = lstatSync(root, { throwIfNoEntry: false })?.isFile() ?? false;
  if (!isFile && !existsSync(join(root, BAG_DECLARATION)))
    throw new Usage(`${root} is neither a package (it has no ${BAG_DECLARATION}) nor a handover as data (JSON).`);
  try {
    return isFile ? verifyData(root, options) : verifyPackage(root, options);
  } finally {
    flush();
  }
}

const chainWords = ({ agreed, unchained, last }: HandoverReport): string =>
  `${agreed} entries of the log follow one another${unchained > 0 ? `, ${unchained} were written before it was a chain` : ""}; compare the last hash with one kept elsewhere: ${last}`;

function verifyData(path: string, options: Options): number {
  const report = verifyHandover(path);
  const problems = report.problems.map((problem) => ({ path: basename(path), problem }));
  return conclude(problems, { entries: report.agreed, unchained: report.unchained, lastHash: report.last }, chainWords(report), options);
}

function verifyPackage(root: string, options: Options): number {
  const { agreed, bytes, problems } = verifyBag(root);
  const path = join(root, HANDOVER);
  if (!existsSync(path)) return conclude(problems, { agreed, bytes }, `${agreed} files agree, ${bytes} bytes`, options);
  const report = verifyHandover(path);
  const unknown = report.problems.length > 0 ? [] : filesUnknownTo(report, root);
  const all = [...problems, ...report.problems.map((problem) => ({ path: HANDOVER, problem })), ...unknown];
  const facts = { agreed, bytes, entries: report.agreed, unchained: report.unchained, lastHash: report.last };
  return conclude(all, facts, `${agreed} files agree, ${bytes} bytes; ${chainWords(report)}`, options);
}

/** Payload files with a hash that nothing in the handover was restored with. */
function filesUnknownTo({ hashes }: HandoverReport, root: string): { path: string; problem: string }[] {
  const manifest = join(root, manifestName("sha256"));
  const listed = existsSync(manifest) ? parseManifest(readFileSync(manifest, "utf8")) : null;
  return [...(listed ?? [])].flatMap(([path, hash]) =>
    hashes.has(hash) ? [] : [{ path, problem: "The handover in this package knows no file with these bytes." }],
  );
}

function conclude(
  problems: readonly { path: string; problem: string }[],
  facts: Readonly<Record<string, number | string | null>>,
  words: string,
  options: Options,
): number {
  for (const each of problems) line(options.json, { ...each }, `${each.path}\t${each.problem}`);
  line(options.json, { ...facts, problems: problems.length }, `${words}; ${problems.length} problems`);
  return problems.length > 0 ? EXIT.problems : EXIT.done;
}
