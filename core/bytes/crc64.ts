/** CRC-64 with the reflected polynomial of ECMA-182, as the .xz file format (1.1.0, 3.4) uses it; two halves of 32 bits. */
const LOW = new Uint32Array(256);
const HIGH = new Uint32Array(256);
for (let n = 0; n < 256; n += 1) {
  let [low, high] = [n, 0];
  for (let bit = 0; bit < 8; bit += 1) {
    const carry = low & 1;
    low = ((low >>> 1) | (high << 31)) >>> 0;
    high >>>= 1;
    if (carry) {
      low = (low ^ 0xd787_0f42) >>> 0;
      high = (high ^ 0xc96c_5795) >>> 0;
    }
  }
  LOW[n] = low;
  HIGH[n] = high;
}

export class Crc64 {
  #low = 0xffff_ffff;
  #high = 0xffff_ffff;

  add(bytes: Uint8Array): void {
    let [low, high] = [this.#low, this.#high];
    for (let i = 0; i < bytes.length; i += 1) {
      const index = (low ^ (bytes[i] as number)) & 0xff;
      low = (((low >>> 8) | (high << 24)) ^ (LOW[index] as number)) >>> 0;
      high = ((high >>> 8) ^ (HIGH[index] as number)) >>> 0;
    }
    this.#low = low;
    this.#high = high;
  }

  /** The lower and the upper 32 bits. */
  get value(): readonly [number, number] {
    return [~this.#low >>> 0, ~this.#high >>> 0];
  }

  set value([low, high]: readonly [number, number]) {
    this.#low = ~low >>> 0;
    this.#high = ~high >>> 0;
  }
}
