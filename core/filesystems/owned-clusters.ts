/** Which clusters belong to something, one bit each. */
export class OwnedClusters {
  readonly #bits: Uint8Array;

  constructor(clusters: number) {
    this.#bits = new Uint8Array(Math.ceil(clusters / 8));
  }

  /** Notes an owner. @returns how many of the clusters had one already */
  add(first: number, length: number): number {
    const end = Math.min(first + length, this.#bits.length * 8);
    let twice = 0;
    for (let cluster = first; cluster < end; cluster += 1) {
      const byte = cluster >>> 3;
      const bit = 1 << (cluster & 7);
      // Whole bytes that nobody claimed yet are taken at once.
      if ((cluster & 7) === 0 && end - cluster >= 8 && this.#bits[byte] === 0) {
        this.#bits[byte] = 0xff;
        cluster += 7;
        continue;
      }
      if (((this.#bits[byte] as number) & bit) !== 0) twice += 1;
      this.#bits[byte] = (this.#bits[byte] as number) | bit;
    }
    return twice;
  }

  has(cluster: number): boolean {
    return (((this.#bits[cluster >>> 3] ?? 0) >>> (cluster & 7)) & 1) === 1;
  }
}

/** A volume with more clusters than this is read for everything but who owns each of them: that would take too much memory. */
export const MOST_OWNED_CLUSTERS = 2 ** 31;
