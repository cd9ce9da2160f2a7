import { earlierStatesPass } from "../core/sets/earlier-states-pass";
import { FolderSource } from "../io/folder-source";

/** The pass over earlier states of a folder alone: every version is made, none is stored. */
const [, , path = ""] = process.argv;
const folder = new FolderSource(path);
const openState = () => {
  throw new Error("a folder has no snapshots");
};
let copies = 0;
for (const batch of earlierStatesPass({ volume: folder, tree: folder, openState }, 512)) copies += batch.copies.length;
console.log(copies);
