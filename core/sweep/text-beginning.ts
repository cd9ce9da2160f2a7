import { SECTOR } from "./mark-search";

/** Whether a byte occurs in text of an 8-bit code. */
export const isTextByte = (byte: number) => (byte >= 32 ? byte !== 127 : byte === 9 || byte === 10 || byte === 13);

const isWide = (block: Uint8Array, at: number) =>
  (block[at] === 0xff && block[at + 1] === 0xfe) || (block[at] === 0xfe && block[at + 1] === 0xff);

/** Whether text can begin with these two bytes. */
export function mayBeText(first: number, second: number): boolean {
  if (first < 0x80) return isTextByte(first) && isTextByte(second);
  return (first >= 0xc2 && first < 0xf5 && second >= 0x80 && second < 0xc0) || first + second === 0x1fd;
}

/** Whether a sector is mostly one and the same letter. */
export function isFill(block: Uint8Array, at: number): boolean {
  if (isWide(block, at)) return false;
  const counts = new Uint16Array(256);
  let most = 0;
  for (let i = at; i < at + SECTOR; i += 1) {
    const count = (counts[block[i] as number] as number) + 1;
    counts[block[i] as number] = count;
    if (count > most) most = count;
  }
  return most > SECTOR * 0.3;
}

/** Whether the first bytes from here could be text: printable in an 8-bit code or UTF-8, or UTF-16 with its mark. */
export function readsAsText(block: Uint8Array, at: number): boolean {
  if (isWide(block, at)) return true;
  let high = 0;
  for (let i = at; i < at + 32; i += 1) {
    const byte = block[i] as number;
    if (!isTextByte(byte)) return false;
    if (byte >= 0x80) high += 1;
  }
  // Letters beyond ASCII are some among many in one-byte codes; where they are most, only UTF-8 can have been meant.
  return high <= 8 || isUtf8(block.subarray(at, at + 32));
}

/** Whether these are letters in UTF-8 (RFC 3629, 4), the last perhaps cut off. */
function isUtf8(bytes: Uint8Array): boolean {
  let pending = 0;
  for (const byte of bytes) {
    if (pending > 0) {
      if ((byte & 0xc0) !== 0x80) return false;
      pending -= 1;
    } else if (byte >= 0x80) {
      if (byte < 0xc2 || byte > 0xf4) return false;
      pending = byte < 0xe0 ? 1 : byte < 0xf0 ? 2 : 3;
    }
  }
  return true;
}
