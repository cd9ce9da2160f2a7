import { identify, runCheck } from "../core/formats/registry";
import { ReadOnlyFile } from "../io/read-only-file";
import { SourceError } from "../io/source-error";
import type { Options } from "./options";
import { flush, line } from "./output";
import { EXIT, Usage } from "./usage";

/** `compass check`: whether files will open; null where their type does not allow a verdict. */
export function checkFiles(files: readonly string[], options: Options): number {
  if (files.length === 0) throw new Usage("Name the files to check.");
  let problems = false;
  for (const file of files) {
    const source = open(file);
    const format = identify(source, file);
    const verdict = format ? runCheck(format, source) : null;
    source.close();
    const opens = verdict === null || verdict.verdict === "cannot-tell" ? null : verdict.verdict === "sound";
    const reason = verdict === null ? "the type is not known" : verdict.verdict === "sound" ? undefined : verdict.reason;
    problems ||= opens === false || verdict === null;
    line(
      options.json,
      { file, format: format?.id ?? "unknown", opens, ...(reason ? { reason } : {}) },
      `${opens === null ? "cannot tell" : opens ? "opens" : "does not open"}\t${file}${reason ? `\t${reason}` : ""}`,
    );
  }
  flush();
  return problems ? EXIT.problems : EXIT.done;
}

function open(file: string): ReadOnlyFile {
  try {
    return new ReadOnlyFile(file);
  } catch {
    throw new SourceError(`${file} cannot be read.`);
  }
}
