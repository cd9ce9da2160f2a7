/** Shorter copies are quicker byte by byte than by a call. */
const SHORT = 40;

/**
 * Repeats what stands `distance` bytes back, as codings of the LZ77 family do: the two stretches may overlap. The caller bounds both.
 * @returns the place after the copy
 */
export function copyBack(bytes: Uint8Array, at: number, distance: number, length: number): number {
  if (length > SHORT && distance >= length) {
    bytes.copyWithin(at, at - distance, at - distance + length);
    return at + length;
  }
  if (length > SHORT && distance === 1) {
    bytes.fill(bytes[at - 1] as number, at, at + length);
    return at + length;
  }
  const end = at + length;
  for (let to = at; to < end; to += 1) bytes[to] = bytes[to - distance] as number;
  return end;
}
