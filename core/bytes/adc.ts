import { copyBack } from "./copy-back";

/**
 * Decodes ADC, an early coding of Mac disk images: runs of literals (first bit set), short matches (2 bytes), long ones (3 bytes).
 * Common practice, no published source; from memory, held against images that two general tools read alike.
 * @returns `length` bytes; those after a damage stay zero
 */
export function decodeAdc(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean } {
  const bytes = new Uint8Array(length);
  let [read, written] = [0, 0];
  while (written < length && read < coded.length) {
    const code = coded[read] as number;
    if (code & 0x80) {
      const count = Math.min((code & 0x7f) + 1, length - written);
      if (read + 1 + count > coded.length) break;
      bytes.set(coded.subarray(read + 1, read + 1 + count), written);
      read += 1 + count;
      written += count;
      continue;
    }
    const long = (code & 0x40) !== 0;
    if (read + (long ? 3 : 2) > coded.length) break;
    const [next, last] = [coded[read + 1] as number, coded[read + 2] as number];
    const distance = (long ? (next << 8) | last : ((code & 3) << 8) | next) + 1;
    if (distance > written) break;
    written = copyBack(bytes, written, distance, Math.min(long ? (code & 0x3f) + 4 : (code >>> 2) + 3, length - written));
    read += long ? 3 : 2;
  }
  return { bytes, sound: written === length };
}
