import { identify, runCheck } from "../core/formats/registry";
import { SourceError } from "../io/open-source";
import { ReadOnlyFile } from "../io/read-only-file";
import type { Options } from "./main";
import { EXIT, flush, line, Usage } from "./output";

/** `compass check`: whether files will open, as far as their types are known. */
export function checkFiles(files: readonly string[], options: Options): number {
  if (files.length === 0) throw new Usage("Name the files to check.");
  let problems = false;
  for (const file of files) {
    const source = open(file);
    const format = identify(source, file);
    const verdict = format ? runCheck(format, source) : null;
    source.close();
    const opens = verdict?.verdict === "sound" || verdict?.verdict === "cannot-tell";
    const reason = verdict === null ? "the type is not known" : verdict.verdict === "sound" ? undefined : verdict.reason;
    problems ||= !opens;
    line(
      options.json,
      { file, format: format?.id ?? "unknown", opens, ...(reason ? { reason } : {}) },
      `${opens ? "opens" : "does not open"}\t${file}${reason ? `\t${reason}` : ""}`,
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
