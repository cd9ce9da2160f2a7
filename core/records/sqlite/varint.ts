/** Where the last number read by {@link readVarint} or {@link readRowId} ended. */
export let varintEnd = 0;

/**
 * Reads a number of 1 to 9 bytes, the highest first (SQLite file format 1.6); beyond 2^53 it is no longer exact. Sets {@link varintEnd}.
 * Bytes past the end count as zeros.
 */
export function readVarint(bytes: Uint8Array, at: number): number {
  let byte = bytes[at] as number;
  if (byte < 128) {
    varintEnd = at + 1;
    return byte;
  }
  let value = byte & 127;
  for (let i = 1; i < 8; i += 1) {
    byte = bytes[at + i] ?? 0;
    value = value * 128 + (byte & 127);
    if (byte < 128) {
      varintEnd = at + i + 1;
      return value;
    }
  }
  varintEnd = at + 9;
  return value * 256 + (bytes[at + 8] ?? 0);
}

/** Reads a row number: the same coding, as a signed number of 64 bits, exact. Sets {@link varintEnd}. */
export function readRowId(bytes: Uint8Array, at: number): number | bigint {
  const value = readVarint(bytes, at);
  if (value <= Number.MAX_SAFE_INTEGER) return value;
  let exact = 0n;
  for (let i = at; i < varintEnd; i += 1) {
    const byte = BigInt(bytes[i] ?? 0);
    exact = i === at + 8 ? (exact << 8n) | byte : (exact << 7n) | (byte & 127n);
  }
  const signed = BigInt.asIntN(64, exact);
  return Number.isSafeInteger(Number(signed)) ? Number(signed) : signed;
}

/** Bytes a number takes in this coding. */
export function varintLength(value: number): number {
  let length = 1;
  for (let rest = value; rest >= 128 && length < 9; rest = Math.floor(rest / 128)) length += 1;
  return length;
}
