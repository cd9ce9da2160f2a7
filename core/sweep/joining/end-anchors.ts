import { BlockReader } from "../../bytes/block-reader";
import { PastEnd } from "../../bytes/past-end";
import type { Extent, Format } from "../../formats/format";
import { linearisedLength } from "../../formats/pdf/ends";
import { traitsOf } from "../../formats/traits";
import type { PieceRoom, Pieces } from "./pieces";
import { placesOf, type Surroundings, surroundings } from "./surroundings";
import { memberShifts, zipEnds } from "./zip-lists";

const MOST_ANCHORS = 64;
const MOST_MIDDLES = 16;

/**
 * Where something at a file's end gives its own place in the file (a list of contents, a table of offsets), the disk offset of the
 * file's byte 0 were all of it laid out from there; those of pieces in the middle by the same list. The nearest first.
 */
export function endAnchors(room: PieceRoom, format: Format, pieces: Pieces, { proven = 0 }: Extent): number[] {
  const around = surroundings(room, pieces.begins);
  const reader = new BlockReader(pieces.source());
  try {
    const shifts =
      traitsOf(format).family === "zip"
        ? zipShifts(room, around, reader, proven)
        : format.id === "pdf"
          ? pdfShifts(room, around.reader, reader).map((shift) => shift + around.from)
          : [];
    const here = pieces.lastAt - pieces.from;
    const { cluster } = room;
    const whole = shifts.filter((shift) => shift !== here && (((shift - here) % cluster) + cluster) % cluster === 0);
    return [...new Set(whole)];
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return [];
  }
}

/** By the ends of archives around; those whose list names this archive's members first. @param proven bytes of it before the member that is wrong */
function zipShifts(room: PieceRoom, around: Surroundings, file: BlockReader, proven: number): number[] {
  const exact: number[] = [];
  const middles: number[] = [];
  const loose: number[] = [];
  for (const { shift, list } of zipEnds(room, around, file, proven)) {
    if (!list) {
      loose.push(shift);
      continue;
    }
    exact.push(shift);
    if (exact.length <= 4) middles.push(...memberShifts(room, around, list.members, file).filter((each) => each !== shift));
  }
  return [...exact, ...middles.slice(0, MOST_MIDDLES), ...loose].slice(0, MOST_ANCHORS);
}

/** Ends of documents that are looked at. */
const MOST_ENDS = 1000;
const TABLE_REACH = 65_536;

/** By the lines that name a document's table of contents (ISO 32000-1, 7.5.5), and by the length a linearised one gives (annex F). */
function pdfShifts(room: PieceRoom, around: BlockReader, reader: BlockReader): number[] {
  const stated = linearisedLength(reader);
  const found: number[] = [];
  for (const at of placesOf(room, around, "startxref", MOST_ENDS)) {
    const tail = around.ascii(at, Math.min(64, around.size - at));
    const line = /^startxref\s+(\d+)\s+%%EOF/.exec(tail);
    if (!line) continue;
    if (stated > 0)
      for (const more of ["", "\n", "\r\n"])
        if (tail.slice(line[0].length).startsWith(more)) found.push(at + line[0].length + more.length - stated);
    // The table stands somewhere before the line that names it.
    const from = Math.max(0, at - TABLE_REACH);
    const before = around.ascii(from, at - from);
    const table = Math.max(before.lastIndexOf("xref\n"), before.lastIndexOf("xref\r"));
    if (table >= 0 && before.slice(table - 5, table) !== "start") found.push(from + table - Number(line[1]));
    const stream = streamBefore(before);
    if (stream >= 0) found.push(from + stream - Number(line[1]));
  }
  return found.slice(0, MOST_ANCHORS * 4);
}

/** Where the object begins that holds the last table in a stream (7.5.8) of these words; -1: there is none. */
function streamBefore(words: string): number {
  const type = words.lastIndexOf("/XRef");
  const object = type < 0 ? -1 : words.lastIndexOf(" obj", type);
  if (object < 0 || words.slice(object, type).includes("endobj")) return -1;
  const number = /\d{1,10} \d{1,5}$/.exec(words.slice(Math.max(0, object - 16), object));
  return number ? object - number[0].length : -1;
}
