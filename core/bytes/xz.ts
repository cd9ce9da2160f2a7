import { crc32 } from "node:zlib";
import type { BlockReader } from "./block-reader";
import { Crc64 } from "./crc64";
import { InflateError, TooMuch } from "./inflate";
import { lzma2Dictionary, unpackLzma2 } from "./lzma";
import { unpacked } from "./unpacked";

export const XZ_MARK = "\xfd7zXZ\0";

/**
 * Unpacks a stream of the published .xz file format 1.1.0 that begins at `at`, and compares its checksums.
 * @returns the byte after its end, and whether all of it was covered by a checksum that is known here
 * @throws InflateError, TooMuch
 */
export function unpackXz(
  reader: BlockReader,
  at: number,
  most: number,
  take: (plain: Uint8Array) => void = () => undefined,
): { end: number; plain: number; checked: boolean } {
  if (!reader.has(at, XZ_MARK) || crc32(reader.bytes(at + 6, 2)) !== reader.u32(at + 8))
    throw new InflateError(at, 0, "the archive's header is damaged");
  const check = reader.u8(at + 7) & 15;
  let next = at + 12;
  let plain = 0;
  let checked = true;
  while (reader.u8(next) !== 0) {
    const block = xzBlock(reader, next, check, most - plain, take);
    plain += block.plain;
    checked &&= block.checked;
    next = block.end;
  }
  next = xzIndex(reader, next);
  if (crc32(reader.bytes(next + 4, 6)) !== reader.u32(next) || !reader.has(next + 10, "YZ"))
    throw new InflateError(next, plain, "the archive's end is damaged");
  return { end: next + 12, plain, checked };
}

/** A number of 7 bits a byte (.xz format 1.1.0, 1.2). */
function vli(reader: BlockReader, at: number): { value: number; next: number } {
  let value = 0;
  for (let i = 0; i < 9; i += 1) {
    const byte = reader.u8(at + i);
    value += (byte & 127) * 2 ** (7 * i);
    if (byte < 128) return { value, next: at + i + 1 };
  }
  throw new InflateError(at, 0, "a number in the archive is damaged");
}

/** Bytes of a block's check by its kind (2.1.1.2); of those larger than CRC-64 only the place is known. */
const CHECK_BYTES = [0, 4, 4, 4, 8, 8, 8, 16, 16, 16, 32, 32, 32, 64, 64, 64] as const;
const LZMA2 = 0x21;

function xzBlock(
  reader: BlockReader,
  at: number,
  check: number,
  most: number,
  take: (plain: Uint8Array) => void,
): { end: number; plain: number; checked: boolean } {
  const headerLength = (reader.u8(at) + 1) * 4;
  if (crc32(reader.bytes(at, headerLength - 4)) !== reader.u32(at + headerLength - 4))
    throw new InflateError(at, 0, "a block's header is damaged");
  const flags = reader.u8(at + 1);
  let next = at + 2;
  if (flags & 0x40) ({ next } = vli(reader, next));
  if (flags & 0x80) ({ next } = vli(reader, next));
  const filter = vli(reader, next);
  const properties = vli(reader, filter.next);
  // Filters before the packing (for programs, for numbers) are rare: such blocks are not followed.
  if ((flags & 3) !== 0 || filter.value !== LZMA2) throw new TooMuch();
  const dictionary = lzma2Dictionary(reader.u8(properties.next) & 63);
  let crc = 0;
  const crc64 = new Crc64();
  const done = unpackLzma2(
    reader,
    at + headerLength,
    reader.size,
    dictionary,
    (plain) => {
      unpacked.bytes += plain.length;
      take(plain);
      if (check === 1) crc = crc32(plain, crc);
      else if (check === 4) crc64.add(plain);
    },
    most,
  );
  let end = done.end;
  while ((end - at) % 4 !== 0) end += 1;
  if (check === 1 && reader.u32(end) !== crc) throw new InflateError(end, done.plain, "the checksum of a block does not match");
  if (check === 4 && (reader.u32(end) !== crc64.value[0] || reader.u32(end + 4) !== crc64.value[1]))
    throw new InflateError(end, done.plain, "the checksum of a block does not match");
  return { end: end + (CHECK_BYTES[check] as number), plain: done.plain, checked: check === 1 || check === 4 };
}

/** Past the index of the blocks, whose checksum must be right. */
function xzIndex(reader: BlockReader, at: number): number {
  const records = vli(reader, at + 1);
  let next = records.next;
  for (let i = 0; i < records.value; i += 1) next = vli(reader, vli(reader, next).next).next;
  while ((next - at) % 4 !== 0) next += 1;
  let crc = 0;
  for (const { bytes } of reader.blocks(at, next)) crc = crc32(bytes, crc);
  if (reader.u32(next) !== crc) throw new InflateError(at, 0, "the archive's index is damaged");
  return next + 4;
}
