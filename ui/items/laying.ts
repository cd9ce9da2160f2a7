import type { LaidLook, Piece } from "@/server/pieces/contract";

type Pieces = readonly Piece[];
type Grid = LaidLook["grid"];

/**
 * Moves the end of a piece by some bytes: the next one begins as much later, so that all that comes behind keeps its place in the file.
 * What would leave either piece without a byte moves nothing.
 */
export function moveSeam(pieces: Pieces, index: number, by: number): Pieces {
  const [piece, next] = [pieces[index], pieces[index + 1]];
  if (!piece || !next) return pieces;
  const isLast = index + 2 === pieces.length;
  if (piece.length + by <= 0 || next.at + by < 0 || (!isLast && next.length - by <= 0)) return pieces;
  return pieces.map((each, at) => {
    if (at === index) return { ...each, length: each.length + by };
    if (at === index + 1) return { at: each.at + by, length: isLast ? 0 : each.length - by };
    return each;
  });
}

/** Moves the end of a piece to the cluster nearest to a length that was typed; null: it is no number, or would leave a piece without a byte. */
export function seamTyped(pieces: Pieces, index: number, text: string, cluster: number): Pieces | null {
  const piece = pieces[index];
  const length = /^\d{1,15}$/.test(text.replaceAll(/[\s,._]/g, "")) ? Number(text.replaceAll(/[\s,._]/g, "")) : 0;
  if (!piece || length === 0) return null;
  const by = Math.round((length - piece.length) / cluster) * cluster;
  if (by === 0) return pieces;
  const moved = moveSeam(pieces, index, by);
  return moved === pieces ? null : moved;
}

/** Has a piece begin at another place of the disk; what is before it stays. */
export const moveBeginning = (pieces: Pieces, index: number, at: number): Pieces =>
  at < 0 ? pieces : pieces.map((piece, each) => (each === index ? { ...piece, at } : piece));

/** Ends the last piece in the cluster in which it breaks off, or where nothing shows that, in its middle; the next begins a cluster farther on. */
export function addSeam(pieces: Pieces, { breaks, size, grid }: Pick<LaidLook, "breaks" | "size" | "grid">): Pieces {
  const last = pieces.at(-1);
  if (!last) return pieces;
  const before = pieces.slice(0, -1).reduce((sum, { length }) => sum + length, 0);
  const { cluster, origin } = grid;
  const wanted = last.at + Math.max(0, (breaks ? breaks.at : before + (size - before) / 2) - before);
  const boundary = Math.floor((wanted - origin) / cluster) * cluster + origin;
  const end = boundary > last.at ? boundary : boundary + cluster;
  return [...pieces.slice(0, -1), { at: last.at, length: end - last.at }, { at: end + cluster, length: 0 }];
}

/** Joins the last two pieces: the one before the last goes on as far as the file does. */
export const withoutLastSeam = (pieces: Pieces): Pieces =>
  pieces.length < 2 ? pieces : [...pieces.slice(0, -2), { at: (pieces.at(-2) as Piece).at, length: 0 }];

/** The cluster at a place that was typed, decimal or with 0x; null: it is no number, or lies outside. */
export function placeFrom(text: string, { cluster, origin, from, to }: Grid): number | null {
  const clean = text.trim().replaceAll(/[\s,._]/g, "");
  if (!/^(0x[0-9a-f]{1,13}|\d{1,15})$/i.test(clean)) return null;
  const at = Math.floor((Number(clean) - origin) / cluster) * cluster + origin;
  return at >= from && at < to ? at : null;
}

/** Bytes as letters; those that are none as dots. @param base64 of the bytes */
export const lettersOf = (base64: string): string =>
  Array.from(atob(base64), (letter) => (letter >= " " && letter <= "~" ? letter : "·")).join("");
