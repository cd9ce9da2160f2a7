import { Growing } from "../bytes/growing";
import { writeText } from "../bytes/text";

/** Bytes of one chunk. */
const CHUNK = 4 << 20;
/** Stands between the parts of a text, and behind it: nothing that is looked for has it. */
const END = "\0";

/** Of so many bytes one is counted, to know which are seldom. */
const COUNTED = 16;
/** Bytes of words that are looked for first: of longer ones the language's search takes longer. */
const ANCHOR = 6;
/** An anchor is not shorter, where the words are not. */
const LEAST_ANCHOR = 3;

/** Texts one behind the other: a character of `all` is a byte of their UTF-8, which the language's own search goes through quickest. */
interface Chunk {
  readonly all: string;
  /** The number of the first text in it. */
  readonly first: number;
}

/** Texts that are searched without regard to case. They are kept as bytes, so that a million of them are gone through in a tenth of a second. */
export class SearchText {
  readonly #chunks: Chunk[] = [];
  /** The chunk that is filled, how much of it is, and the number of its first text. */
  #filling = Buffer.allocUnsafeSlow(0);
  #filled = 0;
  #first = 0;
  /** How often each byte is met, of those counted. */
  readonly #often = new Uint32Array(256);
  /** Where each text begins in its chunk. */
  readonly #starts = new Growing((length) => new Uint32Array(length));

  get length(): number {
    return this.#starts.length;
  }

  /** Appends a text of several parts. What is looked for is found in one part at a time. @returns how many bytes it takes */
  append(parts: readonly string[]): number {
    const text = `${parts.join(END).toLowerCase()}${END}`;
    const most = text.length * 3;
    if (this.#filling.length - this.#filled < most) {
      if (this.#filled > 0) this.#chunks.push(this.#chunk());
      for (let i = 0; i < this.#filled; i += COUNTED) (this.#often[this.#filling[i] as number] as number) += 1;
      // The room is taken again: a chunk's text is a copy.
      if (this.#filling.length < most) this.#filling = Buffer.allocUnsafeSlow(Math.max(CHUNK, most));
      this.#filled = 0;
      this.#first = this.length;
    }
    this.#starts.push(this.#filled);
    const written = writeText(this.#filling, text, this.#filled);
    this.#filled += written;
    return written + Uint32Array.BYTES_PER_ELEMENT;
  }

  #chunk(): Chunk {
    return { all: this.#filling.toString("latin1", 0, this.#filled), first: this.#first };
  }

  /** Finds the texts that hold some words. @returns a byte a text, 1 where it does */
  find(words: string): Uint8Array {
    const found = new Uint8Array(this.length);
    if (words === "") return found.fill(1);
    const wanted = Buffer.from(words.toLowerCase(), "utf8").toString("latin1");
    if (wanted.includes(END)) return found;
    // Words are looked for by what of them begins with the byte that is met least: three times as quick as by a frequent one.
    const into = this.#anchorOf(wanted);
    const anchor = wanted.slice(into, into + ANCHOR);
    const starts = this.#starts.view;
    const chunks = this.#filled > 0 ? [...this.#chunks, this.#chunk()] : this.#chunks;
    for (const [i, { all, first }] of chunks.entries()) {
      const end = chunks[i + 1]?.first ?? this.length;
      let index = first;
      for (let hit = all.indexOf(anchor); hit >= 0; ) {
        if (!all.startsWith(wanted, hit - into)) {
          hit = all.indexOf(anchor, hit + 1);
          continue;
        }
        index = lastAtOrBefore(starts, index, end, hit);
        found[index] = 1;
        index += 1;
        if (index === end) break;
        hit = all.indexOf(anchor, starts[index]);
      }
    }
    return found;
  }

  /** Where in some words the byte stands that is met least, with some more behind it. */
  #anchorOf(wanted: string): number {
    const often = (at: number) => this.#often[wanted.charCodeAt(at)] as number;
    let best = 0;
    for (let at = 1; at <= wanted.length - LEAST_ANCHOR; at += 1) if (often(at) < often(best)) best = at;
    return best;
  }
}

/** The last text that does not begin behind a place, from one on that does not. */
function lastAtOrBefore(starts: Uint32Array, from: number, end: number, place: number): number {
  let [low, step] = [from, 1];
  for (; low + step < end && (starts[low + step] as number) <= place; step *= 2) low += step;
  for (; step >= 1; step /= 2) if (low + step < end && (starts[low + step] as number) <= place) low += step;
  return low;
}
