import { BlockReader } from "../bytes/block-reader";
import { MemorySource, WindowSource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import type { FileSystemKind } from "../filesystems/file-system-kind";
import { tarEntry } from "../formats/archives";
import { CENTRAL, END, LOCAL, SPLIT_MARK } from "../formats/zip/layout";
import { localMember } from "../formats/zip/members";
import { openTar } from "./tar-volume";
import { openZip } from "./zip-volume";

const ZIP = { filesystem: "zip", length: null, clusterSize: null, label: null } as const;
const TAR = { filesystem: "tar", length: null, clusterSize: null, label: null } as const;
/** Bytes at the beginning in which a header must stand where the first one is damaged. */
const REACH = 1 << 22;
const ENOUGH = 2;

/** ZIP archives (APPNOTE). */
export const zipArchive: FileSystemKind = {
  mayBeSmall: true,
  recognise: (head) => {
    const reader = new BlockReader(new MemorySource(head.bytes));
    return [0, reader.has(0, SPLIT_MARK) ? 4 : 0].some((at) => isLocal(reader, at)) || reader.has(0, END.mark) ? ZIP : null;
  },
  /** Where the first header is gone: by those further on, and by its list of contents. */
  recogniseRecords(disk, start, length) {
    if (start !== 0 || length !== disk.size) return null;
    const reader = new BlockReader(new WindowSource(disk, start, length));
    let found = 0;
    const tail = Math.max(0, length - REACH);
    for (const [mark, from, to] of [
      [LOCAL.mark, 0, Math.min(length, REACH)],
      [CENTRAL.mark, tail, length],
    ] as const)
      for (let at = reader.find(mark, from, to); at >= 0 && found < ENOUGH; at = reader.find(mark, at + 1, to))
        if (mark === CENTRAL.mark || isLocal(reader, at)) found += 1;
    return found >= ENOUGH ? ZIP : null;
  },
  openers: { zip: openZip },
};

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
  recogniseRecords(disk, start, length) {
    if (start !== 0 || length !== disk.size) return null;
    const reader = new BlockReader(new WindowSource(disk, start, length));
    let found = 0;
    for (
      let at = reader.find("ustar", 0, Math.min(length, REACH));
      at >= 0 && found < ENOUGH;
      at = reader.find("ustar", at + 1, Math.min(length, REACH))
    )
      if (at >= 257 && tarEntry(reader, at - 257)) found += 1;
    return found >= ENOUGH ? TAR : null;
  },
  openers: { tar: openTar },
};
