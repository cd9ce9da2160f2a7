import type { BlockReader } from "../../bytes/block-reader";
import { text } from "./words";

const MOST_FILE = 2 ** 36;

/**
 * Where the document ends: the last end mark (7.5.5) behind which no further part of it begins. Updates (7.5.6) come behind the
 * first one, and a linearised document (annex F) has one near its beginning.
 */
export function endMarks(reader: BlockReader): { last: number; open: boolean } {
  const stated = linearisedLength(reader);
  if (stated > 0 && stated <= reader.size && text(reader, stated - 32, 32).includes("%%EOF") && !goesOn(reader, stated))
    return { last: stated, open: false };
  let last = 0;
  let from = 5;
  for (;;) {
    const mark = nextEnd(reader, from);
    if (mark < 0) break;
    last = mark + 5;
    if (reader.has(last, "\r")) last += 1;
    if (reader.has(last, "\n")) last += 1;
    if (!goesOn(reader, last)) return { last, open: false };
    from = last;
  }
  // A linearised one goes on behind its first end mark, as far as it says.
  if (stated > last) return { last: Math.min(stated, reader.size), open: true };
  return { last: last > 0 ? last : reader.size, open: true };
}

/** Bytes of the document as it was linearised (annex F, table F.1); 0: it was not. */
export function linearisedLength(reader: BlockReader): number {
  const linear = /\/Linearized[^>]{0,200}\/L\s+(\d+)|\/L\s+(\d+)[^>]{0,200}\/Linearized/.exec(text(reader, 0, 1024));
  return linear ? Number(linear[1] ?? linear[2]) : 0;
}

const NEXT_STEP = 1 << 20;
/** So many bytes without the end of an object, and the document is over. */
const MOST_WITHOUT_OBJECT = 1 << 26;

/** The next end mark before which no other document begins; -1: there is none. */
function nextEnd(reader: BlockReader, from: number): number {
  let object = from;
  for (let at = from; at < Math.min(reader.size, MOST_FILE) && at - object < MOST_WITHOUT_OBJECT; at += NEXT_STEP) {
    const limit = Math.min(reader.size, at + NEXT_STEP + 8);
    const mark = reader.find("%%EOF", at, limit);
    for (
      let other = reader.find("%PDF-", at, mark < 0 ? limit : mark);
      other >= 0;
      other = reader.find("%PDF-", other + 5, mark < 0 ? limit : mark)
    )
      if (other % 512 === 0 && other > 0) return -1;
    if (mark >= 0) return mark;
    if (reader.find("endobj", at, limit) >= 0) object = at;
  }
  return -1;
}

/** Whether a part of a document begins here: an object, a table, or the comment some writers put between. */
function goesOn(reader: BlockReader, at: number): boolean {
  return /^\s*(%[^%\r\n][^\r\n]*\s+)?(\d{1,10}\s+\d{1,5}\s+obj\b|xref\b|startxref\b)/.test(text(reader, at, 256));
}
