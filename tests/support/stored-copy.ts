import { writeFileSync } from "node:fs";
import { join } from "node:path";
import type { StoredCopy } from "../../server/items/queries";

let next = 1;

/** A stored copy whose content lies in two pieces in an image of its own, the second before the first, as on a real disk. */
export function storedCopyOf(folder: string, name: string, content: Uint8Array): StoredCopy {
  const id = next;
  next += 1;
  const half = Math.floor(content.length / 2);
  const sourcePath = join(folder, `disk ${id}.img`);
  writeFileSync(sourcePath, Buffer.concat([Buffer.alloc(512), content.subarray(half), Buffer.alloc(100), content.subarray(0, half)]));
  const first = { kind: "disk" as const, at: 512 + content.length - half + 100, length: half };
  const second = { kind: "disk" as const, at: 512, length: content.length - half };
  const layout = { size: content.length, segments: [first, second] };
  const source = { sourcePath, beside: [], within: [], bad: [], mark: null, sourceId: 1 };
  return { id, name, size: content.length, layout, ...source, file: null, jobId: 1, condition: "whole", absent: null };
}
