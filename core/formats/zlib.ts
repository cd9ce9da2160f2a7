import type { BlockReader } from "../bytes/block-reader";
import { InflateError, inflate } from "../bytes/inflate";

/** Adler-32: RFC 1950, 8.2. */
export function adler32(bytes: Uint8Array, before = 1): number {
  let a = before & 0xffff;
  let b = before >>> 16;
  for (let at = 0; at < bytes.length; ) {
    const end = Math.min(bytes.length, at + 3800);
    for (; at < end; at += 1) {
      a += bytes[at] as number;
      b += a;
    }
    a %= 65_521;
    b %= 65_521;
  }
  return ((b << 16) | a) >>> 0;
}

/**
 * Unpacks a zlib stream (RFC 1950) that begins at `at`.
 * @returns the byte after its checksum
 * @throws InflateError when it cannot be unpacked or its checksum is wrong; TooMuch
 */
export function unpackZlib(
  reader: BlockReader,
  at: number,
  end: number,
  most: number,
  take: (plain: Uint8Array) => void = () => undefined,
): { end: number; plain: number } {
  if (at + 6 > end || (reader.u8(at) & 15) !== 8 || reader.u16be(at) % 31 !== 0 || reader.u8(at + 1) & 32)
    throw new InflateError(at, 0, "no packed data begin here");
  let adler = 1;
  const done = inflate(
    reader,
    at + 2,
    end,
    (plain) => {
      adler = adler32(plain, adler);
      take(plain);
    },
    most,
  );
  if (done.end + 4 > end) throw new InflateError(end, done.plain, "the packed data break off");
  if (reader.u32be(done.end) !== adler) throw new InflateError(done.end, done.plain, "the checksum does not match");
  return { end: done.end + 4, plain: done.plain };
}
