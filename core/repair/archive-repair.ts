import type { BlockReader } from "../bytes/block-reader";
import { InflateError, inflate, TooMuch } from "../bytes/inflate";
import type { Segment } from "../bytes/layout";
import { tarEntry } from "../formats/archives";
import { gzipHeader } from "../formats/compressed";
import { kept, made, type Repaired } from "./repaired";

const MOST_PLAIN = 1 << 28;

/** What can be unpacked of each member, up to where it is damaged; members behind the damage are looked for by their beginning. */
export function repairGzip(reader: BlockReader): Repaired | null {
  const segments: Segment[] = [];
  const done: string[] = [];
  let left = MOST_PLAIN;
  for (let at = reader.find("\x1f\x8b\x08", 0); at >= 0 && left > 0; ) {
    const header = gzipHeader(reader, at);
    let plain = 0;
    let end = at + 1;
    if (header) {
      const take = (bytes: Uint8Array) => {
        segments.push(made(bytes.slice()));
        plain += bytes.length;
        left -= bytes.length;
      };
      try {
        ({ end } = inflate(reader, header.dataAt, reader.size, take, left));
      } catch (error) {
        if (error instanceof TooMuch) break;
        if (!(error instanceof InflateError)) throw error;
        if (plain > 0) done.push(`Unpacked up to the damage: ${plain} bytes, as far as byte ${error.at} of the archive.`);
        end = Math.max(at + 1, error.at);
      }
    }
    at = reader.find("\x1f\x8b\x08", end);
  }
  if (segments.length === 0) return null;
  return { segments, done: done.length > 0 ? done : ["Unpacked; only its checksum was wrong."], extension: "unpacked" };
}

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
