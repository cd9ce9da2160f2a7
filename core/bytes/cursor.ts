import { PastEnd } from "./past-end";
/**
 * Little- and big-endian fields at byte offsets, each checked against the bytes at hand before it is read.
 * 64-bit values come as numbers; beyond 2^53 they lose their low bits, which no valid offset or size reaches.
 */
export class Cursor {
  readonly #view: DataView;
  readonly size: number;

  constructor(readonly bytes: Uint8Array) {
    this.#view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
    this.size = bytes.byteLength;
  }

  u8(at: number): number {
    this.#check(at, 1);
    return this.#view.getUint8(at);
  }

  i8(at: number): number {
    this.#check(at, 1);
    return this.#view.getInt8(at);
  }

  u16(at: number): number {
    this.#check(at, 2);
    return this.#view.getUint16(at, true);
  }

  u32(at: number): number {
    this.#check(at, 4);
    return this.#view.getUint32(at, true);
  }

  u64(at: number): number {
    this.#check(at, 8);
    return this.#view.getUint32(at, true) + this.#view.getUint32(at + 4, true) * 4_294_967_296;
  }

  u16be(at: number): number {
    this.#check(at, 2);
    return this.#view.getUint16(at, false);
  }

  u32be(at: number): number {
    this.#check(at, 4);
    return this.#view.getUint32(at, false);
  }

  u64be(at: number): number {
    this.#check(at, 8);
    return this.#view.getUint32(at, false) * 4_294_967_296 + this.#view.getUint32(at + 4, false);
  }

  /** A view, not a copy. */
  slice(at: number, length: number): Uint8Array {
    this.#check(at, length);
    return this.bytes.subarray(at, at + length);
  }

  #check(at: number, length: number): void {
    if (!(at >= 0 && length >= 0 && at + length <= this.size)) throw new PastEnd(at, length, this.size);
  }
}
