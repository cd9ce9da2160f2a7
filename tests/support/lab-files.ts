import { createHash } from "node:crypto";
import { type ByteSource, MemorySource, readBytes } from "../../core/bytes/byte-source";
import { fixture } from "./volume-truth";

/** One file of the image without a file system, as its maker placed it. */
export interface PlacedFile {
  readonly path: string;
  readonly type: "file" | "embedded";
  readonly kind: string;
  readonly size: number;
  readonly sha256: string;
  readonly state: string;
  readonly firstOffset: number | null;
  readonly extents: readonly (readonly [number, number, number])[];
  readonly inside?: string;
}

let placed: { bytes: Buffer; entries: readonly PlacedFile[] } | undefined;

/** The image without a file system, and what is where on it. */
export function carveImage(): { bytes: Buffer; source: ByteSource; files: readonly PlacedFile[]; embedded: readonly PlacedFile[] } {
  placed ??= { bytes: fixture("carve.img.gz"), entries: JSON.parse(fixture("carve.json.gz").toString()).entries as PlacedFile[] };
  const { bytes, entries } = placed;
  return {
    bytes,
    source: new MemorySource(bytes),
    files: entries.filter(({ type }) => type === "file"),
    embedded: entries.filter(({ type }) => type === "embedded"),
  };
}

export interface LabFile {
  readonly path: string;
  readonly size: number;
  readonly sha256: string;
  readonly state: "good" | "damaged";
  readonly note: string;
  readonly members?: readonly { name: string; size: number; sha256: string; whole?: boolean }[];
}

let damaged: { entries: readonly LabFile[]; files: Record<string, string> } | undefined;

/** Damaged files and the sound ones they were made from. */
export function labFiles(): { entries: readonly LabFile[]; bytes(path: string): Buffer } {
  damaged ??= JSON.parse(fixture("damaged-files.json.gz").toString()) as { entries: LabFile[]; files: Record<string, string> };
  const { entries, files } = damaged;
  return { entries: entries.filter(({ path }) => path in files), bytes: (path) => Buffer.from(files[path] as string, "base64") };
}

export const sha256 = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");
export const allBytes = (source: ByteSource) => readBytes(source, 0, source.size);
