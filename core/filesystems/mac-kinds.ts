import { asciiText } from "../bytes/text";
import type { FileSystemKind } from "./file-system-kind";

/** APFS (the published file-system reference, `nx_superblock_t`): recognised only. */
export const apfs: FileSystemKind = {
  recognise(head) {
    if (asciiText(head.slice(32, 4)) !== "NXSB") return null;
    const clusterSize = head.u32(36);
    return { filesystem: "apfs", clusterSize, length: head.u64(40) * clusterSize, label: null };
  },
};
