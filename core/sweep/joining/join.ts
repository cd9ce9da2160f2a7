import { readBytes } from "../../bytes/byte-source";
import type { Extent, Format } from "../../formats/format";
import { isPageSize, pageSizeOf } from "../../formats/sqlite/page";
import { traitsOf, underChecksums } from "../../formats/traits";
import { isDense, isFill, isLetters } from "../byte-classes";
import type { Find } from "../find";
import { endAnchors } from "./end-anchors";
import { placesOfNextFrame } from "./flac-places";
import { goesOnInBlocks } from "./gif-blocks";
import { joinJpeg } from "./jpeg-pieces";
import { landmarksOf, shiftsOf } from "./landmarks";
import { joinPdf } from "./pdf-pieces";
import { Allowance, around, damageAt, follow, type Joined, likeliestFirst, type PieceRoom, Pieces, proves, UNSURE } from "./pieces";
import { joinPng } from "./png-pieces";
import { likeliestSeam } from "./seam";
import { tarShifts } from "./tar-headers";
import { joinWave } from "./wave-pieces";
import { joinZip } from "./zip-pieces";

/** What a try costs beside what it reads, where unpacking is slow: a block of these is unpacked whole before anything is known of it. Bytes. */
const COSTS: Readonly<Record<string, number>> = { bzip2: 1 << 20 };
const MOST_FIRST_PIECE = 1 << 26;

/** Whether a find may go on somewhere else: it is damaged, or its last part is not proven. */
export const isOpen = ({ format, extent }: Find) =>
  traitsOf(format).inPieces === true &&
  (format.id === WAVE || extent.verdict.verdict === "damaged" || (extent.verdict.verdict === "cannot-tell" && extent.proven !== undefined));

/** Nothing in it is checked: only what it sounds like shows whether it is in one piece. */
const WAVE = "wav";

/** The find put together from pieces so that it is whole, or null. */
export function joinPieces(room: PieceRoom, find: Find): Find | null {
  if (!isOpen(find) || find.size > MOST_FIRST_PIECE) return null;
  const allowed = Math.min(room.effort.read, room.disk.left);
  const disk = new Allowance(room.disk, allowed);
  const bounded = { ...room, disk };
  const pieces = Pieces.beginningAt(bounded, find.at);
  // One that was cut where another begins is followed anew: where it goes on depends on what is known of it up to there.
  const extent = follow(bounded, find.format, pieces) ?? find.extent;
  const joined =
    find.format.id === "jpeg"
      ? joinJpeg(bounded, pieces)
      : find.format.id === WAVE
        ? joinWave(bounded, pieces, find.extent)
        : (byList(bounded, find.format, pieces, extent) ??
          goOn(bounded, find.format, pieces, extent, room.effort.seams, extent) ??
          (find.format.id === "png" ? joinPng(bounded, find.format, pieces, extent) : null));
  return joined && { ...find, size: joined.extent.size, extent: joined.extent, segments: joined.pieces.runs(joined.extent.size) };
}

/** Puts a file together by a list of all that is in it, where its format has one. */
function byList(room: PieceRoom, format: Format, pieces: Pieces, extent: Extent): Joined | null {
  if (traitsOf(format).family === "zip") return joinZip(room, format, pieces, extent);
  return format.id === "pdf" ? joinPdf(room, format, pieces) : null;
}

/** A way to go on: the last piece ends after `length` bytes of the file, the next one begins at `next` on the disk. */
interface Way {
  readonly length: number;
  readonly next: number;
}

/** Searches the next piece of a file, and of what that leads to the one after it. @param whole what is known of it in one piece */
function goOn(room: PieceRoom, format: Format, pieces: Pieces, extent: Extent, seams: number, whole: Extent): Joined | null {
  const damage = damageAt(extent);
  const ways: { pieces: Pieces; extent: Extent; gained: number }[] = [];
  let proved = 0;
  /** One that may be longer still, if nothing better comes. */
  let open: Joined | null = null;
  for (const way of waysOn(room, format, pieces, extent)) {
    if (!isFree(room, pieces, way)) continue;
    if (room.disk.isSpent) return open;
    room.disk.add(-(COSTS[format.id] ?? 0));
    const longer = pieces.goingOn(way.length, way.next);
    const followed = follow(room, format, longer);
    if (!followed) continue;
    // A text that would end before it breaks off now would leave out what is a text of its kind as well.
    if (TEXTS.has(format.id) && followed.closed && followed.size <= damage) continue;
    if (closes(whole, followed, way.length) && standsFree(room, longer, followed.size)) {
      if (!followed.mayGoOn) return surest(room, format, pieces, way, whole, followed);
      open ??= surest(room, format, pieces, way, whole, followed);
      continue;
    }
    // A checksum that came right across the seam proves it, however soon the file breaks off again.
    if (
      underChecksums(traitsOf(format)) &&
      followed.verdict.verdict === "damaged" &&
      (followed.proven ?? 0) > Math.max(way.length, extent.proven ?? 0) &&
      proved < room.effort.ways
    ) {
      proved += 1;
      const joined = seams > 1 ? goOn(room, format, longer, followed, seams - 1, whole) : null;
      if (joined) return joined;
      continue;
    }
    // Where lengths stand in their places behind the seam, the next piece may be as short as it likes.
    const gained = damageAt(followed) - (format.id === "gif" ? way.length : Math.max(damage, way.length + room.cluster));
    if (gained > 0 && followed.verdict.verdict === "damaged") ways.push({ pieces: longer, extent: followed, gained });
  }
  if (seams <= 1) return open;
  ways.sort((a, b) => b.gained - a.gained);
  for (const way of ways.slice(0, room.effort.ways)) {
    const joined = goOn(room, format, way.pieces, way.extent, seams - 1, whole);
    if (joined) return joined;
  }
  return open;
}

/** Whether nothing that is proven stands in the last piece, and the next one begins elsewhere. */
function isFree(room: PieceRoom, pieces: Pieces, { length, next }: Way): boolean {
  if (next < 0 || next === pieces.lastAt + length - pieces.from || room.limitOf(next) <= next) return false;
  if (pieces.holds(next, length)) return false;
  const last = length - pieces.from;
  return last > 0 && room.freeFrom(pieces.lastAt, last) >= last && room.freeFrom(next, 1) >= 1;
}

/** Whether the last piece runs over no file that is proven. */
function standsFree(room: PieceRoom, pieces: Pieces, size: number): boolean {
  const last = size - pieces.from;
  return last <= room.effort.reach && room.freeFrom(pieces.lastAt, last) >= last;
}

function* waysOn(room: PieceRoom, format: Format, pieces: Pieces, extent: Extent): Generator<Way, void, void> {
  const listed = format.id === "tar" ? tarShifts(room, pieces, damageAt(extent)) : endAnchors(room, format, pieces, extent);
  const landmarks = landmarksOf(format, pieces, extent);
  const marked = landmarks.flatMap((landmark) => shiftsOf(room, pieces, landmark));
  const shifts = [...new Set([...listed, ...marked])];
  if (shifts.length > 0) {
    const breaks = breaksOf(room, format, pieces, extent, room.effort.breaksPlaced);
    for (const some of [breaks.slice(0, room.effort.breaksBlind), breaks.slice(room.effort.breaksBlind)])
      for (const shift of shifts) for (const length of some) yield { length, next: length + shift };
  }
  // What gives its own place is looked for by that alone: where that is not found, there is no end to be found either.
  if (givesItsPlace(format) || (landmarks.length > 0 && (shifts.length > 0 || format.id === "png"))) return;
  const breaks = breaksOf(room, format, pieces, extent, room.effort.breaksBlind);
  const [nearest] = breaks;
  if (nearest === undefined) return;
  const frames = format.id === "flac" ? placesOfNextFrame(room, pieces, damageAt(extent)) : null;
  const places = frames ?? [...around(room, pieces.lastAt + nearest - pieces.from)].filter(suiting(room, format));
  const fits = format.id === "sqlite" ? pageAt(room, pieces) : format.id === "gif" ? goesOnInBlocks(room, pieces) : null;
  for (const [length, next] of likeliestFirst(breaks, places)) if (!fits || fits(length, next)) yield { length, next };
}

/** Whether the first page of a database that begins behind a seam is one (SQLite file format, 1.5 and 1.6). */
function pageAt(room: PieceRoom, pieces: Pieces): (length: number, next: number) => boolean {
  const raw = readBytes(pieces.source(), 16, 2);
  const page = pageSizeOf(((raw[0] as number) << 8) | (raw[1] as number));
  if (!isPageSize(page)) return () => true;
  return (length, next) => {
    const at = next + Math.ceil(length / page) * page - length;
    const head = readBytes(room.disk, at, 8);
    const kind = head[0] as number;
    // Pages that rows spill over to and free ones begin with the number of the next.
    return (
      (PAGE_KINDS.has(kind) && (head[3] as number) * 256 + (head[4] as number) < page / 2) ||
      (kind === 0 && head.some((byte) => byte !== 0))
    );
  };
}
const PAGE_KINDS: ReadonlySet<number> = new Set([2, 5, 10, 13]);

const givesItsPlace = (format: Format) => format.id === "pdf" || format.id === "tar" || traitsOf(format).family === "zip";

/** Bytes of the file after which its last piece may end, the likeliest first: just before the damage, then farther from it. */
function breaksOf(room: PieceRoom, format: Format, pieces: Pieces, extent: Extent, most: number): number[] {
  const { cluster } = room;
  const { verdict, proven = 0 } = extent;
  const damage = damageAt(extent);
  const least = Math.max(pieces.from + 1, verdict.verdict === "damaged" ? proven - cluster : 0);
  const near = beforeFill(room, format, pieces, pieces.boundaryBefore(damage), least);
  const all: number[] = [];
  for (let back = near; back >= least && all.length < most; back -= cluster) all.push(back);
  // Damage may also be reported before its place: a part with a checksum is reported by its beginning.
  const last = Math.max(damage, verdict.verdict === "damaged" ? (verdict.upTo ?? damage) : extent.size) + cluster;
  for (let on = near + cluster; on <= last && all.length < most * 2; on += cluster) if (on >= least) all.push(on);
  return all.sort((a, b) => rank(a, near) - rank(b, near)).slice(0, most);
}
/** Fill and texts are unpacked like data for a long way: packed data that break in them, or behind them, broke where they begin. */
function beforeFill(room: PieceRoom, format: Format, pieces: Pieces, near: number, least: number): number {
  if (!PACKED.has(format.id) && !givesItsPlace(format)) return near;
  let begins = near;
  for (let length = near; length - room.cluster >= least && near - length < MOST_FILLED; length -= room.cluster) {
    const at = pieces.lastAt + length - room.cluster - pieces.from;
    const bytes = readBytes(room.disk, at, Math.min(room.cluster, MOST_FILL_SEEN));
    if (isFill(bytes) || (format.id !== "pdf" && format.id !== "tar" && isLetters(bytes))) begins = length - room.cluster;
    else if (begins < length) break;
  }
  return begins;
}
/** Bytes before the damage that are looked through for fill, and of each cluster. */
const MOST_FILLED = 1 << 22;
const MOST_FILL_SEEN = 4096;

/** Breaks before the damage are likelier than those behind it. */
const rank = (length: number, near: number) => (length <= near ? near - length : 1.5 * (length - near));

/** Bytes of a cluster that are looked at before a file is followed into it. */
const LOOKED_AT = 512;
const PACKED = new Set(["gzip", "bzip2", "xz", "flac", "gif", "ogg", "opus", "ogv", "png", "mp3", "7z"]);

/** Whether a file of this kind may go on at a place of the disk: what is packed has no fill and no text. */
function suiting(room: PieceRoom, format: Format): (next: number) => boolean {
  const looks = TEXTS.has(format.id) ? isLetters : PACKED.has(format.id) ? isDense : (bytes: Uint8Array) => !isFill(bytes);
  return (next) => looks(readBytes(room.disk, next, Math.min(LOOKED_AT, room.limitOf(next) - next)));
}

/** Formats that are text. */
const TEXTS = new Set(["xml", "svg", "rtf"]);

/** Where other ends of the last piece pass as well, the check is blind there: the likeliest is taken, and nothing is promised. */
function surest(room: PieceRoom, format: Format, pieces: Pieces, way: Way, whole: Extent, followed: Extent): Joined {
  const shift = way.next - way.length;
  const passes = [way.length];
  for (const step of [-room.cluster, room.cluster])
    for (let length = way.length + step; length > pieces.from && length < followed.size; length += step) {
      const other = { length, next: length + shift };
      if (!isFree(room, pieces, other) || passes.length > MOST_PASSING) break;
      const also = follow(room, format, pieces.goingOn(length, other.next));
      if (!also || !closes(whole, also, length)) break;
      passes.push(length);
    }
  const best = passes.length > 1 ? likeliestSeam(pieces, shift, passes, followed.size) : way.length;
  const longer = pieces.goingOn(best, best + shift);
  return {
    pieces: longer,
    extent: passes.length > 1 || !provesSeams(format, longer, followed) ? { ...followed, verdict: UNSURE } : followed,
  };
}

/**
 * Whether foreign bytes around the seams of what is put together cannot go unnoticed. In headers that nothing checks they could: of the last
 * seam it is known whether other places pass as well, of those before it nothing. A seam within what files have in common joins any of them.
 */
const provesSeams = (format: Format, pieces: Pieces, { size, common = 0 }: Extent) =>
  (pieces.runs(size)[0]?.length ?? 0) > common &&
  (traitsOf(format).checksums === "all" || (pieces.count <= 2 && underChecksums(traitsOf(format))));

/**
 * Whether a file put together is as right as can be had: proven, or, where what is in its parts is not followed, right by its structure. One that was so in
 * one piece already is taken apart only for a proof, or where it may go on and does so.
 */
const closes = (whole: Extent, extent: Extent, length: number) =>
  proves(extent, length) ||
  ((whole.verdict.verdict === "damaged" || (whole.mayGoOn && extent.size > whole.size)) &&
    extent.closed &&
    extent.verdict.verdict === "cannot-tell" &&
    extent.size > length);
const MOST_PASSING = 1024;
