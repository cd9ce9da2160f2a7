import { WindowSource } from "../../bytes/byte-source";
import type { FileSystemKind, Recognised } from "../file-system-kind";
import { formerHfsPlus } from "./catalog-nodes";
import { openHfsPlus } from "./hfsplus";
import { HEADER_AT, SIGNATURE } from "./layout";
import { embeddedIn, findHeader, readVolumeHeader, unwrapped, type VolumeHeader } from "./volume-header";

const recognised = ({ facts }: VolumeHeader): Recognised => ({
  filesystem: facts.signature === SIGNATURE.hfsx ? "hfsx" : "hfsplus",
  clusterSize: facts.blockSize,
  length: facts.totalBlocks * facts.blockSize,
  label: null,
});

/** Blocks in which the copy of the header, and what stands before the header, are marked as used: the volume ends a little behind it. */
const COPY_BEFORE_END = HEADER_AT;

/** HFS Plus and HFSX, by Technical Note 1150. */
export const hfsPlus: FileSystemKind = {
  recognise(head) {
    const mark = head.u16be(HEADER_AT);
    if (mark !== SIGNATURE.hfsPlus && mark !== SIGNATURE.hfsx) return null;
    const clusterSize = head.u32be(HEADER_AT + 40);
    return {
      filesystem: mark === SIGNATURE.hfsx ? "hfsx" : "hfsplus",
      clusterSize,
      length: head.u32be(HEADER_AT + 44) * clusterSize,
      label: null,
    };
  },
  recogniseCopy(volume) {
    const inner = embeddedIn(volume);
    const wrapped = inner && readVolumeHeader(new WindowSource(volume, inner.at, inner.length), HEADER_AT);
    if (wrapped) return { ...recognised(wrapped), length: null };
    const copy = readVolumeHeader(volume, volume.size - HEADER_AT);
    return copy && recognised(copy);
  },
  identify(volume) {
    const header = findHeader(unwrapped(volume).volume);
    return header && header.identifier !== null ? { id: header.identifier, drive: null, part: null } : null;
  },
  former: { title: "HFS+", scan: formerHfsPlus },
  openers: { hfsplus: openHfsPlus, hfsx: openHfsPlus },
  traces: {
    marks: [
      { at: 0, bytes: [0x48, 0x2b] },
      { at: 0, bytes: [0x48, 0x58] },
    ],
    read(disk, at, sector) {
      const head = readVolumeHeader(disk, at);
      if (!head) return null;
      const length = head.facts.totalBlocks * head.facts.blockSize;
      const { filesystem } = recognised(head);
      // The first and the last but one KiB hold the same: the one whose other is where it should be shows which of the two this is.
      for (const [start, by] of [
        [at - HEADER_AT, "boot sector"],
        [at + COPY_BEFORE_END - length, "backup boot sector"],
      ] as const) {
        if (start < 0 || start >= disk.size) continue;
        const catalog = head.forks.catalog.extents[0];
        const node = catalog && start + catalog.start * head.facts.blockSize;
        // The catalog begins with a node of the kind "header".
        if (node === undefined || node + 14 > disk.size) continue;
        const descriptor = new Uint8Array(14);
        disk.read(node, descriptor);
        if (descriptor[8] === 1 && descriptor[9] === 0 && sector.length > 0) return { start, length, filesystem, by };
      }
      return null;
    },
  },
};
