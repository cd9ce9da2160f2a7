import { asciiText } from "../bytes/text";
import type { FileSystemKind } from "./file-system-kind";

const [HFS_PLUS, HFSX] = [0x482b, 0x4858];

/** HFS Plus and HFSX (Technical Note 1150, "Volume Header"): recognised only. */
export const hfsPlus: FileSystemKind = {
  recognise(head) {
    const mark = head.u16be(1024);
    if (mark !== HFS_PLUS && mark !== HFSX) return null;
    const clusterSize = head.u32be(1024 + 40);
    return { filesystem: mark === HFSX ? "hfsx" : "hfsplus", clusterSize, length: head.u32be(1024 + 44) * clusterSize, label: null };
  },
};

/** APFS (the published file-system reference, `nx_superblock_t`): recognised only. */
export const apfs: FileSystemKind = {
  recognise(head) {
    if (asciiText(head.slice(32, 4)) !== "NXSB") return null;
    const clusterSize = head.u32(36);
    return { filesystem: "apfs", clusterSize, length: head.u64(40) * clusterSize, label: null };
  },
};
