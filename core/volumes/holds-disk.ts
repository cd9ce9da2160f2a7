import { type ByteSource, readBytes, WindowSource } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { encryptedImage } from "../containers/encrypted-image";
import { isBundleList } from "../containers/sparse-bundle";
import { readTrailer } from "../containers/udif-trailer";
import { recogniseFileSystem } from "../filesystems/recognise";
import { tape } from "../filesystems/tape/kind";
import { readPartitions } from "../partitions/read-partitions";

/** Smaller than any disk with a file system of those that are read. Bytes. */
const SMALLEST = 64 << 10;
const SECTOR = 512;
/** Boot sectors and partition tables end with it ([UEFI] 5.2.1, [MS-FAT] 3.1); VHD footers and VHDX files begin with the others. */
const BOOT_MARK = [0x55, 0xaa];
const [VHD, VHDX] = ["conectix", "vhdxfile"];
/** How a sparse Mac disk image begins. */
const SPARSE = "sprs";
/** Mac disks without a boot record: the block that names the drivers, and the two file systems. */
const MAC_MARKS = [
  { at: 0, mark: "ER" },
  { at: 1024, mark: "H+" },
  { at: 1024, mark: "HX" },
  { at: 32, mark: "NXSB" },
] as const;

/**
 * Whether the content of a file looks like a disk with volumes on it: a virtual disk by its container's marks, a raw image by a partition
 * table or boot sector that leads to a file system. Reads a few sectors.
 */
export function looksLikeDisk(content: ByteSource): boolean {
  if (isBundleList(content) || beginsUdif(content) || isTape(content)) return true;
  if (content.size < SMALLEST) return false;
  const head = readBytes(content, 0, SECTOR);
  const tail = readBytes(content, content.size - SECTOR, SECTOR);
  const begins = (bytes: Uint8Array, mark: string) => [...mark].every((letter, at) => bytes[at] === letter.charCodeAt(0));
  if (begins(head, VHDX) || begins(head, VHD) || begins(tail, VHD)) return true;
  if (begins(head, SPARSE) || encryptedImage(content)) return true;
  const bootable = BOOT_MARK.every((byte, index) => head[SECTOR - 2 + index] === byte);
  if (!bootable && !MAC_MARKS.some(({ at, mark }) => begins(readBytes(content, at, mark.length), mark))) return false;
  if (recogniseFileSystem(content).filesystem !== "unknown") return true;
  return readPartitions(content).partitions.some(
    ({ start, length }) =>
      start < content.size &&
      recogniseFileSystem(new WindowSource(content, start, Math.min(length, content.size - start))).filesystem !== "unknown",
  );
}

/** Backup files of the tape format hold files as a volume does, however small they are. */
const isTape = (content: ByteSource): boolean => tape.recognise(new Cursor(readBytes(content, 0, HEAD))) !== null;
const HEAD = 2048;

/** Whether it is a compressed Mac disk image, or the first file of one: however small, its disk need not be. */
const beginsUdif = (content: ByteSource): boolean => (readTrailer(content)?.segmentNumber ?? Number.POSITIVE_INFINITY) <= 1;
