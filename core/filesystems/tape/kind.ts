import { MemorySource } from "../../bytes/byte-source";
import type { FileSystemKind } from "../file-system-kind";
import { MediumReader, readBlock } from "./block";
import { COMMON, TYPES } from "./layout";
import { findAnchor } from "./search";
import { openTape } from "./tape-volume";

const TAPE_FORMAT = { filesystem: "tape", length: null, clusterSize: null, label: null } as const;
/** Bytes in which a block must stand where the beginning is lost. */
const REACH = 1 << 23;
/** So many blocks or streams with right checksums are no chance. */
const ENOUGH = 3;

/** Backup files of the tape format (revision 1.00a). */
export const tape: FileSystemKind = {
  mayBeSmall: true,
  recognise: (head) => {
    const letters = String.fromCharCode(...head.slice(0, 4));
    return letters === TYPES[0] && head.size >= COMMON.size && readBlock(new MediumReader(new MemorySource(head.bytes)), 0)
      ? TAPE_FORMAT
      : null;
  },
  /** Where the beginning is lost or damaged, by blocks further on. */
  recogniseRemains(disk) {
    const reader = new MediumReader(disk);
    let found = 0;
    for (let at = 0; found < ENOUGH; found += 1) {
      const anchor = findAnchor(reader, at, Math.min(disk.size, REACH));
      if (!anchor) return null;
      at = anchor.at + 1;
    }
    return TAPE_FORMAT;
  },
  openers: { tape: openTape },
};
