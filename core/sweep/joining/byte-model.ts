/** What is added to each count, so that what was not seen is possible. */
const PRIOR = 0.25;
/** How many bytes seen after another one count as much as all bytes together. */
const BACK_OFF = 16;
/** Shares of bytes that are explained otherwise: any byte is as likely, it is the same as the one before. */
const [ANY, SAME] = [0.04, 0.1];

/** How likely bytes are after one another, learnt from those before. */
class ByteModel {
  readonly #pairs = new Uint16Array(65_536);
  readonly #after = new Uint32Array(256);
  readonly #single = new Uint32Array(256);
  #seen = 0;

  learn(before: number, byte: number): void {
    this.#single[byte] = (this.#single[byte] as number) + 1;
    this.#pairs[before * 256 + byte] = (this.#pairs[before * 256 + byte] as number) + 1;
    this.#after[before] = (this.#after[before] as number) + 1;
    this.#seen += 1;
  }

  likelihood(before: number, byte: number): number {
    const single = ((this.#single[byte] as number) + PRIOR) / (this.#seen + PRIOR * 256);
    const pair = ((this.#pairs[before * 256 + byte] as number) + BACK_OFF * single) / ((this.#after[before] as number) + BACK_OFF);
    return ANY / 256 + (byte === before ? SAME : 0) + (1 - ANY - SAME) * pair;
  }
}

/** How many bits bytes need that are learnt from while they are read. @param known bytes that are learnt from before */
function cost(bytes: Uint8Array, known: Uint8Array): number {
  const model = new ByteModel();
  for (let i = 1; i < known.length; i += 1) model.learn(known[i - 1] as number, known[i] as number);
  let bits = 0;
  for (let i = 1; i < bytes.length; i += 1) {
    const [before, byte] = [bytes[i - 1] as number, bytes[i] as number];
    bits -= Math.log2(model.likelihood(before, byte));
    model.learn(before, byte);
  }
  return bits;
}

const NOTHING = new Uint8Array(0);

/** How many bits fewer bytes need where others are known: how far they are of one kind. */
export const kinship = (bytes: Uint8Array, known: Uint8Array): number => cost(bytes, NOTHING) - cost(bytes, known);
