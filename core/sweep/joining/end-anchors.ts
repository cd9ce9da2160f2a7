import { BlockReader } from "../../bytes/block-reader";
import { WindowSource } from "../../bytes/byte-source";
import { PastEnd } from "../../bytes/past-end";
import type { Extent, Format } from "../../formats/format";
import { traitsOf } from "../../formats/traits";
import { END, LOCAL } from "../../formats/zip/layout";
import { directoryAt, localMember, type ZipMember } from "../../formats/zip/members";
import { REACH } from "./landmarks";
import type { PieceRoom, Pieces } from "./pieces";

const MOST_ANCHORS = 64;
const MOST_MIDDLES = 16;

/**
 * Where something at a file's end gives its own place in the file (a list of contents, a table of offsets), the disk offset of the
 * file's byte 0 were all of it laid out from there; those of pieces in the middle by the same list. The nearest first.
 */
export function endAnchors(room: PieceRoom, format: Format, pieces: Pieces, { proven = 0 }: Extent): number[] {
  const from = Math.max(0, pieces.begins - REACH);
  const around = new BlockReader(new WindowSource(room.disk, from, Math.min(room.disk.size, pieces.begins + REACH) - from));
  const reader = new BlockReader(pieces.source());
  try {
    const shifts =
      traitsOf(format).family === "zip"
        ? zipShifts(room, around, reader, proven)
        : format.id === "pdf"
          ? pdfShifts(room, around, reader)
          : [];
    const here = pieces.lastAt - pieces.from;
    const { cluster } = room;
    const whole = shifts
      .map((shift) => shift + from)
      .filter((shift) => shift !== here && (((shift - here) % cluster) + cluster) % cluster === 0);
    return [...new Set(whole)];
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return [];
  }
}

/** Ends of archives and documents, and headers of members, that are looked at. */
const MOST_ENDS = 1000;
const MOST_HEADERS = 100_000;

/** The places of a mark, `most` of them, as long as the disk may be read. */
function* placesOf({ disk }: PieceRoom, reader: BlockReader, mark: string, most: number): Generator<number, void, void> {
  let at = reader.find(mark, 0);
  for (let seen = 0; at >= 0 && seen < most && !disk.isSpent; seen += 1) {
    yield at;
    at = reader.find(mark, at + mark.length);
  }
}

/**
 * By the ends of archives around (APPNOTE, 4.3.16), those whose list names the members this one has up to where it breaks.
 * @param proven bytes of the archive before the member that is wrong
 */
function zipShifts(room: PieceRoom, around: BlockReader, reader: BlockReader, proven: number): number[] {
  const first = localMember(reader, 0);
  if (!first) return [];
  const exact: number[] = [];
  const middles: number[] = [];
  const loose: number[] = [];
  for (const end of placesOf(room, around, END.mark, MOST_ENDS)) {
    if (end + END.size > around.size) break;
    const [size, listAt] = [around.u32(end + END.directorySize), around.u32(end + END.directoryAt)];
    if (size < 46 || end - size < 0) continue;
    const shift = end - size - listAt;
    const directory = tryDirectory(around, end - size);
    if (!directory) {
      loose.push(shift);
      continue;
    }
    const [named] = directory;
    if (named?.at !== 0 || named.name !== first.name) continue;
    if (first.sized && (named.crc !== first.crc || named.packed !== first.packed)) continue;
    const before = directory.filter(({ at }) => at < proven).slice(0, MOST_LOOKED_FOR);
    if (before.some(({ at, name }) => localMember(reader, at)?.name !== name)) continue;
    exact.push(shift);
    if (exact.length <= 4) middles.push(...memberShifts(room, around, directory, reader).filter((each) => each !== shift));
  }
  return [...exact, ...middles.slice(0, MOST_MIDDLES), ...loose].slice(0, MOST_ANCHORS);
}

function tryDirectory(around: BlockReader, at: number): readonly ZipMember[] | null {
  try {
    const directory = directoryAt(around, at);
    return "members" in directory ? directory.members : null;
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return null;
  }
}

const MOST_LOOKED_FOR = 256;

/** By the headers of members that are not where they would be were the file in one piece. */
function memberShifts(room: PieceRoom, around: BlockReader, members: readonly ZipMember[], reader: BlockReader): number[] {
  const wanted = new Map<string, ZipMember>();
  for (const member of members.slice(0, MOST_LOOKED_FOR)) {
    const there = member.at + LOCAL.size < reader.size ? localMember(reader, member.at) : null;
    if (there?.name !== member.name) wanted.set(member.name, member);
  }
  const counts = new Map<number, number>();
  if (wanted.size === 0) return [];
  for (const at of placesOf(room, around, LOCAL.mark, MOST_HEADERS)) {
    if (at + LOCAL.size > around.size) break;
    const length = around.u16(at + LOCAL.nameLength);
    if (length > 1024 || at + LOCAL.size + length > around.size) continue;
    const there = localMember(around, at);
    const member = there && wanted.get(there.name);
    if (!there || !member || (there.sized && there.crc !== member.crc)) continue;
    counts.set(at - member.at, (counts.get(at - member.at) ?? 0) + 1);
  }
  return [...counts].sort((a, b) => b[1] - a[1]).map(([shift]) => shift);
}

const TABLE_REACH = 65_536;

/** By the lines that name a document's table of contents (ISO 32000-1, 7.5.5), and by the length a linearised one gives (annex F). */
function pdfShifts(room: PieceRoom, around: BlockReader, reader: BlockReader): number[] {
  const head = reader.ascii(0, Math.min(1024, reader.size));
  const stated = Number(/\/Linearized[^>]{0,200}\/L\s+(\d+)/.exec(head)?.[1] ?? /\/L\s+(\d+)[^>]{0,200}\/Linearized/.exec(head)?.[1] ?? 0);
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
