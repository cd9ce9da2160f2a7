import type { ByteSource } from "../bytes/byte-source";
import { type DiskRun, type Layout, LayoutSource, layoutOf } from "../bytes/layout";
import { MOST_PIECES } from "../copies/vocabulary";
import type { Extent, Format } from "../formats/format";
import { type ContentFinding, examineContent, formatById, resolved, runFollow, runSummary } from "../formats/registry";
import type { Find } from "./find";
import type { Grid } from "./grid";
import { contentFinding } from "./raw-copy";

/** What is known before pieces are laid. Offsets are bytes of the disk. */
export interface LayingRoom {
  readonly disk: ByteSource;
  readonly grid: Grid;
  /** Where the stretch ends that a piece beginning at a place may reach to; the place itself when none may begin there. */
  limitOf(at: number): number;
}

/** What is known of the file whose pieces are laid: its record says its name and size, or its content alone what it is. */
export type LaidFrom = { readonly name: string; readonly size: number } | { readonly format: Format };

/** A file as it comes out of pieces that were laid by hand. */
export interface LaidFile {
  readonly layout: Layout;
  /** The same stretches, the last one ended. */
  readonly runs: readonly DiskRun[];
  readonly finding: ContentFinding | null;
  /** Of a file that is known by its content alone. */
  readonly find: Find | null;
}

/** Pieces that cannot be laid; the words are for a person. */
export class LayingError extends Error {}

/**
 * Lays a file over stretches of the disk and looks at what comes out. The length of the last stretch is not asked: it ends where the file does.
 * @throws LayingError when a stretch lies outside the disk, or over another one of the file
 */
export function layFile(room: LayingRoom, from: LaidFrom, stretches: readonly DiskRun[]): LaidFile {
  const last = stretches.at(-1);
  if (!last || stretches.length > MOST_PIECES) throw new LayingError(`A file is laid over one piece to ${MOST_PIECES}.`);
  const ended = stretches.slice(0, -1);
  for (const { at, length } of ended) {
    if (length <= 0) throw new LayingError("A piece has at least one byte.");
    if (room.limitOf(at) < at + length) throw new LayingError("A piece lies outside the volume.");
  }
  const before = ended.reduce((sum, { length }) => sum + length, 0);
  const left = room.limitOf(last.at) - last.at;
  if (left <= 0) throw new LayingError("The last piece begins outside the volume.");
  return "size" in from
    ? laidRecord(room, from, ended, last.at, before, left)
    : laidContent(room, from.format, ended, last.at, before, left);
}

function laidRecord(
  { disk }: LayingRoom,
  { name, size }: { name: string; size: number },
  ended: readonly DiskRun[],
  lastAt: number,
  before: number,
  left: number,
): LaidFile {
  const length = size - before;
  if (length <= 0) throw new LayingError("The pieces before the last one are longer than the file.");
  if (length > left) throw new LayingError("The last piece would reach beyond the volume.");
  const runs = [...ended, { at: lastAt, length }];
  refuseOverlaps(runs);
  const layout = toLayout(runs, size);
  const content = new LayoutSource(disk, layout);
  return { layout, runs, finding: upToItsEnd(content, examineContent(content, name)), find: null };
}

/** What a content says where bytes may stand behind its own end: those are checked by nothing, so that all of it is not. */
function upToItsEnd(content: ByteSource, finding: ContentFinding): ContentFinding {
  if (finding.finding !== "agrees" || !finding.checked) return finding;
  const format = formatById.get(finding.format);
  const extent = format && runFollow(format, content);
  return extent && extent.size >= content.size ? finding : { ...finding, checked: false };
}

function laidContent(room: LayingRoom, format: Format, ended: readonly DiskRun[], lastAt: number, before: number, left: number): LaidFile {
  const open = new LayoutSource(room.disk, toLayout([...ended, { at: lastAt, length: left }], before + left));
  const extent = runFollow(format, open);
  if (!extent) throw new LayingError(`What these pieces begin with is no ${format.title}.`);
  const size = Math.min(before + left, sizeOf(room, extent, before, lastAt));
  if (size <= before) throw new LayingError(`The file ends after ${size} bytes, before its last piece begins.`);
  const runs = [...ended, { at: lastAt, length: size - before }];
  refuseOverlaps(runs);
  const layout = toLayout(runs, size);
  const content = new LayoutSource(room.disk, layout);
  const exact = resolved(format, content);
  const at = runs[0]?.at ?? lastAt;
  const find: Find = { format: exact, at, size, segments: runs, extent, summary: runSummary(exact, content), inside: null };
  return { layout, runs, finding: contentFinding(find), find };
}

/** Where a file ends that comes out of pieces: where it says, or with the cluster in which it breaks off, that of its last piece at the earliest. */
function sizeOf({ grid: { cluster, origin } }: LayingRoom, { verdict, closed, size }: Extent, before: number, lastAt: number): number {
  if (verdict.verdict !== "damaged" || closed) return size;
  const shift = lastAt - before;
  const end = (Math.floor((Math.max(lastAt, shift + verdict.at) - origin) / cluster) + 1) * cluster + origin - shift;
  return size > before ? Math.min(size, end) : end;
}

/** Bytes belong to one place of a file alone. @throws LayingError */
function refuseOverlaps(runs: readonly DiskRun[]): void {
  const sorted = [...runs].sort((a, b) => a.at - b.at);
  sorted.forEach((run, index) => {
    const next = sorted[index + 1];
    if (next && run.at + run.length > next.at) throw new LayingError("Two of the pieces lie over one another.");
  });
}

/** The content that stands in stretches of the disk, one after the other. */
export const toLayout = (runs: readonly DiskRun[], size: number): Layout =>
  layoutOf(
    runs.map((run) => ({ kind: "disk", ...run })),
    size,
  );

/** Byte of the file at which what was laid breaks off; null: nothing shows that it does. */
export const breaksOffAt = ({ finding }: Pick<LaidFile, "finding">): number | null => (finding?.finding === "damaged" ? finding.at : null);
