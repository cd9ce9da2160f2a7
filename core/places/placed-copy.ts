import { type Copy, copyOfRecord } from "../copies/copy";
import { absent, type FileRecord, likeliest } from "../filesystems/file-record";
import { type ContentFinding, examineContent } from "../formats/registry";
import type { FileTree } from "./file-tree";
import type { PlaceRule } from "./rule";

/** A find as its reader gives it, before it is judged. */
export interface PlacedFind {
  readonly record: FileRecord;
  /** Where the client had it, under its right name. */
  readonly path: string;
  /** Of the state the copy keeps; UTC milliseconds. */
  readonly modified: number | null;
  readonly deletedAt?: number | null;
  readonly notes: readonly string[];
}

/**
 * A live file needs no rescue and is not looked into; what is kept in a known place may be handed over, so it is. All its bytes
 * are there, whatever they say: its condition stays, and whether it opens is reported beside it.
 */
function lookInto({ record }: PlacedFind, name: string, tree: FileTree): ContentFinding | null {
  if (record.state !== "live" || !likeliest(record) || record.size === 0) return null;
  const opened = tree.open(record);
  if (!opened) return null;
  try {
    return examineContent(opened.content, name);
  } finally {
    opened.close();
  }
}

/** A find as a copy: judged under its right name, with where it was really found as evidence. */
export function placedCopy(find: PlacedFind, rule: PlaceRule, tree: FileTree): Copy {
  const { record, path } = find;
  const name = path.slice(path.lastIndexOf("/") + 1);
  const judged = copyOfRecord({ ...record, path, name, modified: find.modified }, tree.disk);
  const content = judged.evidence.content ?? lookInto(find, name, tree);
  return {
    ...judged,
    evidence: { ...judged.evidence, content },
    place: rule.place,
    // A moment from another record is UTC, whatever the volume's own times are.
    ...(find.modified !== null && find.modified !== record.modified ? { localTimes: false } : {}),
    deletedAt: find.deletedAt ?? judged.deletedAt ?? null,
    found: { rule: rule.id, path: record.path },
    notes: [rule.note, ...find.notes, ...judged.notes],
  };
}

/** A record whose content is not that of the file it describes. */
export function nameOnly(record: FileRecord, size: number): FileRecord {
  return {
    ...record,
    size,
    content: absent("named-only", ""),
    streams: [],
    created: null,
    notes: [],
  };
}
