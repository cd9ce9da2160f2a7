import { type ByteSource, readBytes } from "../bytes/byte-source";
import { readApm } from "./apm";
import { type GptTable, readGpt } from "./gpt";
import { type MbrTable, readMbr } from "./mbr";
import type { PartitionTable } from "./partition";

/**
 * Finds what divides a disk: GPT, an Apple partition map, MBR, or nothing (a bare volume, or a lost table).
 * Both sector sizes in use are tried, because an image does not say its own.
 */
export function readPartitions(disk: ByteSource): PartitionTable {
  for (const sectorSize of [512, 4096]) {
    const gpt = readGpt(disk, sectorSize);
    if (gpt) return { kind: "gpt", sectorSize, partitions: gpt.partitions, notes: [...gpt.notes, ...hybridNotes(disk, sectorSize, gpt)] };
  }
  const apm = readApm(disk);
  if (apm && apm.partitions.length > 0) return { kind: "apm", sectorSize: apm.blockSize, partitions: apm.partitions, notes: apm.notes };
  const [small, large] = [readMbr(disk, 512), readMbr(disk, 4096)];
  // The table counts in sectors but does not say their size: the one with boot sectors where it points is right.
  const fits = (table: MbrTable | null) => table?.partitions.some((partition) => beginsVolume(disk, partition.start)) ?? false;
  const sectorSize = !fits(small) && fits(large) ? 4096 : 512;
  const mbr = sectorSize === 512 ? small : large;
  if (mbr && mbr.partitions.length > 0) {
    const notes = mbr.protective
      ? [...mbr.notes, "The boot record says a GUID partition table should be here, but none is readable."]
      : mbr.notes;
    return { kind: "mbr", sectorSize, partitions: mbr.partitions, notes };
  }
  return { kind: "none", sectorSize: 512, partitions: [], notes: mbr?.notes ?? [] };
}

/** A boot sector ends in a mark of its own, whatever the file system. */
function beginsVolume(disk: ByteSource, at: number): boolean {
  if (at + 512 > disk.size) return false;
  const [low, high] = readBytes(disk, at + 510, 2) as unknown as [number, number];
  return low === 0x55 && high === 0xaa;
}

/** A hybrid disk has a boot record that names partitions beside the GUID table. Where the two differ, that is reported. */
function hybridNotes(disk: ByteSource, sectorSize: number, gpt: GptTable): string[] {
  const mbr = readMbr(disk, sectorSize);
  if (!mbr?.protective || mbr.partitions.length === 0) return [];
  const unknown = mbr.partitions.filter((partition) => !gpt.partitions.some((each) => each.start === partition.start));
  if (unknown.length === 0)
    return ["The boot record names some of the partitions a second time (a hybrid disk); the GUID partition table was used."];
  return unknown.map(
    (partition) => `The boot record names a partition at ${partition.start} that the GUID partition table does not know; it was left out.`,
  );
}
