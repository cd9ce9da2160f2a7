/** Bits of a unit's payload, with the bytes left out that only keep start codes apart (ITU-T H.264, 7.4.1.1). */
export class PayloadBits {
  readonly #bytes: number[] = [];
  #at = 0;

  constructor(unit: Uint8Array) {
    let zeros = 0;
    for (const byte of unit) {
      if (zeros >= 2 && byte === 3) {
        zeros = 0;
        continue;
      }
      zeros = byte === 0 ? zeros + 1 : 0;
      this.#bytes.push(byte);
    }
  }
  get isOver(): boolean {
    return this.#at > this.#bytes.length * 8;
  }
  /** Zero bits come after the end; whoever reads asks `isOver`. */
  u(count: number): number {
    let value = 0;
    for (let i = 0; i < count; i += 1, this.#at += 1) value = value * 2 + (((this.#bytes[this.#at >> 3] ?? 0) >> (7 - (this.#at & 7))) & 1);
    return value;
  }
  /** Exponential Golomb codes (9.1). */
  ue(): number {
    let zeros = 0;
    while (this.u(1) === 0 && zeros < 32 && !this.isOver) zeros += 1;
    return 2 ** zeros - 1 + this.u(zeros);
  }
  se(): number {
    const code = this.ue();
    return code % 2 === 1 ? (code + 1) / 2 : -code / 2;
  }
}
