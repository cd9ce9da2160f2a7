import { InflateError, TooMuch } from "./inflate";
import { PastEnd } from "./past-end";
import { Restarts } from "./restarts";
import type { MakeUnpacker, Unpacker } from "./unpacker";

/**
 * The plain bytes of packed data, read at any place without holding more than the decoder itself does: places are remembered on the way,
 * so that going back costs little.
 */
export class StreamedBytes {
  #unpacker: Unpacker;
  #pieceAt = 0;
  #piece: Uint8Array = new Uint8Array(0);
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
      const inside = at + done - this.#pieceAt;
      if (inside < this.#piece.length) {
        const part = this.#piece.subarray(inside, inside + into.length - done);
        into.set(part, done);
        done += part.length;
      } else if (!this.#next()) return;
    }
  }

  /** Goes to the last remembered place before one, unless where it is now is nearer. */
  #seek(at: number): void {
    const from = this.restarts.before(at);
    const ahead = this.#pieceAt + this.#piece.length;
    if (at >= this.#pieceAt && (from?.at ?? 0) <= ahead) return;
    this.#unpacker = this.#fresh();
    if (from) this.#unpacker.resume(from.state);
    this.#pieceAt = from?.at ?? 0;
    this.#piece = new Uint8Array(0);
    this.#more = true;
  }

  #next(): boolean {
    if (!this.#more) return false;
    this.#pieceAt += this.#piece.length;
    this.#piece = new Uint8Array(0);
    this.restarts.note(this.#pieceAt, this.#unpacker);
    let soundTo = Number.POSITIVE_INFINITY;
    try {
      this.#more = this.#unpacker.goOn();
    } catch (error) {
      if (!(error instanceof InflateError || error instanceof TooMuch || error instanceof PastEnd)) throw error;
      this.#more = false;
      ({ soundTo } = this.#unpacker);
    }
    const [first] = this.#given;
    this.#piece = this.#given.length === 1 && first ? first : Buffer.concat(this.#given);
    this.#given = [];
    if (!this.#more) this.endsAt = Math.min(soundTo, this.#pieceAt + this.#piece.length);
    // A step may give nothing and yet not be the last.
    return this.#more || this.#piece.length > 0;
  }
}
