import { NumberSet } from "./number-set";
import { contentHash, withRowId } from "./row-hash";
import type { LiveRow } from "./sqlite/database";
import { type Encoding, lengthOf, readValue } from "./sqlite/record";
import type { Shape } from "./sqlite/shape";

/** Rows by whose content doubles are known. */
const MOST_KNOWN = 8_000_000;

/** Rows all of which are looked at to know what rows of a table look like. */
const LEARNT_ALL = 20_000;

/** Which rows are known, and what they look like. */
export class LearntRows {
  /** What is known by row number and content, and by content alone: hashes. */
  readonly #known = new NumberSet();
  readonly #contents = new NumberSet();
  /** High bytes of the characters of texts in two bytes each. */
  readonly scripts = new Uint8Array(256);
  #isFull = false;

  constructor(private readonly encoding: Encoding) {}

  /** Whether there were more rows than are remembered. */
  get isFull(): boolean {
    return this.#isFull;
  }

  /** @param key of its number and content */
  hasRow(key: number): boolean {
    return this.#known.has(key);
  }

  hasContent(content: number): boolean {
    return this.#contents.has(content);
  }

  rememberRow(key: number, content: number): void {
    this.remember(this.#known, key);
    this.remember(this.#contents, content);
  }

  rememberContent(content: number): void {
    this.remember(this.#contents, content);
  }

  remember(set: NumberSet, hash: number): void {
    if (set.size < MOST_KNOWN) set.add(hash);
    else this.#isFull = true;
  }

  /** Remembers a row, and what it looks like. */
  learn(shape: Shape, row: LiveRow): void {
    const { bytes, bodyAt, end, types, rowid } = row;
    const content = contentHash(bytes, types, bodyAt, end);
    // Remains of index entries are given to nobody.
    if (!shape.isIndex) this.rememberRow(withRowId(content, rowid), content);
    this.learnShape(shape, row);
  }

  learnShape(shape: Shape, { bytes, bodyAt, end, types }: LiveRow): void {
    // After so many rows, one of a few says what others look like.
    if (shape.rows > LEARNT_ALL && shape.learnsAlready(types)) return;
    const places: number[] = [];
    let at = bodyAt;
    const { encoding } = this;
    for (const type of types) {
      places.push(at);
      if (encoding !== "utf8" && type >= 13 && type % 2 === 1) {
        const until = Math.min(end, at + lengthOf(type));
        for (let i = at + (encoding === "utf16le" ? 1 : 0); i < until; i += 2) this.scripts[bytes[i] as number] = 1;
      }
      at += lengthOf(type);
    }
    shape.learn(types, (i) => {
      const place = places[i] as number;
      const type = types[i] as number;
      return place + lengthOf(type) > end ? 0 : Number(readValue(bytes, place, type, "utf8"));
    });
  }
}
