import type { Layout } from "../bytes/layout";
import { ALL_BYTES_THERE, type FileRecord, placed } from "./file-record";

/** Clusters in use that nothing names, as a file: whether they are one, or a part of one, only their content says. */
export function namelessFile(name: string, reference: string, layout: Layout, note: string): FileRecord {
  return {
    reference,
    state: "deleted",
    type: "file",
    path: `/?/${name}`,
    name,
    rawName: new Uint8Array(),
    size: layout.size,
    created: null,
    modified: null,
    changed: null,
    content: placed(layout, ALL_BYTES_THERE, false),
    system: false,
    streams: [],
    links: 1,
    notes: [note],
  };
}
