import { deflateRawSync, inflateRawSync } from "node:zlib";
import { decodeState, encodeState, type Unpacker } from "./unpacker";

/** Bytes that the states of one content take at most: then every other one is forgotten. */
const MOST_BYTES = 1 << 26;
const MOST_STATE = 1 << 28;

/** Places of packed data from which an unpacker can go on, by their plain byte: its states there, packed themselves. */
export class Restarts {
  #places: { readonly at: number; readonly state: Uint8Array }[] = [];
  #bytes = 0;
  #every: number;

  /** @param every plain bytes between places that are remembered, at first */
  constructor(
    every = 1 << 24,
    private readonly most = MOST_BYTES,
  ) {
    this.#every = every;
  }

  /** Bytes that its states take. */
  get bytes(): number {
    return this.#bytes;
  }

  /** Remembers where an unpacker is, where the last remembered place is far enough behind. */
  note(at: number, unpacker: Unpacker): void {
    if (at - (this.#places.at(-1)?.at ?? 0) < this.#every) return;
    const state = unpacker.state();
    if (!state) return;
    this.#add(at, deflateRawSync(state, { level: 1 }));
    while (this.#bytes > this.most && this.#places.length > 1) {
      const places = this.#places;
      this.#places = [];
      this.#bytes = 0;
      this.#every *= 2;
      for (const [index, each] of places.entries()) if (index % 2 === 1) this.#add(each.at, each.state);
    }
  }

  #add(at: number, state: Uint8Array): void {
    this.#places.push({ at, state });
    this.#bytes += state.length;
  }

  encode(): Uint8Array {
    return encodeState([this.#every, ...this.#places.map(({ at }) => at)], ...this.#places.map(({ state }) => state));
  }

  static decode(bytes: Uint8Array): Restarts {
    const { numbers, parts } = decodeState(bytes);
    const [every, ...places] = numbers as [number, ...number[]];
    const restarts = new Restarts(every);
    for (const [index, at] of places.entries()) restarts.#add(at, parts[index] as Uint8Array);
    return restarts;
  }

  /** The last place that is not behind one; null: only the beginning is. */
  before(at: number): { readonly at: number; state(): Uint8Array } | null {
    let [from, to] = [0, this.#places.length];
    while (from < to) {
      const middle = (from + to) >> 1;
      if ((this.#places[middle]?.at ?? 0) <= at) from = middle + 1;
      else to = middle;
    }
    const place = this.#places[from - 1];
    return place ? { at: place.at, state: () => inflateRawSync(place.state, { maxOutputLength: MOST_STATE }) } : null;
  }
}
