import { type ByteSource, readBytes } from "../../core/bytes/byte-source";
import { Ground } from "../../core/filesystems/ground";
import { type LeftoverScan, readLeftovers } from "../../core/filesystems/leftovers";

export const ALL = { start: 0, end: Number.MAX_SAFE_INTEGER };

/** A disk of which nothing is known to be in use. */
export const bareGround = (disk: ByteSource) => new Ground(disk, 0, disk, { allocation: null, allocationStart: 0, clusterSize: 512 });

/** Where traces of one kind begin on a disk, with the 4096 bytes there; at most `most` of them. */
export function tracesOn(disk: ByteSource, scanOf: (ground: Ground) => LeftoverScan, most: number): { at: number; bytes: Uint8Array }[] {
  const found: { at: number; bytes: Uint8Array }[] = [];
  const own = scanOf(bareGround(disk));
  const note = (block: Uint8Array, inside: number, at: number) => {
    const noted = found.length < most && own.note(block, inside, at);
    if (noted) found.push({ at, bytes: readBytes(disk, at, 4096) });
    return noted;
  };
  const scan: LeftoverScan = {
    head: own.head,
    ...(own.firstBytes ? { firstBytes: own.firstBytes } : {}),
    note,
    found: () => ({ count: 0, describe: () => [] }),
  };
  for (const _ of readLeftovers({ volume: disk, start: 0, scans: [scan] }, null, 64, ALL, null));
  return found;
}
