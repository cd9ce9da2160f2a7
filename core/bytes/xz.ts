import { crc32 } from "node:zlib";
import type { BlockReader } from "./block-reader";
import { Crc64 } from "./crc64";
import { InflateError, TooMuch } from "./inflate";
import { Lzma2, lzma2Dictionary } from "./lzma2";
import { unpacked } from "./unpacked";
import { decodeState, encodeState, type Unpacker } from "./unpacker";

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
  const stream = new XzUnpacker(reader, at, take, most);
  while (stream.goOn());
  return { end: stream.packedEnd, plain: stream.plain, checked: stream.checked };
}

/** Unpacks such a stream piece by piece: block by block, and in them chunk by chunk. */
export class XzUnpacker implements Unpacker {
  plain = 0;
  soundTo = 0;
  /** Whether all that was given so far is covered by a checksum that is known here. */
  checked = true;
  /** The kind of check (2.1.1.2); -1: the stream's header was not read yet. */
  #check = -1;
  #block: XzBlock | null = null;

  /** @param packedEnd where it begins; then the byte after what was unpacked */
  constructor(
    private readonly reader: BlockReader,
    public packedEnd: number,
    private readonly take: (plain: Uint8Array) => void,
    private readonly most = Number.POSITIVE_INFINITY,
  ) {}

  /** @throws InflateError, TooMuch */
  goOn(): boolean {
    if (this.#check < 0) this.#begin();
    if (!this.#block) {
      if (this.reader.u8(this.packedEnd) === 0) {
        this.#end();
        return false;
      }
      this.#block = this.#blockAt(this.packedEnd);
    }
    const block = this.#block;
    try {
      if (block.goOn()) return true;
    } finally {
      this.plain = block.before + block.plain;
    }
    this.packedEnd = block.end();
    this.checked &&= block.checked;
    this.soundTo = this.plain;
    this.#block = null;
    return true;
  }

  #begin(): void {
    const { reader, packedEnd: at } = this;
    if (!reader.has(at, XZ_MARK) || crc32(reader.bytes(at + 6, 2)) !== reader.u32(at + 8))
      throw new InflateError(at, 0, "the archive's header is damaged");
    this.#check = reader.u8(at + 7) & 15;
    this.packedEnd = at + 12;
  }

  #blockAt(at: number): XzBlock {
    return new XzBlock(this.reader, at, this.#check, this.most - this.plain, this.plain, this.take);
  }

  #end(): void {
    const next = xzIndex(this.reader, this.packedEnd);
    if (crc32(this.reader.bytes(next + 4, 6)) !== this.reader.u32(next) || !this.reader.has(next + 10, "YZ"))
      throw new InflateError(next, this.plain, "the archive's end is damaged");
    this.packedEnd = next + 12;
  }

  /** Goes to the next sound header of a block of this stream. */
  skip(): boolean {
    const { reader } = this;
    // The kind of check stands in the stream's header: without it no block is read.
    if (this.#check < 0) return false;
    this.#block = null;
    for (let at = this.packedEnd + 4; at + 8 <= reader.size; at += 4) {
      // What belongs to another stream has its own kind of check.
      if (reader.has(at, XZ_MARK)) return false;
      if (!isBlockHeader(reader, at)) continue;
      this.packedEnd = at;
      return true;
    }
    return false;
  }

  state(): Uint8Array {
    const { plain, soundTo, checked, packedEnd } = this;
    const before = this.#block?.before ?? -1;
    const numbers = [plain, soundTo, checked ? 1 : 0, packedEnd, this.#check, before];
    return encodeState(numbers, ...(this.#block ? [this.#block.state()] : []));
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    const [plain, soundTo, checked, packedEnd, check, before] = numbers as [number, number, number, number, number, number];
    [this.plain, this.soundTo, this.checked, this.packedEnd, this.#check] = [plain, soundTo, checked === 1, packedEnd, check];
    if (!parts[0]) return;
    this.#block = new XzBlock(this.reader, packedEnd, check, this.most - before, before, this.take);
    this.#block.resume(parts[0]);
  }
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

/** Whether a block's header stands at a place: one filter, that of LZMA2, and a right checksum. */
function isBlockHeader(reader: BlockReader, at: number): boolean {
  const length = (reader.u8(at) + 1) * 4;
  const flags = reader.u8(at + 1);
  if (length < 12 || (flags & 0x3f) !== 0 || at + length > reader.size) return false;
  return crc32(reader.bytes(at, length - 4)) === reader.u32(at + length - 4);
}

/** A block (3.): a header, LZMA2 data, and their check. */
class XzBlock {
  readonly #chunks: Lzma2;
  #crc = 0;
  readonly #crc64 = new Crc64();
  readonly checked: boolean;

  /** @param before plain bytes of the stream before it @throws InflateError, TooMuch */
  constructor(
    private readonly reader: BlockReader,
    private readonly at: number,
    private readonly check: number,
    most: number,
    readonly before: number,
    take: (plain: Uint8Array) => void,
  ) {
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
    this.checked = check === 1 || check === 4;
    const given = (plain: Uint8Array) => {
      unpacked.bytes += plain.length;
      take(plain);
      if (check === 1) this.#crc = crc32(plain, this.#crc);
      else if (check === 4) this.#crc64.add(plain);
    };
    this.#chunks = new Lzma2(reader, at + headerLength, reader.size, dictionary, given, most);
  }

  get plain(): number {
    return this.#chunks.plain;
  }

  goOn(): boolean {
    const more = this.#chunks.goOn();
    this.#chunks.flush();
    return more;
  }

  /** Compares its check. @returns the byte after it @throws InflateError */
  end(): number {
    const { reader, check } = this;
    let end = this.#chunks.at;
    while ((end - this.at) % 4 !== 0) end += 1;
    const [low, high] = this.#crc64.value;
    const agrees = check === 1 ? reader.u32(end) === this.#crc : check !== 4 || (reader.u32(end) === low && reader.u32(end + 4) === high);
    if (!agrees) throw new InflateError(end, this.plain, "the checksum of a block does not match");
    return end + (CHECK_BYTES[check] as number);
  }

  state(): Uint8Array {
    return encodeState([this.#crc, ...this.#crc64.value], this.#chunks.state());
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    const [crc, low, high] = numbers as [number, number, number];
    this.#crc = crc;
    this.#crc64.value = [low, high];
    this.#chunks.resume(parts[0] as Uint8Array);
  }
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
