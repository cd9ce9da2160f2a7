/** Whether all bytes are the same. */
export const isFill = (bytes: Uint8Array): boolean => bytes.every((byte) => byte === bytes[0]);

/** Whether bytes are a text: of ISO/IEC 646, or of several bytes a character, with white space between. */
export function isLetters(bytes: Uint8Array): boolean {
  let plain = 0;
  for (const byte of bytes) {
    if (byte === 0) return false;
    if ((byte >= 0x20 && byte < 0x7f) || byte === 9 || byte === 10 || byte === 13) plain += 1;
  }
  return plain >= bytes.length * 0.9;
}

/** Whether bytes are as many and different as packed ones are; a few zeros may stand among them. */
export function isDense(bytes: Uint8Array): boolean {
  const counts = new Uint32Array(64);
  for (const byte of bytes) counts[byte >> 2] = (counts[byte >> 2] as number) + 1;
  return Math.max(...counts) < bytes.length / 4 && counts.filter((count) => count > 0).length >= Math.min(40, bytes.length / 8);
}
