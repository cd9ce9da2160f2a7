import { MemorySource } from "../bytes/byte-source";
import { type Copy, copyOfRecord } from "../copies/copy";
import type { FileRecord } from "../filesystems/file-record";
import type { FileTree } from "./file-tree";

const NOTHING = new MemorySource(new Uint8Array());

/** A record of any tree as a copy. Where its bytes are not those of the tree's disk it is opened, if there is a reason to look into it. */
export function copyInTree(tree: FileTree, record: FileRecord): Copy {
  const { content } = record;
  if (!record.file || content.kind !== "placed") return copyOfRecord(record, tree.disk);
  if (!content.likeliest.unguarded) return copyOfRecord(record, NOTHING);
  const opened = tree.open(record);
  if (!opened) return copyOfRecord(record, NOTHING);
  try {
    return copyOfRecord(record, opened.content);
  } finally {
    opened.close();
  }
}
