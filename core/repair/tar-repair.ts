import type { BlockReader } from "../bytes/block-reader";
import type { Segment } from "../bytes/layout";
import { tarEntry } from "../formats/archives";
import { kept, made, type Repaired } from "./repaired";

const RECORD = 512;

/** Entries with a right header, before and behind the damage, and the end mark. */
export function repairTar(reader: BlockReader): Repaired | null {
  const segments: Segment[] = [];
  const lost: string[] = [];
  let entries = 0;
  for (let at = 0; at + RECORD <= reader.size; ) {
    const entry = tarEntry(reader, at);
    if (!entry) {
      at += RECORD;
      continue;
    }
    if (entry.next > reader.size) {
      lost.push(entry.name);
      break;
    }
    segments.push(kept(at, entry.next - at));
    entries += 1;
    at = entry.next;
  }
  if (entries === 0) return null;
  segments.push(made(new Uint8Array(2 * RECORD)));
  const done = [`${entries} entries with a right header were kept, and the end mark written.`];
  if (lost.length > 0) done.push(`“${lost.join("”, “")}” broke off and could not be kept.`);
  return { segments, done };
}
