import { spawnSync } from "node:child_process";
import { mkdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import type { Copy } from "../../core/copies/copy";
import { copyInTree } from "../../core/places/copy-in-tree";
import type { Searchable } from "../../io/open-searchable";
import { openStore } from "../../io/open-store";
import type { Store } from "../../io/stores";
import { sha256 } from "./mac-truth";

const folder = join(import.meta.dirname, "../fixtures/states");

export interface SetVersion {
  v: number;
  size: number;
  sha256: string;
  mtime: string;
  lost?: boolean;
  damaged?: boolean;
  brokeOff?: { size: number };
  stamp?: string;
}

/** One moment of a manifest: what the client had then, by path. */
export interface SetMoment {
  user?: string;
  machine?: string;
  date?: string;
  made?: string;
  clockSaid?: string;
  state?: string;
  copy?: string;
  folder?: string;
  file?: string;
  of?: string;
  living?: boolean;
  prefix?: string;
  tree?: Record<string, number | [string, number]>;
}

export interface SetTruth {
  runs?: SetMoment[];
  states?: SetMoment[];
  copies?: SetMoment[];
  archives?: (SetMoment & {
    condition?: Record<string, string>;
    headerBroken?: { path: string }[];
    password?: string;
    entriesCount?: number;
  })[];
  files: { user?: string; machine?: string; path: string; versions: SetVersion[] }[];
  unfinished?: { machine: string; date: string; whole: Record<string, { sha256: string }> }[];
}

export const setTruth = (name: string): SetTruth =>
  JSON.parse(gunzipSync(readFileSync(join(folder, `${name}.json.gz`))).toString()) as SetTruth;
export const setImage = (name: string): Buffer => gunzipSync(readFileSync(join(folder, `${name}.img.gz`)));

/** Unpacks a set as the folder it was, with its dates and links. @returns the folder */
export function unpackSet(name: string, into: string): string {
  const target = join(into, name);
  mkdirSync(target, { recursive: true });
  const done = spawnSync("tar", ["-xzf", join(folder, `${name}.tar.gz`), "-C", target], { encoding: "utf8" });
  if (done.status !== 0) throw new Error(done.stderr);
  return target;
}

/** A file of a state: as a copy, and the hash of what its layout gives; null: it cannot be read. */
export interface FoundFile {
  readonly copy: Copy;
  readonly hash: string | null;
}

/** The files of a store by their paths, without the first slash. */
export function filesIn(store: Store): Map<string, FoundFile> {
  const opened: Searchable = openStore(store);
  try {
    const found = new Map<string, FoundFile>();
    for (const { records } of opened.volume.readRecords(null, 512))
      for (const record of records) {
        if (record.type !== "file" || record.system) continue;
        const copy = copyInTree(opened.tree, record);
        const content = copy.layout && copy.file ? opened.tree.open(record) : null;
        const bytes = copy.layout ? readBytes(new LayoutSource(content?.content ?? opened.disk, copy.layout), 0, copy.size) : null;
        content?.close();
        const hash = copy.size === 0 && !copy.absent ? sha256(new Uint8Array()) : bytes && sha256(bytes);
        found.set(record.path.slice(1).normalize("NFC"), { copy, hash });
      }
    return found;
  } finally {
    opened.close();
  }
}

export interface Comparison {
  exact: number;
  missing: string[];
  /** Other bytes than the client had; `lies` of them are called whole. */
  wrong: string[];
  lies: string[];
  extra: string[];
}

/** Compares the files of a store with what a moment of the manifest says. @param own how a path of the manifest is written in the store */
export function compareMoment(
  truth: SetTruth,
  moment: SetMoment,
  store: Store,
  own: (path: string) => string = (path) => path,
): Comparison {
  const found = filesIn(store);
  const result: Comparison = { exact: 0, missing: [], wrong: [], lies: [], extra: [] };
  for (const [path, entry] of Object.entries(moment.tree ?? {})) {
    const [living, v] = Array.isArray(entry) ? entry : [path, entry];
    const version = truth.files
      .find(
        (file) =>
          file.path === living &&
          (!file.user || file.user === moment.user) &&
          (!file.machine || !moment.machine || file.machine === moment.machine),
      )
      ?.versions.find((each) => each.v === v);
    const key = own(path).normalize("NFC");
    const file = found.get(key);
    found.delete(key);
    if (!file || !version) result.missing.push(path);
    else if (file.hash === version.sha256) result.exact += 1;
    else {
      result.wrong.push(path);
      if (file.copy.condition === "whole") result.lies.push(path);
    }
  }
  result.extra = [...found.keys()];
  return result;
}
