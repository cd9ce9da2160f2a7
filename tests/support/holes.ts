import type { ByteSource } from "../../core/bytes/byte-source";

/**
 * A source of holes that counts what is read of it.
 * @param pieces what stands in it all the same, by disk byte offset, sorted and apart
 */
export function holes(
  size: number,
  pieces: readonly [at: number, bytes: Uint8Array][] = [],
): ByteSource & { readonly counted: () => number } {
  let read = 0;
  return {
    size,
    read: (at, into) => {
      read += into.length;
      into.fill(0);
      for (const [place, bytes] of pieces) {
        const [start, end] = [Math.max(at, place), Math.min(at + into.length, place + bytes.length)];
        if (start < end) into.set(bytes.subarray(start - place, end - place), start - at);
      }
    },
    unreadable: () => [],
    counted: () => read,
  };
}
