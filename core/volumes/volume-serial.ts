import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import type { FileSystemName } from "../filesystems/names";
import { serialOffset } from "../filesystems/registry";

/** The low 32 bits of the serial number of the volume that begins at a disk byte offset; null: it has none, or none is known of its kind. */
export function volumeSerial(disk: ByteSource, start: number, filesystem: FileSystemName): number | null {
  const at = serialOffset(filesystem);
  return at === null ? null : new Cursor(readBytes(disk, start + at, 4)).u32(0) || null;
}
