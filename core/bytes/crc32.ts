const table = new Uint32Array(256);
for (let n = 0; n < 256; n += 1) {
  let value = n;
  for (let bit = 0; bit < 8; bit += 1) value = value & 1 ? 0xedb88320 ^ (value >>> 1) : value >>> 1;
  table[n] = value >>> 0;
}

/**
 * CRC-32 with the reflected polynomial 0xEDB88320, as GPT (UEFI Specification, 5.3.2), PNG (ISO/IEC 15948, annex D)
 * and ZIP use it.
 * @param previous result over the bytes before these, to go on from
 */
export function crc32(bytes: Uint8Array, previous = 0): number {
  let value = ~previous >>> 0;
  for (let i = 0; i < bytes.length; i += 1) {
    value = (table[(value ^ (bytes[i] as number)) & 0xff] as number) ^ (value >>> 8);
  }
  return ~value >>> 0;
}
