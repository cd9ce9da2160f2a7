import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { FileSystemError } from "../file-record";
import { BOOT } from "./layout";

export interface ClusterMeasures {
  readonly clusterSize: number;
  /** Whole clusters on the volume. */
  readonly clusters: number;
}

export interface Geometry extends ClusterMeasures {
  readonly sectorSize: number;
  readonly mftLcn: number;
  readonly mftMirrorLcn: number;
  /** Bytes in an MFT record. */
  readonly recordSize: number;
  readonly serial: string;
}

const powerOfTwo = (value: number) => value > 0 && Number.isInteger(Math.log2(value));

/**
 * The boot sector of a volume, or where it is damaged its copy behind the last sector.
 * @throws FileSystemError naming what is wrong with the first one when there is no copy either
 */
export function readEitherBootSector(volume: ByteSource): { geometry: Geometry; notes: string[] } {
  try {
    return { geometry: readBootSector(volume), notes: [] };
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    for (const sectorSize of [512, 4096]) {
      try {
        const geometry = readBootSector(volume, Math.floor(volume.size / sectorSize) * sectorSize - sectorSize);
        return { geometry, notes: ["The boot sector is damaged; its copy at the end of the volume was used."] };
      } catch (second) {
        if (!(second instanceof FileSystemError)) throw second;
      }
    }
    throw error;
  }
}

/**
 * Reads an NTFS boot sector and checks it for sense.
 * @throws FileSystemError naming the field that cannot be
 */
export function readBootSector(volume: ByteSource, at = 0): Geometry {
  if (at < 0) throw new FileSystemError("The volume is too short for a boot sector.");
  const boot = new Cursor(readBytes(volume, at, 512));
  if (String.fromCharCode(...boot.slice(BOOT.oemId, 8)) !== BOOT.oemIdValue) {
    throw new FileSystemError("The boot sector does not carry the mark of NTFS.");
  }
  const sectorSize = boot.u16(BOOT.bytesPerSector);
  if (!powerOfTwo(sectorSize) || sectorSize < 256 || sectorSize > 4096) {
    throw new FileSystemError(`The boot sector gives a sector size of ${sectorSize} bytes; 256 to 4096 is possible.`);
  }
  const perCluster = boot.u8(BOOT.sectorsPerCluster);
  // Above 0x80 the byte is a negative power of two, for clusters of more than 128 sectors.
  const clusterSize = sectorSize * (perCluster > 0x80 ? 2 ** (256 - perCluster) : perCluster);
  if (!powerOfTwo(clusterSize) || clusterSize > 2 << 20) {
    throw new FileSystemError(`The boot sector gives a cluster size of ${clusterSize} bytes; at most 2 MiB is possible.`);
  }
  const perRecord = boot.i8(BOOT.clustersPerMftRecord);
  const recordSize = perRecord < 0 ? 2 ** -perRecord : perRecord * clusterSize;
  if (!powerOfTwo(recordSize) || recordSize < 512 || recordSize > 65_536) {
    throw new FileSystemError(`The boot sector gives MFT records of ${recordSize} bytes; 512 to 65536 is possible.`);
  }
  const clusters = Math.floor((boot.u64(BOOT.numberOfSectors) * sectorSize) / clusterSize);
  if (clusters < 1) throw new FileSystemError("The boot sector says the volume has no clusters.");
  const serial = [...boot.slice(BOOT.volumeSerialNumber, 8)]
    .reverse()
    .map((byte) => byte.toString(16).padStart(2, "0"))
    .join("");
  return {
    sectorSize,
    clusterSize,
    clusters,
    mftLcn: boot.u64(BOOT.mftLcn),
    mftMirrorLcn: boot.u64(BOOT.mftMirrLcn),
    recordSize,
    serial: serial.toUpperCase(),
  };
}
