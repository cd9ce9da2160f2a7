/** Bytes put together piece by piece, numbers little-endian unless said otherwise. */
export class BytesOut {
  readonly #pieces: number[] = [];

  get length(): number {
    return this.#pieces.length;
  }
  u8(value: number): this {
    this.#pieces.push(value & 255);
    return this;
  }
  u16(value: number): this {
    return this.u8(value).u8(value >>> 8);
  }
  u32(value: number): this {
    return this.u16(value & 0xffff).u16(value >>> 16);
  }
  u16be(value: number): this {
    return this.u8(value >>> 8).u8(value);
  }
  u32be(value: number): this {
    return this.u16be(value >>> 16).u16be(value & 0xffff);
  }
  text(text: string): this {
    for (const byte of new TextEncoder().encode(text)) this.#pieces.push(byte);
    return this;
  }
  bytes(bytes: Iterable<number>): this {
    for (const byte of bytes) this.#pieces.push(byte);
    return this;
  }
  done(): Uint8Array {
    return Uint8Array.from(this.#pieces);
  }
}
