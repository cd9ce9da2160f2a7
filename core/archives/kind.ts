import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import type { FileSystemKind } from "../filesystems/file-system-kind";
import { tarEntry } from "../formats/archives";
import { CENTRAL, DESCRIPTOR, END, LOCAL, SPLIT_MARK } from "../formats/zip/layout";
import { localMember } from "../formats/zip/members";
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
    const end = reader.find(END.mark, Math.max(0, disk.size - END.size - END.maxComment));
    if (end >= 0 && reader.find(CENTRAL.mark, Math.max(0, end - REACH), end) >= 0) return ZIP;
    return takesMost(disk, LOCAL.mark, 0, (at) => (isLocal(reader, at) ? endOfMember(reader, at) : null)) ? ZIP : null;
  },
  openers: { zip: openZip },
};

/** Where a mark stands in a header of TAR. */
const TAR_MARK_AT = 257;

/**
 * Whether members follow one another over most of the beginning of a source; in a small one, all of which is looked at, only most of what is behind the first one's.
 * @param endOf where the member ends whose header begins at a place; null: none begins there
 */
function takesMost(disk: ByteSource, mark: string, markAt: number, endOf: (at: number) => number | null): boolean {
  const reader = new BlockReader(disk);
  const until = Math.min(disk.size, REACH);
  let [found, chained, covered, first, reached] = [0, 0, 0, -1, 0];
  for (let place = reader.find(mark, 0, until); place >= 0; place = reader.find(mark, Math.max(place + 1, reached), until)) {
    const at = place - markAt;
    const end = at >= 0 ? endOf(at) : null;
    if (end === null || end <= at) continue;
    found += 1;
    if (place === reached) chained += 1;
    if (first < 0) first = at;
    reached = Math.min(end, until) + markAt;
    covered += Math.min(end, until) - at;
  }
  const isNearFirst = first <= until * (1 - MOST_SHARE) || (disk.size <= REACH && chained > 0);
  return found >= ENOUGH && covered > (until - first) * MOST_SHARE && isNearFirst;
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
  recogniseRemains(disk) {
    const reader = new BlockReader(disk);
    return takesMost(disk, "ustar", TAR_MARK_AT, (at) => tarEntry(reader, at)?.next ?? null) ? TAR : null;
  },
  openers: { tar: openTar },
};
