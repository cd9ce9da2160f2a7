import type { ByteSource } from "../bytes/byte-source";
import { hasMark, type SectorMark, type VolumeTrace } from "../filesystems/file-system-kind";
import { FILE_SYSTEMS } from "../filesystems/registry";

const KINDS = FILE_SYSTEMS.flatMap(({ traces }) => (traces ? [traces] : []));

/** Two bytes decide nearly every sector: those of one of these. */
const MARKS: readonly SectorMark[] = [...new Set(KINDS.flatMap(({ marks }) => marks))];

/** Whether the sector that begins at `from` may be a trace of a volume. */
export function mayBeTrace(bytes: Uint8Array, from: number): boolean {
  for (const mark of MARKS) if (hasMark(bytes, mark, from)) return true;
  return false;
}

/** The volume that a sector at `at` gives evidence of; null: nothing, or nothing that the disk bears out. */
export function volumeTrace(disk: ByteSource, at: number, sector: Uint8Array): VolumeTrace | null {
  for (const { marks, read } of KINDS) {
    const found = marks.some((mark) => hasMark(sector, mark)) ? read(disk, at, sector) : null;
    if (found) return found;
  }
  return null;
}
