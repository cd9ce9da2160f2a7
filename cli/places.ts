import { statSync } from "node:fs";
import type { Copy } from "../core/copies/copy";
import type { FileTree } from "../core/places/file-tree";
import { placesPass } from "../core/places/places-pass";
import { SHIPPED_RULES } from "../core/places/rules";
import { FolderSource } from "../io/folder-source";
import { FOLDER } from "../io/open-searchable";
import { withChosen } from "./chosen";
import { describe } from "./list";
import type { Options } from "./options";
import { flush, line, oneSource } from "./output";
import { EXIT } from "./usage";

/** `compass places`: what known places hold, a line a copy, under its right name. The source is an image or a folder. */
export function places(positionals: readonly string[], options: Options): number {
  const path = oneSource(positionals);
  const isFolder = options.store === undefined ? statSync(path, { throwIfNoEntry: false })?.isDirectory() : options.store === FOLDER;
  if (isFolder) {
    printCopies(new FolderSource(path), 0, options);
    flush();
    return EXIT.done;
  }
  return withChosen(positionals, options, ({ tree, number }) => {
    printCopies(tree, number, options);
    return false;
  });
}

function printCopies(tree: FileTree, volume: number, options: Options): void {
  for (const batch of placesPass(tree, SHIPPED_RULES))
    for (const copy of batch.copies) {
      if (copy.type !== "file") continue;
      line(
        options.json,
        asPlaced(volume, copy),
        `${copy.place}\t${copy.condition}\t${copy.size}\t${copy.path.normalize("NFC")}\t${copy.found?.path}`,
      );
    }
}

/** The line `list` has for a copy, with where it was found and what it should be called. */
function asPlaced(volume: number, copy: Copy): Record<string, unknown> {
  return {
    ...describe(volume, copy),
    path: (copy.found?.path ?? copy.path).normalize("NFC"),
    rule: copy.found?.rule ?? null,
    restoreName: copy.name.normalize("NFC"),
    restorePath: copy.path.normalize("NFC"),
    deletedAt: copy.deletedAt ? new Date(copy.deletedAt).toISOString() : null,
  };
}
