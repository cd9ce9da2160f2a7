import type { ByteSource } from "../bytes/byte-source";
import { hasMark, type VolumeTrace } from "../filesystems/file-system-kind";
import { FILE_SYSTEMS } from "../filesystems/registry";

const KINDS = FILE_SYSTEMS.flatMap(({ traces }) => (traces ? [traces] : []));

/** Of each place at which marks stand, the second bytes that go with a first one: one look decides nearly every sector. */
const PLACES = [...new Set(KINDS.flatMap(({ marks }) => marks.map(({ at }) => at)))].map((at) => {
  const seconds: number[][] = [];
  for (const mark of KINDS.flatMap(({ marks }) => marks)) {
    const [first, second] = mark.bytes;
    if (mark.at === at) seconds[first] = [...(seconds[first] ?? []), second];
  }
  return { at, begins: Uint8Array.from({ length: 256 }, (_, byte) => (seconds[byte] ? 1 : 0)), seconds };
});

/** Whether the sector that begins at `from` may be a trace of a volume. */
export function mayBeTrace(bytes: Uint8Array, from: number): boolean {
  for (const { at, begins, seconds } of PLACES) {
    const first = bytes[from + at] as number;
    if (begins[first] === 1 && seconds[first]?.includes(bytes[from + at + 1] as number)) return true;
  }
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
