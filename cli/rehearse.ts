import { lstatSync, statfsSync } from "node:fs";
import { join } from "node:path";
import { GivenPaths } from "../core/restore/names";
import type { StreamWish } from "../core/restore/wishes";
import { withChosen } from "./chosen";
import { destination, nearest } from "./destination";
import type { Options } from "./options";
import { flush, line, oneSource } from "./output";
import { EXIT } from "./usage";
import { notRestorable, secondOf, type WantedFile, wantedFiles, wishOf } from "./wanted-files";

/** A drive's letter becomes a folder of that name. */
const DRIVE = /^\/([A-Za-z]):\//;

/** `compass rehearse`: what a restore with the same flags would do, a line a file and the sums; nothing is written. */
export function rehearse(positionals: readonly string[], options: Options): number {
  const wish = wishOf(options);
  const root = destination(options.to, oneSource(positionals));
  const counter = { files: 0 };
  const paths = new GivenPaths();
  const sums = { files: 0, bytes: 0, unwritable: 0, conflicts: 0, renamed: 0, partial: 0 };
  const { bavail, bsize } = statfsSync(nearest(root));
  const free = bavail * bsize;
  let blocks = 0;
  const code = withChosen(positionals, options, (chosen) => {
    for (const { copy, disk, target } of withSeconds(wantedFiles(chosen, options, wish, counter), wish.streams)) {
      const problem = notRestorable(copy) ?? (disk ? null : "It is not there any more, or cannot be opened.");
      const placed = problem ? [...target] : paths.give(target);
      const there = problem ? null : lstatSync(join(root, ...placed), { throwIfNoEntry: false });
      const path = copy.path.normalize("NFC");
      // A path is as it was when only what stands above the sets or volumes is added.
      const renamed = !problem && !`/${placed.join("/")}`.endsWith(path.replace(DRIVE, "/$1_/"));
      const partial = !problem && copy.condition === "partial";
      if (problem) sums.unwritable += 1;
      else {
        sums.files += 1;
        sums.bytes += copy.size;
        blocks += Math.ceil(copy.size / bsize);
        if (there) sums.conflicts += 1;
        if (renamed) sums.renamed += 1;
        if (partial) sums.partial += 1;
      }
      line(
        options.json,
        {
          path,
          target: problem ? null : placed.join("/"),
          size: copy.size,
          condition: copy.condition,
          exists: there ? { size: there.size, modified: there.mtime.toISOString() } : null,
          renamed,
          problem,
        },
        problem ? `not\t${path}\t${problem}` : `${there ? "is there" : "new"}\t${copy.condition}\t${copy.size}\t${placed.join("/")}`,
      );
    }
    return false;
  });
  const needed = blocks * bsize;
  const fits = needed <= free;
  line(
    options.json,
    { sums: { ...sums, needed, free, fits } },
    `${sums.files} files, ${sums.bytes} bytes (${needed} with the blocks they fill, ${free} free${fits ? "" : ": it does not fit"}); ${sums.unwritable} cannot be written, ${sums.conflicts} are there already, ${sums.renamed} get another name, ${sums.partial} partial`,
  );
  flush();
  return code === EXIT.done && (!fits || sums.unwritable > 0) ? EXIT.problems : code;
}

/** The files with their second ones behind them, where these are wished. */
function* withSeconds(files: Iterable<WantedFile>, wish: StreamWish): Generator<WantedFile, void, void> {
  for (const file of files) {
    yield file;
    const second = wish === "two-file" && !notRestorable(file.copy) ? secondOf(file, file.target) : null;
    if (second) yield second.file;
  }
}
