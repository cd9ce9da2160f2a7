import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { MemorySource } from "../../core/bytes/byte-source";
import type { Copy } from "../../core/copies/copy";
import { unpackBlocks } from "./blocks";
import { hashOf, sha256 } from "./mac-truth";

const folder = join(import.meta.dirname, "../fixtures/states");
const fixture = (name: string): Buffer => gunzipSync(readFileSync(join(folder, name)));

interface Effect {
  states: { state: string }[];
  files: Record<string, Record<string, string>>;
}

interface Truth {
  volume: { partitionOffset: number };
  snapshots: {
    state: string;
    id: string;
    created: string;
    machine: string;
    headerOffset: number;
    rangesOffset: number;
    blockListOffsets: number[];
  }[];
  states: { state: string; date: string; tree: Record<string, number> }[];
  files: { path: string; versions: { v: number; size: number; sha256: string; mtime: string }[] }[];
  /** What must not be called whole, by path and state. */
  damageEffect?: Effect;
}

const truthOf = (name: string) => JSON.parse(fixture(`${name}.json.gz`).toString()) as Truth;
export const snapshotTruth = truthOf("snap-main");
export const damageEffect = truthOf("snap-damaged").damageEffect as Effect;

/** Bytes of the volume of that image. */
const VOLUME = 75_497_472;

export const snapshotDisk = (): Uint8Array => unpackBlocks(fixture("snap-main.blocks.gz"));
export function snapshotVolume(name: "main" | "damaged" | "deleted"): Uint8Array {
  const { partitionOffset } = snapshotTruth.volume;
  const sound = snapshotDisk().subarray(partitionOffset, partitionOffset + VOLUME);
  return name === "main" ? sound : unpackBlocks(fixture(`snap-${name}.blocks.gz`), sound);
}

const EMPTY = sha256(new Uint8Array());

/** How the files of a state come out: how many with their bytes and called whole, how many else; and those called whole that are not. */
export function compareState(state: string, copies: readonly Copy[], bytes: Uint8Array) {
  const disk = new MemorySource(bytes);
  const { tree } = snapshotTruth.states.find((each) => each.state === state) ?? { tree: {} };
  const live = new Map(
    copies
      .filter(
        (copy) => copy.state === "live" && copy.type === "file" && !copy.system && !copy.path.startsWith("/System Volume Information"),
      )
      .map((copy) => [copy.path.slice(1).normalize("NFC"), copy]),
  );
  const result = { exact: 0, whole: 0, lies: [] as string[], missing: [] as string[], extra: [] as string[], dates: [] as string[] };
  for (const [path, v] of Object.entries(tree)) {
    const wanted = snapshotTruth.files.find((file) => file.path === path)?.versions.find((version) => version.v === v);
    const copy = live.get(path.normalize("NFC"));
    if (!copy || !wanted) {
      result.missing.push(path);
      continue;
    }
    const exact = (copy.size === 0 ? EMPTY : hashOf(copy.layout, disk)) === wanted.sha256;
    if (exact) result.exact += 1;
    if (exact && copy.condition === "whole") result.whole += 1;
    if (!exact && copy.condition === "whole") result.lies.push(path);
    if (exact && copy.modified !== Math.floor(Date.parse(wanted.mtime.replace(/(\.\d{3})\d*/, "$1")))) result.dates.push(path);
  }
  result.extra = [...live.keys()].filter((path) => !(path in tree));
  return result;
}
