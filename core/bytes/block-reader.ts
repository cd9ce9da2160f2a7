import type { ByteSource } from "./byte-source";
import { PastEnd } from "./past-end";

const BLOCK = 1 << 16;
/** Bytes of the first block; each further one has twice as many: a look at a beginning costs little, reading on goes quickly. */
const FIRST_BLOCK = 4096;

/**
 * Numbers and short texts at any place of a source, read a block at a time. Offsets are bytes; whoever reads past the end gets
 * `PastEnd`.
 */
export class BlockReader {
  readonly size: number;
  #block = new Uint8Array(0);
  #start = 0;
  #end = 0;

  constructor(
    readonly source: ByteSource,
    private readonly blockSize = BLOCK,
  ) {
    this.size = source.size;
  }

  /** The index in the current block at which `length` bytes from `at` stand. */
  #load(at: number, length: number): number {
    if (at >= this.#start && at + length <= this.#end) return at - this.#start;
    if (at < 0 || at + length > this.size) throw new PastEnd(at, length, this.size);
    this.#grow(length);
    this.#start = at;
    this.#end = Math.min(this.size, at + this.#block.length);
    this.source.read(at, this.#block.subarray(0, this.#end - at));
    return 0;
  }

  /** Makes room for a block that is larger than the one before, of at least `length` bytes. */
  #grow(length: number): void {
    const before = this.#block.length;
    const wanted = Math.max(length, Math.min(this.blockSize, before === 0 ? FIRST_BLOCK : before * 2));
    const room = Math.min(wanted, Math.max(64, this.size));
    if (room > before) this.#block = new Uint8Array(room);
  }

  u8(at: number): number {
    const i = this.#load(at, 1);
    return this.#block[i] as number;
  }
  u16(at: number): number {
    const i = this.#load(at, 2);
    return (this.#block[i] as number) | ((this.#block[i + 1] as number) << 8);
  }
  u16be(at: number): number {
    const i = this.#load(at, 2);
    return ((this.#block[i] as number) << 8) | (this.#block[i + 1] as number);
  }
  u24be(at: number): number {
    return this.u8(at) * 0x10000 + this.u16be(at + 1);
  }
  u32(at: number): number {
    const i = this.#load(at, 4);
    const b = this.#block;
    return ((b[i] as number) | ((b[i + 1] as number) << 8) | ((b[i + 2] as number) << 16) | ((b[i + 3] as number) << 24)) >>> 0;
  }
  u32be(at: number): number {
    const i = this.#load(at, 4);
    const b = this.#block;
    return (((b[i] as number) << 24) | ((b[i + 1] as number) << 16) | ((b[i + 2] as number) << 8) | (b[i + 3] as number)) >>> 0;
  }
  /** Beyond 2^53 the number is no longer exact, and larger than any source. */
  u64(at: number): number {
    return this.u32(at + 4) * 0x1_0000_0000 + this.u32(at);
  }
  u64be(at: number): number {
    return this.u32be(at) * 0x1_0000_0000 + this.u32be(at + 4);
  }
  /** One character a byte. */
  ascii(at: number, length: number): string {
    return String.fromCharCode(...this.bytes(at, length));
  }
  /** A view of the block (valid until the next reading) of up to a block's length. */
  bytes(at: number, length: number): Uint8Array {
    if (length > this.blockSize) {
      const whole = new Uint8Array(length);
      if (at + length > this.size) throw new PastEnd(at, length, this.size);
      this.source.read(at, whole);
      return whole;
    }
    const i = this.#load(at, length);
    return this.#block.subarray(i, i + length);
  }
  /** Whether `text` (one character a byte) stands at `at`; false past the end. */
  has(at: number, text: string): boolean {
    if (at < 0 || at + text.length > this.size) return false;
    const i = this.#load(at, text.length);
    for (let j = 0; j < text.length; j += 1) if (this.#block[i + j] !== text.charCodeAt(j)) return false;
    return true;
  }
  /** The stretch [from, to) a block at a time: views valid until the next reading. */
  *blocks(from: number, to: number): Generator<{ at: number; bytes: Uint8Array }, void, void> {
    const end = Math.min(to, this.size);
    for (let at = from; at < end; ) {
      const length = Math.min(this.blockSize, end - at);
      yield { at, bytes: this.bytes(at, length) };
      at += length;
    }
  }
  /** Where `text` (one character a byte) next stands in [from, to), or -1. */
  find(text: string, from: number, to = this.size): number {
    const end = Math.min(to, this.size);
    for (let at = from; at + text.length <= end; ) {
      const length = Math.min(this.blockSize, end - at);
      const block = this.bytes(at, length);
      const found = Buffer.from(block.buffer, block.byteOffset, length).indexOf(text, 0, "latin1");
      if (found >= 0) return at + found;
      at += Math.max(1, length - text.length + 1);
    }
    return -1;
  }
}
