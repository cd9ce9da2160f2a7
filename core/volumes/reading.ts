import type { ByteSource } from "../bytes/byte-source";
import type { FileSystem, Finding } from "../filesystems/file-record";
import { type Profile, ProfileInventory } from "./profiles";

const STEP = 512;

/** What a reading of a whole volume says beside its files. */
export interface VolumeReading {
  readonly findings: readonly Finding[];
  readonly profiles: readonly Profile[];
}

/** Reads a volume for what does not add up in it and for the profiles on it. Nothing is repaired. */
export function readVolume(volume: FileSystem, disk: ByteSource): VolumeReading {
  const inventory = new ProfileInventory();
  for (const batch of volume.readRecords(null, STEP)) for (const record of batch.records) inventory.add(record);
  return { findings: volume.findings?.() ?? [], profiles: inventory.list(disk) };
}
