import type { FileTree } from "../places/file-tree";
import { ArchiveSetsFinder } from "./archive-sets";
import { type BackupSet, recordsOf, type SetFinder } from "./backup-set";
import { DatedCopiesFinder } from "./dated-copies";
import { DatedTreesFinder } from "./dated-trees";
import { FolderCopiesFinder } from "./folder-copies";
import { PhoneBackupsFinder } from "./phone-backups";
import { readStateFolder } from "./stamps";

/** All ways in which a set can be kept as files of a tree. Each looks at every record once. */
const FINDERS: readonly (() => SetFinder)[] = [
  () => new DatedCopiesFinder(),
  () => new DatedTreesFinder(),
  () => new ArchiveSetsFinder(),
  () => new FolderCopiesFinder(),
  () => new PhoneBackupsFinder(),
];

/** Finds the sets in a tree by the records of all its files and folders. */
export function findSets(tree: FileTree): BackupSet[] {
  const finders = FINDERS.map((make) => make());
  // Within a state the folders are enough: its files are read when the state is.
  const records = tree.readOutside?.((name) => readStateFolder(name) !== null) ?? recordsOf(tree);
  for (const record of records) for (const finder of finders) finder.note(record);
  const sets = finders.flatMap((finder) => finder.found(tree));
  // What is a state of one of the others is no copy made by hand.
  const roots = sets.filter(({ kind }) => kind !== "folder-copies").map(({ root }) => root);
  return sets.filter(
    ({ kind, root, states }) =>
      kind !== "folder-copies" || !states.every((state) => roots.some((each) => isIn(`/${state.key}`, each) || isIn(root, each))),
  );
}

const isIn = (path: string, root: string) => path === root || path.startsWith(`${root}/`);
