import { createHash } from "node:crypto";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { type ByteSource, MemorySource, readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import type { Copy } from "../../core/copies/copy";
import { fileRecordsPass } from "../../core/copies/file-records-pass";
import { inspectDisk, openVolume } from "../../core/volumes/inspect";

const folder = join(import.meta.dirname, "../fixtures/volumes");

/** One entry of a volume's manifest: what the file-system driver and the maker of the image know of a file. */
export interface TrueEntry {
  path: string;
  type: "file" | "dir" | "reparse";
  /** Counts from 1; not given for the first. */
  volume?: number;
  size?: number;
  sha256?: string;
  state: string;
  note?: string;
  resident?: boolean;
  compressed?: boolean;
  /** Clusters of an NTFS file: first in the file, first on the volume (null: a hole), how many. */
  runs?: [number, number | null, number][];
  times?: { created: string; modified: string };
  mft?: { record: number; recordReused?: boolean; nameStillInRecord?: boolean; parentLive?: boolean };
}

export interface Truth {
  volume: { partitionOffset: number; clusterSize: number };
  entries: TrueEntry[];
}

export function fixture(name: string): Buffer {
  return gunzipSync(readFileSync(join(folder, name)));
}

export function readTruth(name: string): Truth {
  return JSON.parse(fixture(`${name}.json.gz`).toString()) as Truth;
}

export function imageSource(name: string): ByteSource {
  return new MemorySource(fixture(`${name}.img.gz`));
}

/** All copies on the volume that begins at `offset`. */
export function copiesAt(disk: ByteSource, offset: number): Copy[] {
  const report = inspectDisk(disk).volumes.find((volume) => volume.offset === offset);
  if (!report) throw new Error(`no volume at ${offset}`);
  const volume = openVolume(disk, report);
  return [...fileRecordsPass(volume, disk)].flatMap((batch) => batch.copies);
}

export function contentHash(copy: Copy, disk: ByteSource): string | null {
  if (!copy.layout) return null;
  return createHash("sha256")
    .update(readBytes(new LayoutSource(disk, copy.layout), 0, copy.layout.size))
    .digest("hex");
}

export const pathOf = (entry: TrueEntry) => `/${entry.path.replace(" (earlier file of this name)", "")}`.normalize("NFC");
