import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import type { FileSystemKind } from "../filesystems/file-system-kind";
import { tarEntry } from "../formats/archives";
import { CENTRAL, DESCRIPTOR, END, LOCAL, SPLIT_MARK } from "../formats/zip/layout";
import { localMember } from "../formats/zip/members";
import { openPackedFile } from "./packed-file";
import { nextMarked, nextSummed } from "./tar-headers";
import { openTar } from "./tar-volume";
import { openZip } from "./zip-volume";

const ZIP = { filesystem: "zip", length: null, clusterSize: null, label: null } as const;
const TAR = { filesystem: "tar", length: null, clusterSize: null, label: null } as const;
/** Bytes at the beginning that are looked at for members where the first header is damaged. */
const REACH = 1 << 22;
const ENOUGH = 2;
/** Members take so much of that at least. */
const MOST_SHARE = 0.5;

/** ZIP archives (APPNOTE). */
export const zipArchive: FileSystemKind = {
  mayBeSmall: true,
  recognise: (head) => {
    const reader = new BlockReader(new MemorySource(head.bytes));
    return [0, reader.has(0, SPLIT_MARK) ? 4 : 0].some((at) => isLocal(reader, at)) || reader.has(0, END.mark) ? ZIP : null;
  },
  /** By the end record with its list of contents, or by members that take most of the beginning: on a disk there are archives among other things. */
  recogniseRemains(disk) {
    const reader = new BlockReader(disk);
    // What a TAR archive holds may be ZIPs: whose members begin first, and behind whose end nothing stands, is the outer one.
    const tar = firstOfTar(disk);
    const findLocal = (from: number, until: number) => {
      const at = reader.find(LOCAL.mark, from, until);
      return at < 0 ? null : at;
    };
    const end = reader.find(END.mark, Math.max(0, disk.size - END.size - END.maxComment));
    if (tar !== null && (reader.find(LOCAL.mark, 0, tar) < 0 || (end >= 0 && !endsSource(reader, end)))) return null;
    if (end >= 0 && reader.find(CENTRAL.mark, Math.max(0, end - REACH), end) >= 0) return ZIP;
    return firstOfMost(disk, findLocal, (at) => (isLocal(reader, at) ? endOfMember(reader, at) : null)) === null ? null : ZIP;
  },
  openers: { zip: openZip },
};

/** Whether nothing stands behind an end record but zeros. */
function endsSource(reader: BlockReader, at: number): boolean {
  if (at + END.size > reader.size) return true;
  const end = at + END.size + reader.u16(at + END.commentLength);
  return end >= reader.size || reader.bytes(end, reader.size - end).every((byte) => byte === 0);
}

/** Where the first member of a TAR archive begins whose members take most of the beginning of a source; null: there is none. */
function firstOfTar(disk: ByteSource): number | null {
  const reader = new BlockReader(disk);
  const endOf = (at: number) => tarEntry(reader, at)?.next ?? null;
  const by = (find: typeof nextMarked) => firstOfMost(disk, (from, until) => find(reader, from, until), endOf);
  return by(nextMarked) ?? by(nextSummed);
}

/**
 * Finds the first of members that follow one another over most of the beginning of a source; in a small one, all of which is looked at, over most of what is
 * behind that one.
 * @param find where the next header may begin, from one place up to another @param endOf where the member ends whose header begins at a place; null: none begins there
 */
function firstOfMost(
  disk: ByteSource,
  find: (from: number, until: number) => number | null,
  endOf: (at: number) => number | null,
): number | null {
  const until = withoutZeros(disk, Math.min(disk.size, REACH));
  let [found, chained, covered, first, reached] = [0, 0, 0, -1, 0];
  for (let at = find(0, until); at !== null; at = find(Math.max(at + 1, reached), until)) {
    const end = endOf(at);
    if (end === null || end <= at) continue;
    found += 1;
    if (at === reached) chained += 1;
    if (first < 0) first = at;
    reached = Math.min(end, until);
    covered += Math.min(end, until) - at;
  }
  const isNearFirst = first <= until * (1 - MOST_SHARE) || (disk.size <= REACH && chained > 0);
  return found >= ENOUGH && covered > (until - first) * MOST_SHARE && isNearFirst ? first : null;
}

/** Where what is not zero ends in the beginning of a source: archives are filled up with zeros. */
function withoutZeros(disk: ByteSource, length: number): number {
  let end = 0;
  for (const { at, bytes } of new BlockReader(disk).blocks(0, length)) {
    let last = bytes.length;
    while (last > 0 && bytes[last - 1] === 0) last -= 1;
    if (last > 0) end = at + last;
  }
  return end;
}

/** Where a member ends by its header; one whose size comes after its data, where the next header begins behind that. */
function endOfMember(reader: BlockReader, at: number): number | null {
  try {
    const member = localMember(reader, at);
    if (!member) return null;
    if (member.sized) return member.dataAt + member.packed;
    const next = reader.find(LOCAL.mark, member.dataAt);
    // Only a descriptor before the next header says that nothing else stands between.
    return [16, 24].some((size) => next > 0 && reader.has(next - size, DESCRIPTOR.mark)) ? next : member.dataAt;
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return null;
  }
}

function isLocal(reader: BlockReader, at: number): boolean {
  try {
    return localMember(reader, at) !== null;
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    // The name may be longer than what is looked at.
    return true;
  }
}

/** TAR archives (POSIX.1-2017, pax). */
export const tarArchive: FileSystemKind = {
  mayBeSmall: true,
  recognise: (head) => (tarEntry(new BlockReader(new MemorySource(head.bytes)), 0) ? TAR : null),
  recogniseRemains: (disk) => (firstOfTar(disk) === null ? null : TAR),
  openers: { tar: openTar },
};

/** One file that was compressed by itself. What it unpacks to can be anything: what holds it says that it is one (`Container.file`). */
export const packedFile: FileSystemKind = { mayBeSmall: true, recognise: () => null, openers: { packed: openPackedFile } };
