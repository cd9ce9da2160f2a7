import type { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { following } from "../following";
import { cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, type Verdict } from "../format";
import { crossReference } from "./cross-reference";
import { endMarks, linearisedLength } from "./ends";
import { streamAt, streams } from "./streams";
import { summarise } from "./summary";
import { BREAKS_OFF, text } from "./words";

const MOST_SECTIONS = 1024;

/** PDF: ISO 32000-1, 7.5 (header, cross-reference table and streams, trailer), 7.3.8 (streams). */
export const pdf: Format = {
  id: "pdf",
  kind: "documents",
  title: "PDF document",
  extensions: ["pdf"],
  signatures: [{ at: 0, mark: "%PDF-" }],
  recognise: (head) => hasAscii(head, 0, "%PDF-") && /\d/.test(String.fromCharCode(head[5] ?? 0)),
  follow,
  summarise,
};

function follow(source: ByteSource): Extent | null {
  return following(source, BREAKS_OFF, (reader) => {
    const ends = endMarks(reader);
    if (ends.open) return broken(reader, Math.min(ends.last, MOST_BROKEN), damaged(Math.min(ends.last, MOST_BROKEN), BREAKS_OFF));
    const verdict = judge(reader, ends.last);
    // An end whose table of contents does not count from here is another document's.
    if (verdict.verdict === "damaged" && !ownEnd(reader, ends.last)) return broken(reader, ends.last, verdict);
    return endsAt(ends.last, verdict);
  });
}

/** Bytes of a document without an end that are looked at. */
const MOST_BROKEN = 1 << 26;

/** A document that does not go on to its own end: as far as its streams are right. */
function broken(reader: BlockReader, end: number, otherwise: Verdict): Extent {
  const first = streams(reader, end, false);
  const verdict = earlier(first, otherwise);
  const at = first.verdict === "damaged" ? first.at : lastPart(reader, end);
  return { size: Math.min(end, Math.max(at, 16)), closed: false, verdict };
}

/** Where the last object that belongs to the document ends, for one whose streams are all right. */
function lastPart(reader: BlockReader, end: number): number {
  let last = 0;
  for (let at = reader.find("endobj", 0, end); at >= 0; at = reader.find("endobj", at + 6, end)) {
    // Parts follow one another: a long way without one means that something else has begun.
    if (last > 0 && at - last > 1 << 22) break;
    last = at + 6;
  }
  return last > 0 ? last : end;
}

function ownEnd(reader: BlockReader, end: number): boolean {
  const tail = text(reader, Math.max(0, end - 2048), Math.min(2048, end));
  const offset = Number([...tail.matchAll(/startxref\s+(\d+)\s+%%EOF/g)].at(-1)?.[1] ?? Number.NaN);
  if (!(offset < end)) return false;
  // Other linearised documents name a first section at the same place: such an end stands where the length says.
  const stated = linearisedLength(reader);
  if (stated > 0 && offset < LINEARISED_FRONT && Math.abs(end - stated) > 2) return false;
  // The table may be a stream (7.5.8), which says so: any object may stand where that of another document would.
  return /^\s*xref/.test(text(reader, offset, 64)) || /\/XRef\b/.test(streamAt(reader, offset, end)?.dictionary ?? "");
}

/** Bytes in which the first section of a linearised document begins, behind its dictionary. */
const LINEARISED_FRONT = 4096;

function judge(reader: BlockReader, end: number): Verdict {
  const tail = text(reader, Math.max(0, end - 2048), Math.min(2048, end));
  let offset: number | undefined;
  for (const match of tail.matchAll(/startxref\s+(\d+)\s+%%EOF/g)) offset = Number(match[1]);
  const wrong = streams(reader, end, true);
  if (offset === undefined) return earlier(wrong, damaged(end, BREAKS_OFF));
  if (offset >= end) return earlier(wrong, damaged(end, "the table of contents would stand past the end of the file"));
  const seen = new Set<number>();
  let encrypted = false;
  for (let next: number | null = offset; next !== null && !seen.has(next) && seen.size < MOST_SECTIONS; ) {
    seen.add(next);
    const section = crossReference(reader, next, end);
    if (section.problem) return earlier(wrong, section.problem);
    encrypted ||= section.encrypted;
    next = section.before;
  }
  if (encrypted) return cannotTell("the document is protected by a password");
  return wrong;
}

/** Damage found first in the file is where it begins. */
function earlier(one: Verdict, other: Verdict): Verdict {
  return one.verdict === "damaged" && other.verdict === "damaged" && one.at < other.at ? one : other;
}
