import { createHash } from "node:crypto";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { MemorySource, readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import { type Copy, copyOfRecord } from "../../core/copies/copy";
import type { FileSystem } from "../../core/filesystems/file-record";
import { inspectDisk, openVolume } from "../../core/volumes/inspect";

const folder = join(import.meta.dirname, "../fixtures/backups");

export const sha256 = (bytes: Uint8Array): string => createHash("sha256").update(bytes).digest("hex");
export const backupJson = <Json>(name: string): Json =>
  JSON.parse(
    (name.endsWith(".gz") ? gunzipSync(readFileSync(join(folder, name))) : readFileSync(join(folder, name))).toString("utf8"),
  ) as Json;

/** A backup file of the fixtures, by the name its manifest gives it. */
export function backupFile(name: string): Uint8Array {
  const own = name.replace(/^open-/, "");
  return Uint8Array.from(own.endsWith(".bkf") ? gunzipSync(readFileSync(join(folder, `${own}.gz`))) : readFileSync(join(folder, own)));
}

export interface TapeEntry {
  set: number;
  type: "file" | "folder";
  path: string;
  size?: number;
  sha256?: string | null;
  how?: "plain" | "sparse" | "compressed" | "encrypted" | "in use";
  modified: string;
  attributes: number;
  streams?: Record<string, { size: number; sha256: string }>;
  dblk: number;
  places: [string, number, number][];
}
export interface TapeTruth {
  logicalBlock: number;
  sets: { number: number; name: string; date: string; timeZoneQuarterHours: number; files: number; folders: number }[];
  entries: TapeEntry[];
}
/** How an entry of a damaged medium stands, by its maker's own reckoning. */
export interface DamagedEntry {
  type: "file" | "folder";
  path: string;
  was: number;
  state: string;
  folderStands?: boolean;
}

export interface Operation {
  op: "xor" | "zero" | "insert" | "remove" | "cut-begin" | "cut-end" | "range" | "splice";
  offset?: number;
  length?: number;
  hex?: string;
  fill?: string;
  from?: string;
  fromOffset?: number;
}
export interface DamageCase {
  name: string;
  undamaged: string;
  operations: Operation[];
  sha256: string;
}

/** Lays damage on bytes. @returns also where each byte was before: -1 where it is another now */
export function damage(bytes: Uint8Array, operations: readonly Operation[]): { bytes: Uint8Array; was: Int32Array } {
  let now = Uint8Array.from(bytes);
  let was: Int32Array = Int32Array.from(bytes, (_, at) => at);
  const put = (at: number, more: Uint8Array) => {
    now = Uint8Array.from(Buffer.concat([now.subarray(0, at), more, now.subarray(at)]));
    was = joined([was.subarray(0, at), new Int32Array(more.length).fill(-1), was.subarray(at)]);
  };
  const cut = (from: number, to: number) => {
    now = now.slice(from, to);
    was = was.slice(from, to);
  };
  for (const { op, offset = 0, length = 0, hex, fill, from, fromOffset = 0 } of operations) {
    if (op === "xor")
      Buffer.from(hex ?? "", "hex").forEach((byte, i) => {
        if (byte === 0) return;
        now[offset + i] = (now[offset + i] as number) ^ byte;
        was[offset + i] = -1;
      });
    else if (op === "zero") {
      for (let at = offset; at < Math.min(offset + length, now.length); at += 1) if (now[at] !== 0) was[at] = -1;
      now.fill(0, offset, offset + length);
    } else if (op === "insert")
      put(offset, hex === undefined ? Buffer.alloc(length, Number.parseInt(fill ?? "0", 16)) : Buffer.from(hex, "hex"));
    else if (op === "splice") put(offset, backupFile(from ?? "").subarray(fromOffset, fromOffset + length));
    else if (op === "remove") {
      now = Uint8Array.from(Buffer.concat([now.subarray(0, offset), now.subarray(offset + length)]));
      was = joined([was.subarray(0, offset), was.subarray(offset + length)]);
    } else if (op === "cut-begin") cut(length, now.length);
    else if (op === "cut-end") cut(0, length);
    else cut(offset, offset + length);
  }
  return { bytes: now, was };
}

function joined(parts: readonly Int32Array[]): Int32Array {
  const all = new Int32Array(parts.reduce((sum, { length }) => sum + length, 0));
  let at = 0;
  for (const part of parts) {
    all.set(part, at);
    at += part.length;
  }
  return all;
}

/** The damaged forms of a manifest; each is what its maker says it is. */
export function damagedBackups(manifest: "tape-damaged" | "zip-damaged"): (DamageCase & { bytes: Uint8Array })[] {
  return backupJson<{ cases: DamageCase[] }>(`${manifest}.json`).cases.map((each) => {
    const { bytes } = damage(backupFile(each.undamaged), each.operations);
    if (sha256(bytes) !== each.sha256) throw new Error(`${each.name} is not what its maker made`);
    return { ...each, bytes };
  });
}

/** A copy with the bytes that a restore of it would write. */
export interface ReadBack {
  readonly copy: Copy;
  /** Of what there is; null: its content cannot be read. */
  readonly sha256: string | null;
}

export function openBackup(bytes: Uint8Array): { disk: MemorySource; volume: FileSystem } {
  const disk = new MemorySource(bytes);
  const [report] = inspectDisk(disk).volumes;
  if (!report) throw new Error("nothing is recognised");
  return { disk, volume: openVolume(disk, report) };
}

/** Everything a reading of a backup file gives. */
export function readBackup(bytes: Uint8Array, thorough: boolean, part?: { start: number; end: number }): ReadBack[] {
  const { disk, volume } = openBackup(bytes);
  const found: ReadBack[] = [];
  for (const { records } of (thorough ? volume.readThorough?.(null, 512, part) : volume.readRecords(null, 512)) ?? [])
    for (const record of records) {
      const copy = copyOfRecord(record, disk);
      const content = copy.layout && copy.layout.size <= 1 << 26 ? new LayoutSource(disk, copy.layout) : null;
      found.push({ copy, sha256: content && copy.type === "file" ? sha256(readBytes(content, 0, content.size)) : null });
    }
  return found;
}
