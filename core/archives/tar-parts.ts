import { type ByteSource, readBytes, WindowSource } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import type { ArchiveEntry } from "./archive";
import { tarArchive } from "./kind";
import { readTarArchive } from "./tar-archive";

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
  return first?.isRest && first.stored ? { path: first.path, offset: offsetOf(first), at: first.stored.at } : null;
}

/** Where a part of a TAR archive ends within a file, or with its last byte; null: something else stands there. Goes from header to header. */
export function endsWithin(source: ByteSource): TarSeam | null {
  const last = readTarArchive(source).entries.at(-1);
  if (last?.type !== "file" || !last.stored) return null;
  const [offset, length] = last.isRest ? [offsetOf(last), last.stored.length] : [0, last.present];
  const end = last.stored.at + length;
  const isLast = offset + length === last.size ? end + RECORD > source.size : end === source.size;
  return isLast ? { path: last.path, offset: offset + length, at: source.size } : null;
}

/** Bytes of a file that stand before its rest. */
function offsetOf({ layout }: ArchiveEntry): number {
  const first = layout?.segments[0];
  return first?.kind === "lost" ? first.length : 0;
}
