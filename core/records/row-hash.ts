/** A number of 53 bits that stands for the values of a record (FNV-1a over four bytes at a time, twice). */
export function contentHash(bytes: Uint8Array, types: readonly number[], bodyAt: number, end: number): number {
  let a = 0x811c9dc5;
  let b = 0x050c5d1f;
  for (const type of types) {
    a = Math.imul(a ^ type, 0x01000193);
    b = Math.imul(b ^ type, 0x85ebca6b);
  }
  let at = bodyAt;
  for (const last = end - 4; at <= last; at += 4) {
    const four =
      (bytes[at] as number) | ((bytes[at + 1] as number) << 8) | ((bytes[at + 2] as number) << 16) | ((bytes[at + 3] as number) << 24);
    a = Math.imul(a ^ four, 0x01000193);
    a ^= a >>> 15;
    b = Math.imul(b ^ four, 0x85ebca6b);
    b ^= b >>> 13;
  }
  for (; at < end; at += 1) {
    const byte = bytes[at] as number;
    a = Math.imul(a ^ byte, 0x01000193);
    b = Math.imul(b ^ byte, 0x85ebca6b);
    b ^= b >>> 13;
  }
  return (a >>> 0) * 0x20_0000 + (b >>> 11) + 1;
}

/** The same for a row of that number. */
export function withRowId(content: number, rowid: number | bigint | null): number {
  if (rowid === null) return content;
  const low = typeof rowid === "number" ? rowid | 0 : Number(BigInt.asIntN(32, rowid));
  return (content + Math.imul(low ^ (low >>> 15), 0x2c1b3c6d)) % Number.MAX_SAFE_INTEGER;
}
