/** A chunk never gives more than this many plain bytes ([MS-XCA] 2.5.1). */
const CHUNK_SIZE = 4096;

/**
 * LZNT1 ([MS-XCA] 2.5): chunks with a 16-bit header (bits 0–11 size − 3, bit 15 compressed), each made of a flag
 * byte for eight elements: literals, or 16-bit pairs whose split between offset and length moves with the position.
 * @param size plain bytes wanted; the rest of the result is zero when the coded bytes end early
 * @returns the plain bytes, and whether the coded bytes were sound up to their end
 */
export function decodeLznt1(coded: Uint8Array, size: number): { bytes: Uint8Array; sound: boolean } {
  const bytes = new Uint8Array(size);
  let read = 0;
  let chunkStart = 0;
  while (read + 2 <= coded.length && chunkStart < size) {
    const header = (coded[read] as number) | ((coded[read + 1] as number) << 8);
    if (header === 0) break;
    const chunkEnd = read + 2 + (header & 0x0fff) + 1;
    read += 2;
    if (chunkEnd > coded.length) return { bytes, sound: false };
    if ((header & 0x8000) === 0) {
      const plain = coded.subarray(read, Math.min(chunkEnd, read + size - chunkStart));
      bytes.set(plain, chunkStart);
    } else if (!decodeChunk(coded, read, chunkEnd, bytes, chunkStart)) {
      return { bytes, sound: false };
    }
    read = chunkEnd;
    chunkStart += CHUNK_SIZE;
  }
  return { bytes, sound: true };
}

function decodeChunk(coded: Uint8Array, from: number, end: number, bytes: Uint8Array, chunkStart: number): boolean {
  const limit = Math.min(bytes.length, chunkStart + CHUNK_SIZE);
  let read = from;
  let write = chunkStart;
  while (read < end) {
    const flags = coded[read] as number;
    read += 1;
    for (let bit = 0; bit < 8 && read < end; bit += 1) {
      if (write >= limit) return true;
      if ((flags & (1 << bit)) === 0) {
        bytes[write] = coded[read] as number;
        write += 1;
        read += 1;
        continue;
      }
      if (read + 2 > end) return false;
      const pair = (coded[read] as number) | ((coded[read + 1] as number) << 8);
      read += 2;
      // The displacement takes as many bits as the position in the chunk needs, at least 4.
      let lengthBits = 12;
      for (let position = write - chunkStart - 1; position >= 0x10; position >>= 1) lengthBits -= 1;
      const displacement = (pair >>> lengthBits) + 1;
      const length = (pair & ((1 << lengthBits) - 1)) + 3;
      if (displacement > write - chunkStart) return false;
      for (let i = 0; i < length && write < limit; i += 1, write += 1) bytes[write] = bytes[write - displacement] as number;
    }
  }
  return true;
}
