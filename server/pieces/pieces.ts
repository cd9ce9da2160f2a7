import { eq } from "drizzle-orm";
import { type ByteSource, readBytes } from "../../core/bytes/byte-source";
import { type DiskRun, diskRuns, type Layout, LayoutSource, markForeign } from "../../core/bytes/layout";
import type { Range } from "../../core/bytes/range-set";
import { type Copy, conditionOf, type Evidence, explain } from "../../core/copies/copy";
import type { CopyFacts } from "../../core/copies/facts";
import type { Condition } from "../../core/copies/vocabulary";
import { ALL_BYTES_THERE, type FileSystem, FileSystemError } from "../../core/filesystems/file-record";
import type { FileSystemName } from "../../core/filesystems/names";
import type { Format } from "../../core/formats/format";
import { formatById, identify, resolved } from "../../core/formats/registry";
import { traitsOf } from "../../core/formats/traits";
import { bytesIn } from "../../core/restore/gaps";
import type { Grid } from "../../core/sweep/grid";
import { breaksOffAt, type LaidFile, type LaidFrom, LayingError, type LayingRoom, layFile } from "../../core/sweep/laid-file";
import { isUsed } from "../../core/sweep/plan-sweep";
import { rawCopy } from "../../core/sweep/raw-copy";
import { openVolume } from "../../core/volumes/inspect";
import type { Connection } from "../database/connection";
import { copies, stores } from "../database/schema";
import type { StoredCopy } from "../items/queries";
import { openPermitted, storedCopy } from "../previews/content";
import { drawn } from "../previews/pictures";
import { Problem } from "../problem";
import type { LaidLook, Piece } from "./contract";
import { gridOfStore } from "./neighbours";

export type CopyRow = typeof copies.$inferSelect;
type StoreRow = typeof stores.$inferSelect;

/** A copy whose pieces can be laid, with its disk open. */
export interface Opened {
  readonly copy: StoredCopy;
  readonly row: CopyRow;
  readonly store: StoreRow;
  readonly layout: Layout;
  readonly room: LayingRoom;
  /** The file system it lies on; null: none that can be read. */
  readonly volume: FileSystem | null;
  readonly from: LaidFrom;
}

/** What is stored of a copy whose pieces were laid anew. */
export interface LaidCopy {
  readonly layout: Layout;
  readonly size: number;
  readonly condition: Condition;
  readonly survival: number;
  readonly evidence: Evidence;
  readonly facts: CopyFacts | null;
  readonly notes: readonly string[];
}

/** Bytes on each side of a seam that are shown. */
const SEAM_BYTES = 32;
const MOST_PICTURE = 1 << 27;

/**
 * Opens the disk of a copy whose pieces can be laid, and gives it to `use`.
 * @throws Problem when its bytes do not stand on a disk as they are, or cannot be read
 */
export async function withLaying<T>(db: Connection, copyId: number, use: (opened: Opened) => T | Promise<T>): Promise<T> {
  const copy = await storedCopy(db, copyId);
  const [found] = await db
    .select({ row: copies, store: stores })
    .from(copies)
    .innerJoin(stores, eq(stores.id, copies.storeId))
    .where(eq(copies.id, copyId));
  const { layout } = copy;
  if (!found || !layout || copy.file !== null || !layout.segments.every(({ kind }) => kind === "disk") || layout.segments.length === 0)
    throw new Problem("Its bytes do not stand on the disk as they are: there are no pieces to lay.", 409);
  const { row, store } = found;
  const grid = await gridOfStore(db, store);
  const { disk, close } = openPermitted(copy);
  try {
    const volume = readable(disk, store);
    const end = Math.min(disk.size, store.offset + store.length);
    const limitOf = (at: number) => (at >= store.offset && at < end ? end : at);
    const own: Grid = volume ? { cluster: volume.clusterSize, origin: volume.allocationStart } : grid;
    const from = laidFrom(copy, row, new LayoutSource(disk, layout));
    return await use({ copy, row, store, layout, volume, from, room: { disk, grid: own, limitOf } });
  } catch (error) {
    if (error instanceof LayingError) throw new Problem(error.message, 409);
    throw error;
  } finally {
    close();
  }
}

/** What was found by its content is known by that; all else has its size recorded. */
function laidFrom(copy: StoredCopy, row: CopyRow, content: ByteSource): LaidFrom {
  if (row.place !== "raw") return { name: copy.name, size: copy.size };
  const finding = (row.evidence as Evidence).content;
  const known = finding && "format" in finding && finding.format !== null ? formatById.get(finding.format) : undefined;
  const format: Format | null = known ?? identify(content, copy.name);
  if (!format) throw new Problem("Its type is not known: what its pieces come to could not be seen.", 409);
  return { format };
}

function readable(disk: ByteSource, store: StoreRow): FileSystem | null {
  if (!store.readable) return null;
  try {
    return openVolume(disk, { ...store, filesystem: store.filesystem as FileSystemName });
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return null;
  }
}

/** What comes out of pieces of a copy; null: of those it has. Nothing is stored. */
export async function lookAtPieces(db: Connection, copyId: number, pieces: readonly Piece[] | null): Promise<LaidLook> {
  return withLaying(db, copyId, (opened) => {
    const { room, row, store, layout, from } = opened;
    const laid = layFile(room, from, pieces ?? diskRuns(layout));
    const stored = toLaidCopy(opened, laid);
    const format = formatOf(opened, laid);
    const breaks = breaksOffAt(laid);
    const content = new LayoutSource(room.disk, laid.layout);
    let begins = 0;
    const seams = laid.runs.slice(0, -1).map(({ length }) => {
      begins += length;
      return seamAt(content, begins);
    });
    const { finding } = laid;
    return {
      pieces: laid.runs.map(({ at, length }) => ({ at, length })),
      size: laid.layout.size,
      format: format?.title ?? null,
      condition: stored.condition,
      survival: stored.survival,
      breaks: breaks === null || finding?.finding !== "damaged" ? null : { at: breaks, reason: finding.reason },
      opens: finding?.finding === "agrees" && finding.checked,
      picture: format !== null && traitsOf(format).shownAs === "picture" && laid.layout.size <= MOST_PICTURE,
      seams,
      grid: { ...room.grid, from: store.offset, to: room.limitOf(store.offset) },
      sized: "size" in from,
      searchable: format !== null && traitsOf(format).inPieces === true && row.condition !== "whole",
    };
  });
}

function formatOf({ room, copy }: Opened, { layout, find }: LaidFile): Format | null {
  if (find) return find.format;
  const content = new LayoutSource(room.disk, layout);
  const format = identify(content, copy.name);
  return format && resolved(format, content);
}

function seamAt(content: ByteSource, at: number) {
  const before = Math.min(SEAM_BYTES, at);
  const text = (from: number, length: number) => Buffer.from(readBytes(content, from, length)).toString("base64");
  return { before: text(at - before, before), behind: text(at, Math.min(SEAM_BYTES, content.size - at)) };
}

/** The picture that comes out of pieces, drawn. @throws Problem when it is none that can be */
export async function pictureOfPieces(db: Connection, copyId: number, pieces: readonly Piece[]): Promise<Buffer> {
  const bytes = await withLaying(db, copyId, ({ room, from }) => {
    const { layout } = layFile(room, from, pieces);
    if (layout.size > MOST_PICTURE) throw new Problem("This picture is too large to be shown here. Restore it to open it.", 413);
    return Buffer.from(readBytes(new LayoutSource(room.disk, layout), 0, layout.size));
  });
  return drawn(bytes, 720);
}

/** What would be stored of a copy whose pieces were laid by hand. */
export function toLaidCopy(opened: Opened, laid: LaidFile): LaidCopy {
  const { room, volume, row } = opened;
  const unreadable = bytesIn(new LayoutSource(room.disk, laid.layout).unreadable(0, laid.layout.size));
  if (laid.find) {
    const used = isUsed(volume, laid.find.at);
    return storedFrom(rawCopy(laid.find, unreadable, used, "by-hand"), laid.layout, row);
  }
  // A deleted file's bytes in clusters that are in use now are another file's.
  const foreign = row.state === "deleted" && volume ? usedBytes(volume, laid.runs) : [];
  const evidence: Evidence = {
    ...ALL_BYTES_THERE,
    usedByOthers: bytesIn(foreign),
    unreadable,
    content: laid.finding,
    laid: "by-hand",
  };
  const layout = markForeign(laid.layout, foreign);
  const file = { type: "file", size: layout.size, state: row.state as Copy["state"], layout } as const;
  const { condition, survival } = conditionOf(file, evidence, true);
  const pieces = laid.runs.map(({ at, length }) => `${length} bytes at ${at}`).join(", ");
  const notes = [`Laid over ${laid.runs.length} pieces by hand: ${pieces}.`, ...explain(evidence)];
  return { layout, size: layout.size, condition, survival, evidence, facts: row.facts, notes };
}

/** What is stored of a file that was found by its content and put together anew. */
export function storedFrom(copy: Copy, layout: Layout, row: CopyRow): LaidCopy {
  const { condition, survival, evidence } = copy;
  const inside = row.facts?.inside === undefined ? {} : { inside: row.facts.inside };
  const how =
    evidence.laid === "by-hand"
      ? ["Its pieces were laid by hand: what nothing checks in them may be another file’s."]
      : ["Its pieces were found by a longer look."];
  return { layout, size: layout.size, condition, survival, evidence, facts: { ...copy.facts, ...inside }, notes: [...how, ...copy.notes] };
}

/** The bytes of a content that stand in clusters a file system has in use. */
function usedBytes({ allocation, allocationStart, clusterSize }: FileSystem, runs: readonly DiskRun[]): Range[] {
  if (!allocation) return [];
  const found: Range[] = [];
  let begins = 0;
  for (const { at, length } of runs) {
    const first = Math.max(0, Math.floor((at - allocationStart) / clusterSize));
    const end = Math.min(allocation.clusters, Math.ceil((at + length - allocationStart) / clusterSize));
    for (const { start, end: to } of first < end ? allocation.usedWithin(first, end - first) : []) {
      const from = Math.max(at, allocationStart + start * clusterSize);
      const until = Math.min(at + length, allocationStart + to * clusterSize);
      if (from < until) found.push({ start: begins + from - at, end: begins + until - at });
    }
    begins += length;
  }
  return found;
}
