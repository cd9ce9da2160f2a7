import type { BlockReader } from "./block-reader";
import { InflateError } from "./inflate";
import { LzmaDecoder } from "./lzma";
import { decodeState, encodeState } from "./unpacker";

/** Of lc and lp together (.xz format, 5.3.1). */
const MOST_LITERAL_BITS_LZMA2 = 4;

/** The size of the window that an LZMA2 stream needs, by its property byte (.xz format, 5.3.1). */
export function lzma2Dictionary(property: number): number {
  if (property > 40) return Number.POSITIVE_INFINITY;
  return property === 40 ? 0xffff_ffff : (2 | (property & 1)) * 2 ** (Math.floor(property / 2) + 11);
}

/**
 * Unpacks an LZMA2 stream that begins at `at`.
 * @returns the byte after its end mark
 * @throws InflateError, TooMuch (also for a window larger than is made)
 */
export function unpackLzma2(
  reader: BlockReader,
  at: number,
  end: number,
  dictionary: number,
  take: (plain: Uint8Array) => void,
  most: number,
): { end: number; plain: number } {
  const stream = new Lzma2(reader, at, end, dictionary, take, most);
  while (stream.goOn());
  return { end: stream.at, plain: stream.plain };
}

/** An LZMA2 stream, chunk by chunk. */
export class Lzma2 {
  readonly #decoder: LzmaDecoder;
  #ready = false;

  /** @param at where it begins, and then where its next chunk does @throws TooMuch for a window larger than is made */
  constructor(
    private readonly reader: BlockReader,
    public at: number,
    private readonly end: number,
    dictionary: number,
    take: (plain: Uint8Array) => void,
    most: number,
  ) {
    this.#decoder = new LzmaDecoder(reader, dictionary, take, most);
  }

  get plain(): number {
    return this.#decoder.plain;
  }

  /** Unpacks a chunk. @returns false at the stream's end mark. @throws InflateError, TooMuch */
  goOn(): boolean {
    const { reader, at, end } = this;
    const decoder = this.#decoder;
    if (at >= end) throw new InflateError(Math.min(at, end), decoder.plain, "the packed data break off");
    const control = reader.u8(at);
    if (control === 0) {
      decoder.flush();
      this.at = at + 1;
      return false;
    }
    if (control < 3) {
      if (control === 1) decoder.resetDictionary();
      const size = reader.u16be(at + 1) + 1;
      for (let i = 0; i < size; i += 1) decoder.put(reader.u8(at + 3 + i));
      this.at = at + 3 + size;
      return true;
    }
    if (control < 0x80) throw new InflateError(at, decoder.plain, "the packed data are damaged");
    const plain = ((control & 31) << 16) + reader.u16be(at + 1) + 1;
    const packed = reader.u16be(at + 3) + 1;
    let data = at + 5;
    const reset = (control >> 5) & 3;
    if (reset === 3) decoder.resetDictionary();
    if (reset >= 2) {
      this.#ready = decoder.setProperties(reader.u8(data), MOST_LITERAL_BITS_LZMA2);
      data += 1;
    } else if (reset === 1) decoder.resetState();
    if (!this.#ready) throw new InflateError(at, decoder.plain, "the packed data are damaged");
    decoder.decode(data, Math.min(end, data + packed), plain);
    this.at = data + packed;
    return true;
  }

  /** Gives what was unpacked and not given yet. */
  flush(): void {
    this.#decoder.flush();
  }

  state(): Uint8Array {
    return encodeState([this.at, this.#ready ? 1 : 0], this.#decoder.state());
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    this.at = numbers[0] as number;
    this.#ready = numbers[1] === 1;
    this.#decoder.resume(parts[0] as Uint8Array);
  }
}
