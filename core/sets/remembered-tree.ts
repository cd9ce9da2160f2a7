import { numberCheckpoint } from "../bytes/checkpoint";
import type { FileRecord, RecordBatch } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import { recordsOf } from "./backup-set";

/** Records that are kept: of larger trees each reading goes to the tree again. */
const MOST_KEPT = 200_000;

/** A tree that is read several times from its beginning: its records are kept from the first time on. */
export function rememberedTree(tree: FileTree): FileTree {
  let kept: FileRecord[] | null = null;
  let tooMany = false;
  return {
    serial: tree.serial,
    disk: tree.disk,
    open: (record) => tree.open(record),
    *readOutside(isSet) {
      if (!kept && tree.readOutside) return yield* tree.readOutside(isSet);
      yield* recordsOf(this);
    },
    readBelow(folder) {
      // What is in mind is quicker gone through than looked up again.
      return !kept && tree.readBelow ? tree.readBelow(folder) : recordsOf(this);
    },
    *readRecords(from, step): Generator<RecordBatch, void, void> {
      if (from !== null || tooMany) return yield* tree.readRecords(from, step);
      if (kept) {
        yield { records: kept, resume: numberCheckpoint(kept.length), done: kept.length, total: kept.length };
        return;
      }
      const found: FileRecord[] = [];
      for (const batch of tree.readRecords(null, step)) {
        if (found.length + batch.records.length > MOST_KEPT) {
          tooMany = true;
          found.length = 0;
        }
        if (!tooMany) found.push(...batch.records);
        yield batch;
      }
      if (!tooMany) kept = found;
    },
  };
}
