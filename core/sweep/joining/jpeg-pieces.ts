import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { equalBytesIn } from "../../bytes/equal-bytes";
import { cannotTell } from "../../formats/format";
import { type FollowedJpeg, followJpeg } from "../../formats/jpeg/jpeg";
import { MARKER, PROGRESSIVE } from "../../formats/jpeg/markers";
import type { OpenScan } from "../../formats/jpeg/open-scan";
import { around, damageAt, type Joined, likeliestFirst, type PieceRoom, type Pieces, proves } from "./pieces";
import { likeliestSeam } from "./seam";

/** Places before the damage at which a piece may end; of the first of them the whole is followed where nothing less decides. */
const BREAKS = 24;
const BREAKS_LIKELY = 4;
/** Of ways to go on, those that get farthest and are looked at more closely. */
const WAYS_LOOKED_AT = 64;

/**
 * What proves a seam is that sequential data decode across it and end where the picture does. Of several seams, of progressive data (a
 * missing cluster may go unnoticed in them), and of a seam before the data that is too little.
 */
const UNSURE = cannotTell("it was put together from pieces, and what stands around their seams is not proven");

interface Left {
  looks: number;
  followed: number;
}

/** Pictures are taken up again in the middle of their data, from the last state before each break. */
export function joinJpeg(room: PieceRoom, pieces: Pieces): Joined | null {
  return goOn(room, pieces, { looks: room.effort.looks, followed: room.effort.followed }, room.effort.seams);
}

function goOn(room: PieceRoom, pieces: Pieces, left: Left, seams: number): Joined | null {
  const followed = followJpeg(pieces.source(), true);
  const progressive = followed.open?.frame.marker === PROGRESSIVE;
  const damage = damageAt(followed.extent);
  const breaks = breaksOf(room, pieces, damage, followed);
  // Between scans stand tables, of which any bytes may be a part.
  const suits = followed.open ? (bytes: Uint8Array) => readsLikeData(bytes, progressive) : (bytes: Uint8Array) => !isFill(bytes);
  const [nearest] = breaks;
  if (nearest === undefined) return null;
  // Between its parts a marker must stand where the part before it ends: then any bytes may stand before it.
  const marker = followed.open || readBytes(pieces.source(), damage, 1)[0] === 0xff ? null : damage;
  const data = [...around(room, pieces.lastAt + nearest - pieces.from)].filter(
    (next) => marker !== null || suits(readBytes(room.disk, next, Math.min(room.cluster, room.limitOf(next) - next, MOST_LOOKED_AT))),
  );
  const likely = new Set(breaks.slice(0, BREAKS_LIKELY));
  /** Where fill is followed like data, the picture broke off before it. */
  const broke = Math.min(damage, nearest + room.cluster);
  let looks = 0;
  let followedHere = 0;
  const ways: WayOn[] = [];
  let doubtful: Joined | null = null;
  for (const [length, next] of likeliestFirst(breaks, data)) {
    if (next === pieces.lastAt + length - pieces.from || pieces.holds(next, length)) continue;
    if (marker !== null && length <= marker && !isMarker(readBytes(room.disk, next + marker - length, 2))) continue;
    left.looks -= 1;
    looks += 1;
    if (left.looks < 0 || looks > room.effort.looksEach || room.disk.isSpent) break;
    const at = goesOn(followed, pieces, length, next, likely.has(length));
    if (at === null) continue;
    const longer = pieces.goingOn(length, next);
    if (at < Number.POSITIVE_INFINITY) {
      // It breaks off again, farther on: another piece may follow.
      if (at > Math.max(broke, length + room.cluster)) ways.push({ pieces: longer, at });
      continue;
    }
    if (left.followed < 0 || followedHere > room.effort.followedEach) continue;
    followedHere += length + room.cluster;
    left.followed -= length + room.cluster;
    const whole = followJpeg(longer.source());
    const { extent } = whole;
    if (proves(extent, length)) {
      if (equalBytesIn(longer.source(), whole.dataAt, extent.size, EQUAL_BYTES) === null) return surest(room, pieces, length, next, whole);
      doubtful ??= { pieces: longer, extent: { ...extent, verdict: UNSURE } };
      continue;
    }
    const on = damageAt(extent);
    if (followedHere <= room.effort.followedForWays && extent.verdict.verdict === "damaged" && on > Math.max(broke, length + room.cluster))
      ways.push({ pieces: longer, at: on });
  }
  if (doubtful || seams <= 1) return doubtful;
  for (const way of farthest(room, ways, suits)) {
    const joined = goOn(room, way.pieces, left, seams - 1);
    if (joined) return joined;
  }
  return null;
}

interface WayOn {
  readonly pieces: Pieces;
  /** Where it breaks off again. */
  readonly at: number;
}

/** The ways that get farthest over what reads like data, one for each piece they lead to. */
function farthest(room: PieceRoom, ways: readonly WayOn[], suits: (bytes: Uint8Array) => boolean): WayOn[] {
  const { cluster, disk } = room;
  const reach = ({ pieces, at }: WayOn) => {
    for (let length = pieces.from; length < at; length += cluster) {
      const place = pieces.lastAt + length - pieces.from;
      if (!suits(readBytes(disk, place, Math.max(0, Math.min(cluster, room.limitOf(place) - place, MOST_LOOKED_AT))))) return length;
    }
    return at;
  };
  const best = new Map<number, WayOn & { reached: number }>();
  for (const way of [...ways].sort((a, b) => b.at - a.at).slice(0, WAYS_LOOKED_AT)) {
    const reached = reach(way);
    // The same piece is met with from several breaks: it is known by its shift, and the last break of those is taken.
    const shift = way.pieces.lastAt - way.pieces.from;
    const known = best.get(shift);
    if (!known || way.pieces.from > known.pieces.from) best.set(shift, { ...way, reached });
  }
  return [...best.values()].sort((a, b) => b.reached - a.reached).slice(0, room.effort.ways);
}

/** What stands before a picture's data is not looked into: where its pieces may end elsewhere as well, the likeliest place is taken. */
function surest(room: PieceRoom, pieces: Pieces, found: number, next: number, { extent, frame, dataAt }: FollowedJpeg): Joined {
  const shift = next - found;
  const passes = [found];
  for (const step of [-room.cluster, room.cluster])
    for (let length = found + step; length > pieces.from && length < extent.size && passes.length < MOST_PASSING; length += step) {
      if (
        length + shift === pieces.lastAt + length - pieces.from ||
        !proves(followJpeg(pieces.goingOn(length, length + shift).source()).extent, length)
      )
        break;
      passes.push(length);
    }
  const length = passes.length > 1 ? likeliestSeam(pieces, shift, passes, extent.size) : found;
  const longer = pieces.goingOn(length, length + shift);
  const unsure = passes.length > 1 || longer.count > 2 || frame?.marker === PROGRESSIVE || length < dataAt;
  return { pieces: longer, extent: unsure ? { ...extent, verdict: UNSURE } : extent };
}
const MOST_PASSING = 64;

function breaksOf(room: PieceRoom, pieces: Pieces, damage: number, { open, dataAt }: FollowedJpeg): number[] {
  let near = pieces.boundaryBefore(damage);
  const progressive = open?.frame.marker === PROGRESSIVE;
  // What stands before the damage may show that it is none of the picture's: zeros are followed like data for a long way. Application data before the first
  // scan may look like anything.
  for (let length = near; dataAt > 0 && length - room.cluster > Math.max(pieces.from, dataAt); length -= room.cluster) {
    const at = pieces.lastAt + length - room.cluster - pieces.from;
    if (!readsLikeData(readBytes(room.disk, at, Math.min(room.cluster, MOST_LOOKED_AT)), progressive)) near = length - room.cluster;
    if (near - length > MOST_LOOKED_BACK) break;
  }
  const all = Array.from({ length: BREAKS }, (_, back) => near - back * room.cluster);
  return [...all.slice(0, 2), near + room.cluster, ...all.slice(2)].filter(
    (length) => length > pieces.from && room.freeFrom(pieces.lastAt, length - pieces.from) >= length - pieces.from,
  );
}

const isMarker = (bytes: Uint8Array) => bytes[0] === 0xff && (bytes[1] as number) >= 0xc0 && bytes[1] !== 0xff;

/** Bytes before the damage that are looked through for what is no picture's data. */
const MOST_LOOKED_BACK = 1 << 20;
/** Bytes of a cluster that are looked at before its data are decoded. */
const MOST_LOOKED_AT = 4096;

/**
 * Coded picture data have no markers but restarts up to the end of the picture (ITU-T T.81, F.1.2.3); progressive ones have a scan after
 * the other, with tables between them.
 */
function readsLikeData(bytes: Uint8Array, progressive: boolean): boolean {
  if (isFill(bytes)) return false;
  for (let i = bytes.indexOf(0xff); i >= 0 && i + 1 < bytes.length; i = bytes.indexOf(0xff, i + 2)) {
    const next = bytes[i + 1] as number;
    if (next === 0xd9) return true;
    const isRestart = next >= 0xd0 && next <= 0xd7;
    if (next !== 0 && !isRestart && !(progressive && next >= 0xc0 && next !== 0xd8)) return false;
  }
  return true;
}

/** So many equal bytes are no coded data. */
const LEAST_FILL = 256;
const isFill = (bytes: Uint8Array) => bytes.length >= LEAST_FILL && bytes.subarray(0, LEAST_FILL).every((byte) => byte === bytes[0]);

/**
 * So many equal bytes decode for as long as they go on, into as many parts of a picture as it may happen to lack: data with such among them fit by
 * chance.
 */
const EQUAL_BYTES = 32;

/** Where the data stop making sense; infinity: they do not, or only the whole decides; null: nothing speaks for going on like this. */
function goesOn({ open }: FollowedJpeg, pieces: Pieces, length: number, next: number, likely: boolean): number | null {
  const whole = likely ? Number.POSITIVE_INFINITY : null;
  // Broken before or between scans: only the whole can decide.
  if (!open) return whole;
  const state = open.states.findLast((each) => each.at + 4 <= length);
  if (!state) return whole;
  // Of very large progressive pictures it is not kept what is known of each coefficient: the whole is followed for the likely breaks.
  if (!open.canGoOn) return whole;
  const source = state.at < pieces.from ? pieces.goingOn(length, next).source() : pieces.acrossSeam(length, next);
  const end = open.goOn(source, state);
  if (end.ended) return end.skipped === 0 && mayFollow(open, source, end.at) ? Number.POSITIVE_INFINITY : end.at;
  return open.takesAnything ? null : end.at;
}

/** Parts between two scans that are looked at, at most. */
const MOST_PARTS = 16;

/**
 * Whether what stands behind a scan may do so: the end of the picture where all its data were in the scan, else tables and other parts, each as long as it
 * says, up to the next scan or the end (ITU-T T.81, B.2). Two bytes like a marker stand in any data.
 */
function mayFollow({ frame, scan }: OpenScan, source: ByteSource, from: number): boolean {
  const isOnly = frame.marker !== PROGRESSIVE && scan.parts.length === frame.components.length;
  let at = from;
  for (let parts = 0; parts < MOST_PARTS; parts += 1) {
    if (at + 4 > source.size) return at + 2 <= source.size && readBytes(source, at, 2)[1] === MARKER.eoi;
    const [mark, marker, high, low] = readBytes(source, at, 4) as unknown as [number, number, number, number];
    if (mark !== 0xff) return false;
    if (marker === MARKER.eoi) return true;
    const isPart = marker === MARKER.dht || (marker >= MARKER.sos && marker <= MARKER.dri) || marker >= MARKER.app0;
    const length = (high << 8) | low;
    if (isOnly || !isPart || length < 2) return false;
    if (marker === MARKER.sos) return true;
    at += 2 + length;
  }
  return false;
}
