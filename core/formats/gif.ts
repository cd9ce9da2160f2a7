import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { following } from "./following";
import { breaksAt, type Extent, endsAt, type Format, hasSignature, type Signature } from "./format";

const signatures: readonly Signature[] = [
  { at: 0, mark: "GIF87a" },
  { at: 0, mark: "GIF89a" },
];

/** GIF: the published GIF89a specification, sections 17 to 27. */
export const gif: Format = {
  id: "gif",
  kind: "pictures",
  title: "GIF picture",
  extensions: ["gif"],
  signatures,
  recognise: (head) => hasSignature(head, signatures),
  follow,
  summarise: (source) => {
    const reader = new BlockReader(source);
    return { width: reader.u16(6), height: reader.u16(8) };
  },
};

const BLOCK = { extension: 0x21, image: 0x2c, trailer: 0x3b } as const;
const colourTable = (flags: number) => (flags & 0x80 ? 3 * 2 ** ((flags & 7) + 1) : 0);

function follow(source: ByteSource): Extent | null {
  return following(source, "the picture breaks off before its end", (reader) => {
    if (reader.u16(6) === 0 || reader.u16(8) === 0) return null;
    let at = 13 + colourTable(reader.u8(10));
    for (let images = 0; ; ) {
      const block = reader.u8(at);
      if (block === BLOCK.trailer) return images > 0 ? endsAt(at + 1) : breaksAt(at, "the file holds no picture");
      if (block === BLOCK.extension) at = skipBlocks(reader, at + 2);
      else if (block === BLOCK.image) {
        images += 1;
        const data = at + 10 + colourTable(reader.u8(at + 9));
        const pixels = reader.u16(at + 5) * reader.u16(at + 7);
        const codes = new LzwCodes(reader.u8(data));
        at = skipBlocks(reader, data + 1, codes);
        if (codes.problem || codes.pixels < pixels)
          return breaksAt(codes.problem ? codes.at : at, codes.problem ?? "pixels of the picture are missing");
      } else return breaksAt(at, "no known block begins where the next one should");
    }
  });
}

/** Past a chain of sub-blocks (section 15); the place after its end. */
function skipBlocks(reader: BlockReader, from: number, codes?: LzwCodes): number {
  let at = from;
  for (let length = reader.u8(at); length > 0; length = reader.u8(at)) {
    if (codes && !codes.problem) codes.take(reader.bytes(at + 1, length), at + 1);
    at += 1 + length;
  }
  return at + 1;
}

/** Follows the codes of a picture's data (appendix F) and counts the pixels they make. */
class LzwCodes {
  pixels = 0;
  at = 0;
  problem: string | null = null;
  #bits = 0;
  #count = 0;
  #size: number;
  #next: number;
  #before = -1;
  #ended = false;
  readonly #clear: number;
  readonly #lengths = new Uint32Array(4097);

  constructor(private readonly minimum: number) {
    if (minimum < 1 || minimum > 11) this.problem = "the picture data are damaged";
    this.#clear = 1 << minimum;
    this.#size = minimum + 1;
    this.#next = this.#clear + 2;
    this.#lengths.fill(1, 0, Math.min(4096, this.#clear));
  }

  take(bytes: Uint8Array, at: number): void {
    this.at = at;
    for (const byte of bytes) {
      this.#bits |= byte << this.#count;
      this.#count += 8;
      while (this.#count >= this.#size && !this.#ended && !this.problem) {
        const code = this.#bits & ((1 << this.#size) - 1);
        this.#bits >>>= this.#size;
        this.#count -= this.#size;
        this.#code(code);
      }
      if (this.#ended) return;
    }
  }

  #code(code: number): void {
    if (code === this.#clear) {
      this.#size = this.minimum + 1;
      this.#next = this.#clear + 2;
      this.#before = -1;
      return;
    }
    if (code === this.#clear + 1) {
      this.#ended = true;
      return;
    }
    if (code > this.#next || (code === this.#next && this.#before < 0) || (this.#before < 0 && code >= this.#clear)) {
      this.problem = "the picture data hold a code that does not exist";
      return;
    }
    if (this.#before >= 0 && this.#next < 4096) {
      this.#lengths[this.#next] = (this.#lengths[this.#before] as number) + 1;
      this.#next += 1;
      if (this.#next === 1 << this.#size && this.#size < 12) this.#size += 1;
    }
    this.pixels += this.#lengths[code] as number;
    this.#before = code;
  }
}
