import { macBytes } from "./mac-truth";
import { objectChecksum } from "./object-checksum";

/** `apfs_superblock_t` in the "Apple File System Reference": where its magic, role and group stand, and their values. */
const MAGIC = { at: 32, value: 0x4253_5041 };
const NAME_AT = 704;
const ROLE_AT = 964;
const GROUP_AT = 1008;
const ROLES: Readonly<Record<string, number>> = { Alpha: 1, Beta: 0x40 };
export const GROUP = "8f3c1d20-5a44-4e0b-9c17-0d2be61a7755";

/** The recorded container with two volumes, which say in every superblock of theirs that they are the system and the data of one drive. */
export function systemAndData(group = GROUP): Uint8Array {
  const bytes = macBytes("apfs-twovol");
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  for (let at = 0; at + 4096 <= bytes.length; at += 4096) {
    if (view.getUint32(at + MAGIC.at, true) !== MAGIC.value) continue;
    const name = Buffer.from(bytes.subarray(at + NAME_AT, at + NAME_AT + 256)).toString("utf8");
    view.setUint16(at + ROLE_AT, ROLES[name.slice(0, name.indexOf("\0"))] ?? 0, true);
    bytes.set(Buffer.from(group.replaceAll("-", ""), "hex"), at + GROUP_AT);
    bytes.set(objectChecksum(bytes.subarray(at, at + 4096)), at);
  }
  return bytes;
}
