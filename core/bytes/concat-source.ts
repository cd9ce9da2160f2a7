import type { ByteSource } from "./byte-source";
import type { Range } from "./range-set";
import { lastNotAfter } from "./starts";

/** Sources one after the other, seen as one. */
export class ConcatSource implements ByteSource {
  readonly size: number;
  readonly #starts: number[] = [];

  constructor(private readonly parts: readonly ByteSource[]) {
    let size = 0;
    for (const part of parts) {
      this.#starts.push(size);
      size += part.size;
    }
    this.size = size;
  }

  read(at: number, into: Uint8Array): void {
    into.fill(0);
    this.#each(at, into.length, (part, inside, length, done) => part.read(inside, into.subarray(done, done + length)));
  }

  unreadable(at: number, length: number): Range[] {
    const found: Range[] = [];
    this.#each(at, length, (part, inside, count, done) => {
      const shift = at + done - inside;
      for (const range of part.unreadable(inside, count)) found.push({ start: range.start + shift, end: range.end + shift });
    });
    return found;
  }

  #each(at: number, length: number, visit: (part: ByteSource, inside: number, length: number, done: number) => void): void {
    if (at < 0) return;
    const end = Math.min(this.size, at + length);
    let position = at;
    for (let index = lastNotAfter(this.#starts, at); position < end && index < this.parts.length; index += 1) {
      const part = this.parts[index] as ByteSource;
      const inside = position - (this.#starts[index] as number);
      const count = Math.min(part.size - inside, end - position);
      if (count <= 0) continue;
      visit(part, inside, count, position - at);
      position += count;
    }
  }
}
