import type { Copy } from "../../core/copies/copy";
import { ALL_BYTES_THERE, type FileRecord, placed } from "../../core/filesystems/file-record";

/** A copy at a path, with usual facts where none are given. */
export const copyAt = (path: string, facts: Partial<Copy> = {}): Copy => {
  const name = path.slice(path.lastIndexOf("/") + 1);
  return {
    place: "file-record",
    reference: "MFT record 7",
    state: "deleted",
    type: "file",
    path,
    name,
    rawName: Buffer.from(name, "utf16le"),
    size: 10,
    created: null,
    modified: null,
    changed: null,
    layout: { size: 10, segments: [{ kind: "disk", at: 4096, length: 10 }] },
    system: false,
    streams: [],
    links: 1,
    condition: "whole",
    survival: 1,
    evidence: { ...ALL_BYTES_THERE, unreadable: 0, content: null },
    notes: [],
    ...facts,
  };
};

/** A record of a file at a path, with usual facts where none are given. */
export const recordAt = (path: string, facts: Partial<FileRecord> = {}): FileRecord => {
  const { layout, place: _, condition: __, survival: ___, evidence: ____, ...record } = copyAt(path);
  return { ...record, content: placed(layout as NonNullable<typeof layout>), ...facts };
};
