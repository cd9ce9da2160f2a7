import { InflateError, TooMuch } from "./inflate";
import { PastEnd } from "./past-end";
import { Restarts } from "./restarts";
import type { MakeUnpacker, Unpacker } from "./unpacker";

/** Plain bytes that are kept for whoever goes back a little. */
const MOST_RECENT = 1 << 22;

/**
 * The plain bytes of packed data, read at any place without holding more than the decoder itself does and the last few MiB: places are
 * remembered on the way, so that going back costs little.
 */
export class StreamedBytes {
  #unpacker: Unpacker;
  /** The last pieces, one behind the other, and the byte behind them. */
  #recent: { readonly at: number; readonly bytes: Uint8Array }[] = [];
  #held = 0;
  #reached = 0;
  /** What has come since the unpacker was asked to go on. */
  #given: Uint8Array[] = [];
  #more = true;
  /** From this plain byte on the data are damaged, or there are none; null: nothing was met so far. */
  endsAt: number | null = null;

  constructor(
    private readonly make: MakeUnpacker,
    private readonly restarts = new Restarts(),
  ) {
    this.#unpacker = this.#fresh();
  }

  #fresh(): Unpacker {
    return this.make((piece) => {
      this.#given.push(piece.slice());
    });
  }

  /** Fills `into` with the plain bytes from a place; what is not there comes as zeros. */
  read(at: number, into: Uint8Array): void {
    into.fill(0);
    this.#seek(at);
    for (let done = 0; done < into.length; ) {
      const piece = this.#recent.findLast((each) => each.at <= at + done);
      const inside = piece ? at + done - piece.at : 0;
      if (piece && inside < piece.bytes.length) {
        const part = piece.bytes.subarray(inside, inside + into.length - done);
        into.set(part, done);
        done += part.length;
      } else if (!this.#next()) return;
    }
  }

  /** Goes to the last remembered place before one, unless what is at hand is nearer. */
  #seek(at: number): void {
    const from = this.restarts.before(at);
    if (at >= (this.#recent[0]?.at ?? this.#reached) && (from?.at ?? 0) <= this.#reached) return;
    this.#unpacker = this.#fresh();
    if (from) this.#unpacker.resume(from.state());
    this.#recent = [];
    this.#held = 0;
    this.#reached = from?.at ?? 0;
    this.#more = true;
  }

  /** Unpacks a step further. @returns false at the end */
  #next(): boolean {
    if (!this.#more) return false;
    // All of the last step stays: a block of runs can unpack to more than is kept otherwise, and its first bytes may be those that are read.
    while (this.#held > MOST_RECENT && this.#recent.length > 1) this.#held -= this.#recent.shift()?.bytes.length ?? 0;
    this.restarts.note(this.#reached, this.#unpacker);
    let soundTo = Number.POSITIVE_INFINITY;
    try {
      this.#more = this.#unpacker.goOn();
    } catch (error) {
      if (!(error instanceof InflateError || error instanceof TooMuch || error instanceof PastEnd)) throw error;
      this.#more = false;
      ({ soundTo } = this.#unpacker);
    }
    for (const bytes of this.#given.splice(0)) {
      this.#recent.push({ at: this.#reached, bytes });
      this.#held += bytes.length;
      this.#reached += bytes.length;
    }
    if (!this.#more) this.endsAt = Math.min(soundTo, this.#reached);
    return true;
  }
}
