import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, readBytes, WindowSource } from "../bytes/byte-source";
import { LayoutSource, layoutOf } from "../bytes/layout";
import { PastEnd } from "../bytes/past-end";
import { cannotTell, type Extent, type Format } from "../formats/format";
import { type FollowedJpeg, followJpeg } from "../formats/jpeg/jpeg";
import { PROGRESSIVE } from "../formats/jpeg/markers";
import { LOOK, ScanReader } from "../formats/jpeg/scan";
import { runFollow } from "../formats/registry";
import { traitsOf } from "../formats/traits";
import type { Find } from "./find";

export interface PieceRoom {
  readonly disk: ByteSource;
  /** Bytes of a cluster: files are cut at its multiples, counted from `origin`. */
  readonly cluster: number;
  readonly origin: number;
  limitOf(at: number): number;
  /** Whether a proven file stands there, or nothing but zeros: no piece of another. */
  isTaken(at: number): boolean;
}

/** Tries for one find; the result must not depend on how fast the machine is. */
const MOST_TRIES = 3000;
/** Bytes read for one find's tries at most. */
const MOST_BYTES = 1 << 29;
/** Clusters the second piece may lie away, in each direction. */
const MOST_AWAY = 4096;
/** Clusters before the damage at which the first piece may end. */
const MOST_BREAKS = 24;
const MOST_FIRST_PIECE = 1 << 26;

/** Whether a find may go on somewhere else: it is damaged, or its last part is not proven. */
export const isOpen = ({ format, extent }: Find) =>
  traitsOf(format).inPieces === true &&
  (extent.verdict.verdict === "damaged" || (extent.verdict.verdict === "cannot-tell" && extent.proven !== undefined));

/** The find as two pieces that make it whole, or null. */
export function secondPiece(room: PieceRoom, find: Find): Find | null {
  if (!isOpen(find) || find.size > MOST_FIRST_PIECE) return null;
  const breaks = breaksOf(room, find);
  if (breaks.length === 0) return null;
  const away = candidates(room, find, breaks[0] as number);
  if (find.format.id === "jpeg") return jpegPieces(room, find, breaks, away);
  const anchored = anchors(room, find);
  // What gives its own place at its end is looked for by that alone.
  if (anchored) return pieces(room, find, breaks, anchored, true);
  return pieces(room, find, breaks, away, false);
}

/** Lengths of the first piece that are thought of, the likeliest first: just before the damage, then farther from it. */
function breaksOf(room: PieceRoom, find: Find): number[] {
  const { cluster, origin } = room;
  const { verdict, proven } = find.extent;
  const at = verdict.verdict === "damaged" ? Math.min(verdict.at, find.size) : (proven ?? find.size);
  const first = cluster - ((find.at - origin) % cluster);
  const last = Math.max(at, find.size);
  const all: number[] = [];
  for (let length = first; length <= last + cluster && all.length < 1 << 16; length += cluster) all.push(length);
  const near = Math.floor((at - first) / cluster) * cluster + first;
  return all.sort((a, b) => rank(a, near) - rank(b, near)).slice(0, MOST_BREAKS);
}
/** Breaks before the damage are likelier than those behind it. */
const rank = (length: number, near: number) => (length <= near ? near - length : 1.5 * (length - near));

/** Clusters where the second piece may begin, the nearest first, behind and before. */
function* candidates(room: PieceRoom, find: Find, near: number): Generator<number, void, void> {
  const { cluster, origin } = room;
  const from = Math.floor((find.at + near - origin) / cluster) * cluster + origin;
  for (let away = 0; away <= MOST_AWAY; away += 1) {
    const behind = from + away * cluster;
    if (room.limitOf(behind) > behind && !room.isTaken(behind)) yield behind;
    const before = from - away * cluster;
    if (away > 0 && before >= 0 && room.limitOf(before) > before && !room.isTaken(before)) yield before;
  }
}

function joined(room: PieceRoom, find: Find, length: number, next: number): LayoutSource {
  const rest = room.limitOf(next) - next;
  return new LayoutSource(
    room.disk,
    layoutOf(
      [
        { kind: "disk", at: find.at, length },
        { kind: "disk", at: next, length: rest },
      ],
      length + rest,
    ),
  );
}

function asFind(find: Find, extent: Extent, length: number, next: number, format: Format = find.format): Find {
  return {
    ...find,
    format,
    size: extent.size,
    extent,
    segments: [
      { at: find.at, length },
      { at: next, length: extent.size - length },
    ],
  };
}

/** Whether this is the proof that was looked for: sound to its own end, which lies in the second piece. */
const proves = (extent: Extent | null, length: number): extent is Extent => extent !== null && isProof(extent, length);
const isProof = ({ closed, verdict, size }: Extent, length: number) => closed && verdict.verdict === "sound" && size > length;

function pieces(room: PieceRoom, find: Find, breaks: readonly number[], away: Iterable<number>, byShift: boolean): Find | null {
  let [tries, bytes] = [0, 0];
  for (const each of away) {
    for (const length of breaks) {
      const next = byShift ? length + each : each;
      if (next < 0 || next === find.at + length || room.limitOf(next) <= next || room.isTaken(next)) continue;
      if (!byShift && !plausible(room, find, length, next)) continue;
      tries += 1;
      bytes += find.size;
      if (tries > MOST_TRIES || bytes > MOST_BYTES) return null;
      const extent = runFollow(find.format, joined(room, find, length, next));
      if (proves(extent, length)) return farthest(room, find, breaks, next - length) ?? asFind(find, extent, length, next);
    }
  }
  return null;
}

/**
 * Where other lengths of the first piece pass as well, the check is blind there: the longest before the damage is taken, because a
 * file goes on where it stands until something speaks against it, and nothing is promised. Null: there is no other.
 */
function farthest(room: PieceRoom, find: Find, breaks: readonly number[], shift: number): Find | null {
  let best: Find | null = null;
  let passing = 0;
  // The first of the breaks is the one just before the damage.
  const near = breaks[0] as number;
  const better = (length: number, than: number) => (than <= near ? length > than && length <= near : length < than);
  for (const length of breaks) {
    const next = length + shift;
    if (next < 0 || room.limitOf(next) <= next) continue;
    const extent = runFollow(find.format, joined(room, find, length, next));
    if (!proves(extent, length)) continue;
    passing += 1;
    if (!best || better(length, best.segments[0]?.length ?? 0)) best = asFind(find, { ...extent, verdict: UNSURE }, length, next);
  }
  return passing > 1 ? best : null;
}

const UNSURE = cannotTell("where the first of its two pieces ends cannot be told for certain");

/** A look that costs next to nothing: where a chunk, member or box ends in the second piece, the next one must begin. */
function plausible(room: PieceRoom, find: Find, length: number, next: number): boolean {
  const { verdict } = find.extent;
  if (verdict.verdict !== "damaged") return true;
  const reader = new BlockReader(joined(room, find, length, next), 4096);
  try {
    if (find.format.id === "png") {
      const end = verdict.at + 12 + reader.u32be(verdict.at);
      return verdict.at > length || end < length || /^[A-Za-z]{4}$/.test(reader.ascii(end + 4, 4));
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return false;
  }
  return true;
}

const ANCHOR_REACH = 1 << 25;
const MOST_ANCHORS = 64;

/**
 * Where something at the file's end gives its own place in the file (a table of contents that the last lines name), the second
 * piece's shift is known: disk offset minus place in the file.
 */
function anchors(room: PieceRoom, find: Find): number[] | null {
  const kind = find.format.id === "pdf" ? "pdf" : traitsOf(find.format).family === "zip" ? "zip" : null;
  if (!kind) return null;
  const from = Math.max(0, find.at - ANCHOR_REACH);
  const reader = new BlockReader(new WindowSource(room.disk, from, Math.min(room.disk.size, find.at + ANCHOR_REACH) - from));
  const found = new Map<number, number>();
  try {
    for (let at = nextAnchor(reader, kind, 0); at >= 0; at = nextAnchor(reader, kind, at + 4)) {
      const shift = shiftAt(reader, kind, at, from);
      if (shift === null || shift === find.at || (shift - find.at) % Math.min(room.cluster, 512) !== 0) continue;
      if (!found.has(shift)) found.set(shift, Math.abs(from + at - find.at));
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return [...found]
    .sort(([, a], [, b]) => a - b)
    .slice(0, MOST_ANCHORS)
    .map(([shift]) => shift);
}

const nextAnchor = (reader: BlockReader, kind: "pdf" | "zip", from: number) =>
  reader.find(kind === "pdf" ? "startxref" : "PK\x05\x06", from);

function shiftAt(reader: BlockReader, kind: "pdf" | "zip", at: number, from: number): number | null {
  if (kind === "zip") return from + at - reader.u32(at + 12) - reader.u32(at + 16);
  const stated = /^startxref\s+(\d+)/.exec(reader.ascii(at, Math.min(40, reader.size - at)))?.[1];
  if (!stated) return null;
  // The table stands somewhere before the line that names it.
  const before = reader.ascii(Math.max(0, at - 65_536), Math.min(65_536, at));
  const table = Math.max(before.lastIndexOf("xref\n"), before.lastIndexOf("xref\r"));
  if (table >= 0 && before.slice(table - 5, table) !== "start") return from + Math.max(0, at - 65_536) + table - Number(stated);
  const stream = [...before.matchAll(/\d+ \d+ obj\s*<<(?:(?!endobj)[\s\S])*?\/XRef/g)].at(-1);
  return stream ? from + Math.max(0, at - 65_536) + stream.index - Number(stated) : null;
}

/** Pictures are taken up again in the middle of their data, from the last state before each break. */
function jpegPieces(room: PieceRoom, find: Find, breaks: readonly number[], away: Iterable<number>): Find | null {
  const first = new WindowSource(room.disk, find.at, room.limitOf(find.at) - find.at);
  const followed = followJpeg(first, true);
  const progressive = followed.open?.frame.marker === PROGRESSIVE;
  const fallback = breaks.slice(0, 4);
  let tries = 0;
  for (const next of away) {
    if (!readsLikeData(readBytes(room.disk, next, Math.min(room.cluster, room.limitOf(next) - next, MOST_LOOKED_AT)), progressive))
      continue;
    for (const length of breaks) {
      if (next === find.at + length) continue;
      tries += 1;
      if (tries > MOST_TRIES * 10) return null;
      const source = joined(room, find, length, next);
      if (!goesOn(followed, source, length, fallback.includes(length))) continue;
      const extent = runFollow(find.format, source);
      if (proves(extent, length)) return asFind(find, extent, length, next);
    }
  }
  return null;
}

/** Bytes of a cluster that are looked at before its data are decoded. */
const MOST_LOOKED_AT = 4096;

/**
 * Coded picture data have no markers but restarts up to the end of the picture (ITU-T T.81, F.1.2.3); progressive ones have a scan after
 * the other, with tables between them.
 */
function readsLikeData(bytes: Uint8Array, progressive: boolean): boolean {
  for (let i = bytes.indexOf(0xff); i >= 0 && i + 1 < bytes.length; i = bytes.indexOf(0xff, i + 2)) {
    const next = bytes[i + 1] as number;
    if (next === 0xd9) return true;
    const isRestart = next >= 0xd0 && next <= 0xd7;
    if (next !== 0 && !isRestart && !(progressive && next >= 0xc0 && next !== 0xd8)) return false;
  }
  return true;
}

function goesOn({ open }: FollowedJpeg, source: ByteSource, length: number, likely: boolean): boolean {
  // Broken before or between scans: only the whole can decide.
  if (!open) return likely;
  const state = open.states.findLast((each) => each.at + 4 <= length);
  if (!state) return likely;
  // In progressive pictures what is known of each coefficient cannot be taken back: the whole is followed for the likely breaks.
  if (open.frame.marker === PROGRESSIVE) return likely;
  return new ScanReader(source, open.frame, open.scan, state, LOOK).run().ended;
}
