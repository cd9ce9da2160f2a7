import type { ByteSource } from "../bytes/byte-source";
import type { Range } from "../bytes/range-set";
import { type VolumeTrace, volumeTrace } from "./volume-traces";

const STEP = 1 << 20;
const SECTOR = 512;
/** Bytes looked at sector by sector, over all ranges together. */
const MOST_BYTES = 64 << 20;
/** Beyond that: places where partitions usually begin, each looked at alone. */
const MOST_PLACES = 2048;
const MOST_FOUND = 256;

/**
 * Searches stretches of a disk for volumes that no partition table names, by the boot sectors, backup boot sectors and file
 * records they leave. A large disk is searched closely at the beginning and the end of each stretch, and otherwise at
 * whole MiB, so that this stays a matter of a second.
 * @param straight the same bytes without a cache, for places that lie far apart
 */
export function findVolumes(disk: ByteSource, ranges: readonly Range[], straight = disk): { found: VolumeTrace[]; complete: boolean } {
  const traces = new Map<string, VolumeTrace>();
  const note = (trace: VolumeTrace | null) => {
    if (!trace || traces.size >= MOST_FOUND) return;
    const key = `${trace.start} ${trace.filesystem}`;
    const known = traces.get(key);
    // The boot sector itself says more than its copy, and that more than what can be worked out from records.
    if (!known || ORDER.indexOf(trace.by) < ORDER.indexOf(known.by)) traces.set(key, trace);
  };
  let left = MOST_BYTES;
  let places = MOST_PLACES;
  let complete = true;
  for (const { start, end } of ranges) {
    const share = Math.min(end - start, left);
    left -= share;
    if (share === end - start) {
      lookClosely(disk, start, end, note);
      continue;
    }
    complete = false;
    // Backup boot sectors stand at the end.
    const head = Math.floor((share * 3) / 4 / STEP) * STEP;
    const tail = Math.max(start + head, end - (share - head));
    lookClosely(disk, start, start + head, note);
    lookClosely(disk, tail, end, note);
    const sector = new Uint8Array(SECTOR);
    for (let at = Math.ceil((start + head) / STEP) * STEP; at < tail && places > 0; at += STEP, places -= 1) {
      straight.read(at, sector);
      note(volumeTrace(disk, at, sector));
    }
  }
  return { found: [...traces.values()].sort((a, b) => a.start - b.start || b.length - a.length), complete };
}

const ORDER: readonly VolumeTrace["by"][] = ["boot sector", "backup boot sector", "file records"];

function lookClosely(disk: ByteSource, start: number, end: number, note: (trace: VolumeTrace | null) => void): void {
  const block = new Uint8Array(STEP);
  for (let at = Math.ceil(start / SECTOR) * SECTOR; at < end; at += STEP) {
    const length = Math.min(STEP, end - at);
    const part = block.subarray(0, length);
    disk.read(at, part);
    for (let inside = 0; inside + SECTOR <= length; inside += SECTOR) {
      // Two bytes decide nearly every sector: the mark at its end, or the first letter of a record.
      const boot = part[inside + 510] === 0x55 && part[inside + 511] === 0xaa;
      if (boot || (part[inside] === 0x46 && part[inside + 1] === 0x49))
        note(volumeTrace(disk, at + inside, part.slice(inside, inside + SECTOR)));
    }
  }
}
