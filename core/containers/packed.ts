import { unpackArchive } from "../archives/unpack";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { unpackHead } from "../bytes/whole-file";
import { recogniseFileSystem } from "../filesystems/recognise";
import { readPartitions } from "../partitions/read-partitions";
import type { Container } from "./container";

/** Bytes by which an archive, a volume or the table of a disk is known. */
const HEAD = 1 << 16;
/** More bytes than a disk has. */
const FAR = 2 ** 50;

/** A TAR archive, or the image of a disk, that is compressed as a whole (gzip, bzip2, xz): what it unpacks to, as far as it goes. null: it is none. */
export function openPacked(file: ByteSource): Container | null {
  const head = unpackHead(file, HEAD);
  if (!head || !isKnown(endless(head))) return null;
  const unpacked = unpackArchive(file);
  if (!unpacked) return null;
  return { kind: "packed", form: null, disk: unpacked.content, identity: null, created: null, notes: unpacked.notes };
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

const isKnown = (head: ByteSource): boolean =>
  recogniseFileSystem(head).filesystem !== "unknown" || readPartitions(head).partitions.length > 0;
