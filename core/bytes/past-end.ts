/** A read past the end of the bytes at hand: the structure claims more than is there, or is cut off. */
export class PastEnd extends Error {
  /** The first byte that is not there, counted in what was read. */
  readonly at: number;

  /**
   * @param offset where the read began
   * @param wanted bytes that were wanted
   * @param size bytes at hand
   */
  constructor(
    readonly offset: number,
    readonly wanted: number,
    readonly size: number,
  ) {
    super("it breaks off before its end");
    this.name = "PastEnd";
    this.at = Math.max(0, Math.min(offset, size));
  }

  /** For engineers. */
  get detail(): string {
    return `${this.wanted} bytes wanted at offset ${this.offset}, ${this.size} at hand`;
  }
}
