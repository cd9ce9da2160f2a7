import type { BlockReader } from "./block-reader";
import { InflateError } from "./inflate";
import { LzmaDecoder } from "./lzma";
import type { Unpacker } from "./unpacker";

/** APPNOTE 5.8.8: two bytes of a version, the size of the properties, then those: one byte, and the size of the window. */
const ZIP_LZMA = { propertiesSize: 2, properties: 4, dictionary: 5, data: 9 } as const;

/** Plain bytes that are decoded in one step. */
const STEP = 1 << 16;

/**
 * Unpacks LZMA data as a ZIP archive holds them.
 * @param size plain bytes there must be
 * @throws InflateError, TooMuch (also for a window larger than is made)
 */
export function unpackZipLzma(
  reader: BlockReader,
  at: number,
  end: number,
  size: number,
  take: (plain: Uint8Array) => void,
): { end: number; plain: number } {
  const data = new ZipLzmaUnpacker(reader, at, end, size, take);
  while (data.goOn());
  return { end: data.packedEnd, plain: data.soundTo };
}

/** Unpacks such data piece by piece. */
export class ZipLzmaUnpacker implements Unpacker {
  #decoder: LzmaDecoder | null = null;

  constructor(
    private readonly reader: BlockReader,
    private readonly at: number,
    private readonly end: number,
    private readonly size: number,
    private readonly take: (plain: Uint8Array) => void,
  ) {}

  #begin(): LzmaDecoder {
    const { reader, at, size } = this;
    const stop = Math.min(this.end, reader.size);
    if (at + ZIP_LZMA.data + 5 > stop || reader.u16(at + ZIP_LZMA.propertiesSize) !== 5)
      throw new InflateError(at, 0, "the packed data are damaged");
    // A window larger than the content is never filled.
    const window = Math.min(reader.u32(at + ZIP_LZMA.dictionary), Math.max(4096, size));
    const decoder = new LzmaDecoder(reader, window, this.take, size);
    if (!decoder.setProperties(reader.u8(at + ZIP_LZMA.properties))) throw new InflateError(at, 0, "the packed data are damaged");
    decoder.begin(at + ZIP_LZMA.data, stop, size);
    return decoder;
  }

  /** No checksum stands in the data: what was given may be wrong only where their sense ends. */
  get soundTo(): number {
    return this.#decoder?.plain ?? 0;
  }

  /** The byte after the last one used. */
  get packedEnd(): number {
    return this.#decoder?.at ?? this.at;
  }

  goOn(): boolean {
    this.#decoder ??= this.#begin();
    try {
      return this.#decoder.goOn(STEP);
    } finally {
      this.#decoder.flush();
    }
  }

  state(): Uint8Array | null {
    return this.#decoder?.state() ?? null;
  }

  resume(state: Uint8Array): void {
    this.#decoder = this.#begin();
    this.#decoder.resume(state);
  }
}
