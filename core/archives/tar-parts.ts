import { type ByteSource, readBytes, WindowSource } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import { Cursor } from "../bytes/cursor";
import type { Layout } from "../bytes/layout";
import type { ArchiveEntry } from "./archive";
import { tarArchive } from "./kind";
import { readTarArchive } from "./tar-archive";
import { endsArchive } from "./tar-headers";
import { walkTar } from "./tar-links";
import type { TarStep } from "./tar-walk";

/** Bytes of a beginning in which the first file of a TAR archive is named. */
const BEGINNING = 1 << 16;
const HEAD = 2048;
const RECORD = 512;

/** A place in a file of an archive at which one part ends and another begins. */
export interface TarSeam {
  readonly path: string;
  /** Bytes of the file that stand in the parts before. */
  readonly offset: number;
  /** Where that is in the part. */
  readonly at: number;
}

export const isTar = (source: ByteSource): boolean => tarArchive.recognise(new Cursor(readBytes(source, 0, HEAD))) !== null;

/** Where a part of a TAR archive begins with the rest of a file (GNU tar manual, "Using Multiple Tapes"); null: it does not. */
export function beginsWithin(source: ByteSource): TarSeam | null {
  const [first] = readTarArchive(new WindowSource(source, 0, Math.min(BEGINNING, source.size))).entries;
  return first?.restFrom !== undefined && first.stored ? { path: first.path, offset: first.restFrom, at: first.stored.at } : null;
}

/** Where a part of a TAR archive ends within a file, or with its last byte; null: something else stands there. Goes from header to header. */
export function endsWithin(source: ByteSource): TarSeam | null {
  let last: ArchiveEntry | null = null;
  for (const step of walkTar(source, false).entries()) last = step?.entry ?? last;
  if (last?.type !== "file" || !last.stored) return null;
  const { path, size, present, layout, stored } = last;
  const there = layout ? stored.length : present;
  const offset = last.restFrom === undefined ? writtenOf(layout, size, present) : last.restFrom + there;
  const end = stored.at + there;
  const isLast = offset === size ? end + RECORD > source.size : end === source.size;
  return isLast ? { path, offset, at: source.size } : null;
}

/**
 * Where in a file its rest goes on, as the header of that counts: the bytes of the file but for those kept of it that are still to come. Of a file that is kept
 * without its holes this is no place in it.
 */
function writtenOf(layout: Layout | undefined, size: number, present: number): number {
  return layout ? size - layout.segments.reduce((sum, { kind, length }) => sum + (kind === "lost" ? length : 0), 0) : present;
}

/**
 * Whether a part of a TAR archive, which ends among the headers of a file or right before them, goes on with another: the next file's headers
 * are right over the end of the one and the beginning of the other.
 * @param path of that file, where something says; null: nothing does
 */
export function goesOnWith(source: ByteSource, next: ByteSource, path: string | null): boolean {
  if (endsArchive(source)) return false;
  const walk = walkTar(new ConcatSource([source, next]), false);
  /** The last member that begins in the one part, or right behind it; where a file is named, the first file that does not end there. */
  let last: TarStep | null = null;
  /** Another member follows that one without anything between them. */
  let isFollowed = false;
  for (const step of walk.entries()) {
    if (walk.damaged > 0) return false;
    isFollowed = path === null && step !== null && step.begins > source.size;
    if (isFollowed) break;
    last = step ?? last;
    if (path !== null && (last?.entry.stored?.at ?? 0) > source.size) break;
  }
  if (last === null) return false;
  // What has no data, as a folder, says itself nothing of where its headers end.
  const isOver = last.entry.stored ? last.entry.stored.at > source.size : isFollowed;
  return isOver && (path === null || last.entry.path === path);
}
