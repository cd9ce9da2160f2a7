import { existsSync } from "node:fs";
import { join } from "node:path";
import { BAG_DECLARATION } from "../core/restore/bagit";
import { verifyBag } from "../io/verify-bag";
import type { Options } from "./options";
import { flush, line, oneSource } from "./output";
import { EXIT, Usage } from "./usage";

/** `compass verify`: whether a package is complete and unchanged, a line a problem and one for all. */
export function verify(positionals: readonly string[], options: Options): number {
  const root = oneSource(positionals).replace(/\/+$/, "");
  if (!existsSync(join(root, BAG_DECLARATION))) throw new Usage(`${root} is no package: it has no ${BAG_DECLARATION}.`);
  try {
    const { agreed, bytes, problems } = verifyBag(root);
    for (const { path, problem } of problems) line(options.json, { path, problem }, `${path}\t${problem}`);
    line(options.json, { agreed, bytes, problems: problems.length }, `${agreed} files agree, ${bytes} bytes; ${problems.length} problems`);
    return problems.length > 0 ? EXIT.problems : EXIT.done;
  } finally {
    flush();
  }
}
