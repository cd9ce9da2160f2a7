import type { ByteSource } from "../bytes/byte-source";
import { readGpt } from "./gpt";
import { readMbr } from "./mbr";
import type { PartitionTable } from "./partition";

/**
 * Finds what divides a disk: GPT, MBR, or nothing (a bare volume, or a lost table).
 * Both sector sizes in use are tried, because an image does not tell its own.
 */
export function readPartitions(disk: ByteSource): PartitionTable {
  for (const sectorSize of [512, 4096]) {
    const gpt = readGpt(disk, sectorSize);
    if (gpt) return { kind: "gpt", sectorSize, ...gpt };
  }
  const mbr = readMbr(disk, 512);
  if (mbr && mbr.partitions.length > 0) {
    const notes = mbr.protective
      ? [...mbr.notes, "The boot record says a GUID partition table should be here, but none is readable."]
      : mbr.notes;
    return { kind: "mbr", sectorSize: 512, partitions: mbr.partitions, notes };
  }
  return { kind: "none", sectorSize: 512, partitions: [], notes: mbr?.notes ?? [] };
}
