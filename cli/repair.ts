import type { Options } from "./main";
import { EXIT, Usage } from "./output";

export function repairFile(files: readonly string[], options: Options): number {
  if (files.length !== 1 || !options.to) throw new Usage("Name one file, and with --to where its repaired form goes.");
  return EXIT.done;
}
