import type { Copy } from "../../core/copies/copy";
import { ALL_BYTES_THERE } from "../../core/filesystems/file-record";

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
    encrypted: false,
    streams: [],
    links: 1,
    condition: "whole",
    survival: 1,
    evidence: { ...ALL_BYTES_THERE, unreadable: 0, content: null },
    notes: [],
    ...facts,
  };
};
