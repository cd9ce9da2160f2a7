import type { ByteSource } from "../bytes/byte-source";
import { type Range, RangeSet, without } from "../bytes/range-set";
import type { VolumeTrace } from "../filesystems/file-system-kind";
import { mayBeTrace, volumeTrace } from "./volume-traces";

const STEP = 1 << 20;
const SECTOR = 512;
/** Bytes looked at sector by sector, over all stretches together; each gets an equal share, and what short ones leave goes to the others. */
const MOST_BYTES = 64 << 20;
/** Beyond that: places where partitions usually begin, each looked at alone. */
const MOST_PLACES = 2048;
const MOST_FOUND = 256;
/**
 * Bytes before and behind a found volume that are looked at closely: where one ends, the next begins, at the next MiB or, on
 * old disks, at the next cylinder of 255 heads and 63 sectors at most (common practice, no published source).
 */
const NEAR = 8 << 20;
/** Bytes looked at beside found volumes, over all of them. */
const MOST_NEAR = 256 << 20;

/**
 * Searches stretches of a disk for volumes that no partition table names, by the boot sectors, backup boot sectors and file
 * records they leave. A large disk is searched closely at the beginning and the end of each stretch and beside each volume that
 * is found, and at whole MiB for a while, so that this stays a matter of a second.
 * @param straight the same bytes without a cache, for places that lie far apart
 * @returns what was found, and the stretches of which only a part was looked at
 */
export function findVolumes(
  disk: ByteSource,
  ranges: readonly Range[],
  straight = disk,
): { found: VolumeTrace[]; partly: readonly Range[] } {
  const traces = new Map<string, VolumeTrace>();
  const looked = new RangeSet();
  const asked: VolumeTrace[] = [];
  const note = (trace: VolumeTrace | null) => {
    if (!trace || traces.size >= MOST_FOUND) return;
    const key = `${trace.start} ${trace.filesystem}`;
    const known = traces.get(key);
    if (!known) asked.push(trace);
    // The boot sector itself says more than its copy, and that more than what can be worked out from records.
    if (!known || ORDER.indexOf(trace.by) < ORDER.indexOf(known.by)) traces.set(key, trace);
  };
  const look = (start: number, end: number) => {
    for (const part of without({ start, end }, looked.within(start, end))) lookClosely(disk, part.start, part.end, note);
    looked.add(start, end);
  };
  const most = Math.max(4 * STEP, shareOf(ranges.map(({ start, end }) => end - start)));
  const long = ranges.filter(({ start, end }) => end - start > most);
  for (const { start, end } of ranges) {
    const share = Math.min(end - start, most);
    // Backup boot sectors stand at the end.
    const head = share === end - start ? share : Math.floor((share * 3) / 4 / STEP) * STEP;
    look(start, start + head);
    look(end - (share - head), end);
  }
  const sector = new Uint8Array(SECTOR);
  for (const { start, end } of long) {
    for (let at = Math.ceil(start / STEP) * STEP, places = MOST_PLACES / long.length; at < end && places > 0; at += STEP) {
      if (looked.overlap(at, at + SECTOR) > 0) continue;
      places -= 1;
      straight.read(at, sector);
      note(volumeTrace(disk, at, sector));
    }
  }
  // What is found leads on: its neighbours stand beside it, and theirs beside them.
  const enough = looked.total + MOST_NEAR;
  for (let trace = asked.shift(); trace && looked.total < enough; trace = asked.shift()) {
    for (const at of [trace.start, trace.start + trace.length]) {
      for (const range of long) {
        const [start, end] = [Math.max(range.start, at - NEAR), Math.min(range.end, at + NEAR)];
        if (start < end) look(start, end);
      }
    }
  }
  return { found: [...traces.values()].sort((a, b) => a.start - b.start || b.length - a.length), partly: long };
}

/** How much of each stretch can be looked at so that all together come to `MOST_BYTES`. */
function shareOf(lengths: readonly number[]): number {
  let [left, count] = [MOST_BYTES, lengths.length];
  for (const length of [...lengths].sort((a, b) => a - b)) {
    if (length > left / count) return Math.floor(left / count);
    left -= length;
    count -= 1;
  }
  return MOST_BYTES;
}

const ORDER: readonly VolumeTrace["by"][] = ["boot sector", "backup boot sector", "file records"];

function lookClosely(disk: ByteSource, start: number, end: number, note: (trace: VolumeTrace | null) => void): void {
  const block = new Uint8Array(STEP);
  for (let at = Math.ceil(start / SECTOR) * SECTOR; at < end; at += STEP) {
    const length = Math.min(STEP, end - at);
    const part = block.subarray(0, length);
    disk.read(at, part);
    for (let inside = 0; inside + SECTOR <= length; inside += SECTOR) {
      if (mayBeTrace(part, inside)) note(volumeTrace(disk, at + inside, part.slice(inside, inside + SECTOR)));
    }
  }
}
