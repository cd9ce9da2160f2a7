import { strToU8, zipSync } from "fflate";
import { MemorySource } from "../../core/bytes/byte-source";
import { type Checkpoint, numberCheckpoint } from "../../core/bytes/checkpoint";
import { layoutOf } from "../../core/bytes/layout";
import type { Copy } from "../../core/copies/copy";
import { type FileRecord, placed } from "../../core/filesystems/file-record";
import { type FileTree, volumeTree } from "../../core/places/file-tree";
import { placesPass } from "../../core/places/places-pass";
import { SHIPPED_RULES } from "../../core/places/rules";
import { fixture } from "./volume-truth";

/** What other programs wrote: see the fixture's maker. */
interface Places {
  link: string;
  linkSaid: string;
  jumpList: string;
  recentBinary: string;
  recentXml: string;
  folderMetadata: string;
  facts: { name: string; folder: string; old: string }[];
}
export const places = JSON.parse(fixture("places.json.gz").toString()) as Places;
export const bytesOf = (base64: string) => new Uint8Array(Buffer.from(base64, "base64"));

export const DOCX = zipSync({ "[Content_Types].xml": strToU8("<Types/>"), "word/document.xml": strToU8("<document/>") });
export const XLSX = zipSync({
  "[Content_Types].xml": strToU8("<Types/>"),
  "_rels/.rels": strToU8("x".repeat(9000)),
  "xl/workbook.xml": strToU8("<workbook/>"),
});
export const DWG = strToU8(`AC1032${"\0".repeat(200)}`);

export interface File {
  path: string;
  content?: Uint8Array;
  state?: "live" | "deleted";
  modified?: number;
}

/** Files in memory as a tree; each has its content behind the others' on one disk. */
export function treeOf(files: readonly File[], serial: number | null = null): FileTree {
  const disk = new Uint8Array(files.reduce((sum, file) => sum + (file.content?.length ?? 0), 0));
  let at = 0;
  const records = files.map(({ path, content = new Uint8Array(), state = "live", modified = 0 }): FileRecord => {
    disk.set(content, at);
    const place = at;
    at += content.length;
    return {
      // As a folder's files have it: the same whatever else is there.
      reference: `${state} ${path}`,
      state,
      type: "file",
      path,
      name: path.slice(path.lastIndexOf("/") + 1),
      rawName: new Uint8Array(),
      size: content.length,
      created: null,
      modified,
      changed: null,
      content: placed(layoutOf(content.length > 0 ? [{ kind: "disk", at: place, length: content.length }] : [], content.length)),
      system: false,
      streams: [],
      links: 1,
      notes: [],
    };
  });
  const source = new MemorySource(disk);
  return {
    ...volumeTree(
      {
        readRecords: function* () {
          yield { records, resume: numberCheckpoint(records.length), done: records.length, total: records.length };
        },
      } as never,
      source,
      serial,
    ),
  };
}

/** All copies a pass over known places gives. */
export const placedCopies = (tree: FileTree, rules = SHIPPED_RULES, from: Checkpoint | null = null, step = 512): Copy[] =>
  [...placesPass(tree, rules, from, step)].flatMap((batch) => [...batch.copies]);
