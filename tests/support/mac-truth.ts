import { createHash } from "node:crypto";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { type ByteSource, readBytes } from "../../core/bytes/byte-source";
import { type Layout, LayoutSource } from "../../core/bytes/layout";
import type { Copy } from "../../core/copies/copy";
import { fileRecordsPass, leftoversPass } from "../../core/copies/file-records-pass";
import { inspectDisk, openVolume, type VolumeReport } from "../../core/volumes/inspect";
import { blocksSource, unpackBlocks } from "./blocks";

const folder = join(import.meta.dirname, "../fixtures/mac");

export const macFixture = (name: string): Buffer => gunzipSync(readFileSync(join(folder, name)));

/** One entry of a manifest, as its maker wrote it. */
export interface MacEntry {
  path: string;
  type: "file" | "dir" | "symlink";
  size?: number;
  sha256?: string;
  state: string;
  volume?: number;
  linkTarget?: string;
  overwrittenPart?: "part" | "whole";
  damaged?: boolean;
  /** How often the name stands anywhere in the image. */
  nameFoundInRawBytes?: number;
  xattrs?: Record<string, { size: number; sha256: string }>;
  resourceFork?: { size: number; sha256: string };
  why?: string;
  /** Place in the file, in the volume, and length: bytes. */
  extents?: [number, number, number][];
}

export interface MacTruth {
  entries: MacEntry[];
  volumes?: { history: { files: Record<string, string> }[] }[];
}

export const macTruth = (name: string): MacTruth => JSON.parse(macFixture(`${name}.json.gz`).toString()) as MacTruth;

export const macBytes = (name: string): Uint8Array => unpackBlocks(macFixture(`${name}.blocks.gz`));
/** The same without the memory for all that is empty. */
export const macSource = (name: string): ByteSource => blocksSource(macFixture(`${name}.blocks.gz`));

/** The same with zeros for the contents of files, so that all that is left to read are structures. */
export function macStructures(name: string): Uint8Array {
  const bytes = macBytes(name);
  for (const { extents = [] } of macTruth(name).entries) for (const [, at, length] of extents) bytes.fill(0, at, at + length);
  return bytes;
}

export const sha256 = (bytes: Uint8Array): string => createHash("sha256").update(bytes).digest("hex");
export const hashOf = (layout: Layout | null, disk: ByteSource): string | null =>
  layout && sha256(readBytes(new LayoutSource(disk, layout), 0, layout.size));

export const macVolumes = (disk: ByteSource): VolumeReport[] =>
  inspectDisk(disk).volumes.filter(({ filesystem }) => ["hfsplus", "hfsx", "apfs"].includes(filesystem));

/** All copies of a volume: by its records, then what is left over. */
export function copiesOf(disk: ByteSource, volume: VolumeReport, leftovers = true): Copy[] {
  const opened = openVolume(disk, volume);
  const found = [...fileRecordsPass(opened, disk)].flatMap(({ copies }) => copies);
  return leftovers ? [...found, ...[...leftoversPass(opened, disk)].flatMap(({ copies }) => copies)] : found;
}

const EMPTY = sha256(new Uint8Array());
export const shownPath = ({ path }: MacEntry): string => `/${path}`.normalize("NFC");

/** What of the entries of a state does not come out with their bytes, type, attributes and forks; empty: all do. */
export function wrongOnes(entries: readonly MacEntry[], copies: readonly Copy[], disk: ByteSource): string[] {
  const live = new Map(copies.filter(({ state }) => state === "live").map((copy) => [copy.path.normalize("NFC"), copy]));
  return entries.flatMap((entry): string[] => {
    const copy = live.get(shownPath(entry));
    if (!copy) return [`${entry.path}: not listed`];
    if (entry.type === "dir") return copy.type === "folder" ? [] : [`${entry.path}: no folder`];
    if (entry.type === "symlink")
      return copy.absent === "not-followed" && copy.notes.join().includes(entry.linkTarget ?? "?") ? [] : [`${entry.path}: no link`];
    const content = copy.size === 0 ? EMPTY : hashOf(copy.layout, disk);
    const wrong = content === entry.sha256 && copy.condition === "whole" ? [] : [`${entry.path}: ${copy.condition}, other bytes`];
    const streams = { ...entry.xattrs, ...(entry.resourceFork ? { rsrc: entry.resourceFork } : {}) };
    for (const [name, truth] of Object.entries(streams)) {
      const stream = copy.streams.find((each) => each.name === name);
      if (!stream || hashOf(stream.layout, disk) !== truth.sha256) wrong.push(`${entry.path}: stream ${name}`);
    }
    return wrong;
  });
}

/** Copies that are called whole and do not have the bytes of any file that ever stood under their path. */
export function falselyWhole(truth: MacTruth, copies: readonly Copy[], disk: ByteSource): string[] {
  const known = new Map<string, Set<string>>();
  for (const entry of truth.entries) known.set(shownPath(entry), (known.get(shownPath(entry)) ?? new Set()).add(entry.sha256 ?? ""));
  return copies
    .filter(
      ({ state, type, condition, size, path }) =>
        state === "deleted" && type === "file" && condition === "whole" && size > 0 && known.has(path),
    )
    .filter((copy) => !known.get(copy.path)?.has(hashOf(copy.layout, disk) ?? ""))
    .map(({ path }) => path);
}

/** Of deleted entries: how many come out with their bytes under their full path, and how many only with their name. */
export function deletedOnes(entries: readonly MacEntry[], copies: readonly Copy[], disk: ByteSource) {
  const gone = copies.filter(({ state }) => state === "deleted");
  const under = (entry: MacEntry) => gone.filter(({ path }) => path.normalize("NFC") === shownPath(entry));
  const right = (entry: MacEntry) => under(entry).filter((copy) => hashOf(copy.layout, disk) === entry.sha256);
  return {
    whole: entries.filter((entry) => right(entry).some(({ condition }) => condition === "whole")).length,
    /** Those of which a copy has the right bytes, whatever it is called. */
    found: entries.filter((entry) => right(entry).length > 0).length,
    named: entries.filter((entry) => under(entry).length > 0).length,
  };
}
