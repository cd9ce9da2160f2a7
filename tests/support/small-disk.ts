import { MemorySource, readBytes } from "../../core/bytes/byte-source";
import type { Neighbours } from "../../core/containers/container";
import { openVhd } from "../../core/containers/vhd";
import { fixture } from "./volume-truth";

/** The differencing image and its parent, by their names; `without` leaves some out, `renamed` calls the parent otherwise. */
export function differencing(options: { without?: boolean; renamed?: string } = {}): Neighbours {
  const parent = options.renamed ?? "open-diff-parent.vhd";
  const files = new Map([["open-diff-child.vhd", "diff-child.vhd.gz"]]);
  if (!options.without) files.set(parent, "diff-parent.vhd.gz");
  return {
    name: "open-diff-child.vhd",
    list: () => [...files.keys()],
    open: (name) => (files.has(name) ? new MemorySource(fixture(files.get(name) as string)) : null),
  };
}

let kept: Uint8Array | undefined;

/**
 * The disk that the differencing fixture holds (an NTFS and a FAT16 volume in a boot record), in memory, with stretches
 * zeroed as its damaged siblings have them.
 */
export function smallDisk(zeroed: readonly (readonly [at: number, length: number])[] = []): Uint8Array {
  if (!kept) {
    const neighbours = differencing();
    const container = openVhd(new MemorySource(fixture("diff-child.vhd.gz")), neighbours);
    if (!container) throw new Error("the fixture is no image");
    kept = readBytes(container.disk, 0, container.disk.size);
  }
  const disk = kept.slice();
  for (const [at, length] of zeroed) disk.fill(0, at, at + length);
  return disk;
}

/** Its NTFS volume: where it begins, its bytes, and where its file table and the copy of the first records stand (ntfsinfo). */
export const SMALL_NTFS = { offset: 1_048_576, length: 20_971_520, clusterSize: 8192, mftAt: 1_048_576 + 2 * 8192 } as const;
