import type { ByteSource } from "./byte-source";

/** A part of an image or archive that is not there: zeros of which none can be read. @param size bytes, as the other parts have it */
export const lostPart = (size: number): ByteSource => ({
  size,
  read: (_, into) => {
    into.fill(0);
  },
  unreadable: (at, length) => (at < size && length > 0 ? [{ start: at, end: Math.min(size, at + length) }] : []),
});
