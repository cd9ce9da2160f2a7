import { unpackArchive } from "../archives/unpack";
import { type ByteSource, MemorySource, WindowSource } from "../bytes/byte-source";
import { readPackedName } from "../bytes/packed-file";
import { RangeSet } from "../bytes/range-set";
import { unpackHead, unpackWhole } from "../bytes/whole-file";
import { isBackup } from "../filesystems/names";
import { recogniseFileSystem } from "../filesystems/recognise";
import { readPartitions } from "../partitions/read-partitions";
import type { Container } from "./container";

/** Bytes by which an archive, a volume or the table of a disk is known. */
const HEAD = 1 << 16;
/** More bytes than a disk has. */
const FAR = 2 ** 50;

/**
 * A TAR archive, the image of a disk, or any other file, that is compressed as a whole (gzip, bzip2, xz): what it unpacks to, as far as it goes. null: it is none.
 * @param name of the compressed file
 */
export function openPacked(file: ByteSource, name: string): Container | null {
  const head = unpackHead(file, HEAD);
  if (!head || head.length === 0) return null;
  const held = whatIsHeld(endless(head));
  const unpacked = held ? unpackArchive(file) : unpackWhole(file);
  if (!unpacked) return null;
  if (!held) {
    const { content, notes, isComplete, isCovered } = unpacked;
    const isSound = isComplete && (content.doubts ?? []).length === 0;
    const packed = { ...readPackedName(file, name), isSound, isVouched: isSound && isCovered };
    return { kind: "packed", form: null, disk: content, identity: null, created: null, notes, file: packed };
  }
  const { disk, notes } = held === "disk" ? asDisk(unpacked.content) : { disk: unpacked.content, notes: [] };
  return { kind: "packed", form: null, disk, identity: null, created: null, notes: [...unpacked.notes, ...notes] };
}

const LEFT_OUT = "What stands behind the damage in this image does not stand where it belongs on the disk: it is left out.";
const DOUBTED =
  "Bytes of this image that its checksum does not vouch for are shown as they are, and count as unreadable: no file with such bytes is called whole.";

/** A disk out of damaged packing: up to where bytes are gone, behind which no place is right; bytes in doubt count as unreadable. */
function asDisk(content: ByteSource): { disk: ByteSource; notes: string[] } {
  const { seams: [seam] = [], doubts = [] } = content;
  if (seam === undefined && doubts.length === 0) return { disk: content, notes: [] };
  const part = new WindowSource(content, 0, seam ?? content.size);
  const inDoubt = RangeSet.from(doubts);
  const disk: ByteSource = {
    size: part.size,
    read: (at, into) => part.read(at, into),
    unreadable: (at, length) => inDoubt.within(at, Math.min(part.size, at + length)),
  };
  return { disk, notes: [...(seam === undefined ? [] : [LEFT_OUT]), ...(doubts.some(({ start }) => start < part.size) ? [DOUBTED] : [])] };
}

/** A beginning with zeros behind it: a table speaks of places far behind. */
function endless(head: Uint8Array): ByteSource {
  const source = new MemorySource(head);
  const read = (at: number, into: Uint8Array) => {
    const there = Math.max(0, Math.min(into.length, head.length - at));
    if (there > 0) source.read(at, into.subarray(0, there));
    into.fill(0, there);
  };
  return { size: FAR, read, unreadable: () => [] };
}

/** What begins like this; null: nothing that is known. */
function whatIsHeld(head: ByteSource): "archive" | "disk" | null {
  const { filesystem } = recogniseFileSystem(head);
  if (filesystem !== "unknown") return isBackup(filesystem) ? "archive" : "disk";
  return readPartitions(head).partitions.length > 0 ? "disk" : null;
}
