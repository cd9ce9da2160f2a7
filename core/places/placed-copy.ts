import { type Copy, copyOfRecord } from "../copies/copy";
import type { FileRecord } from "../filesystems/file-record";
import type { FileTree } from "./file-tree";
import type { PlaceRule } from "./rule";

/** A find as its reader tells it, before it is judged. */
export interface Told {
  readonly record: FileRecord;
  /** Where the client had it, under its right name. */
  readonly path: string;
  /** Of the state the copy keeps; UTC milliseconds. */
  readonly modified: number | null;
  readonly deletedAt?: number | null;
  readonly notes: readonly string[];
}

/** A find as a copy: judged under its right name, with where it was really found as evidence. */
export function placedCopy(told: Told, rule: PlaceRule, tree: FileTree): Copy {
  const { record, path } = told;
  const name = path.slice(path.lastIndexOf("/") + 1);
  const judged = copyOfRecord({ ...record, path, name, modified: told.modified }, tree.disk);
  // An empty file is whole without any content; of one whose content is somewhere else only the name is known.
  const nameOnly = record.layout === null && record.evidence.lost > 0;
  return {
    ...judged,
    ...(nameOnly ? { condition: "name-only" as const, survival: 0 } : {}),
    place: rule.place,
    deletedAt: told.deletedAt ?? judged.deletedAt ?? null,
    found: { rule: rule.id, path: record.path },
    notes: [rule.told, ...told.notes, ...judged.notes],
  };
}
