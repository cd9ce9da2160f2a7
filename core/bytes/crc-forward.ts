/**
 * The table of a checksum that takes the highest bit first, nothing turned round.
 * @param bits its width, 8 to 32
 */
export function forwardTable(bits: number, polynomial: number): Uint32Array {
  const top = 2 ** (bits - 1);
  return Uint32Array.from({ length: 256 }, (_, byte) => {
    let crc = (byte << (bits - 8)) >>> 0;
    for (let i = 0; i < 8; i += 1) crc = (crc & top) !== 0 ? ((crc << 1) ^ polynomial) >>> 0 : (crc << 1) >>> 0;
    return bits === 32 ? crc : crc & (2 ** bits - 1);
  });
}

/** The polynomial of CRC-32, as Ogg (RFC 3533, section 6) and BZIP2 use it forward. */
export const CRC32_FORWARD = forwardTable(32, 0x04c1_1db7);
