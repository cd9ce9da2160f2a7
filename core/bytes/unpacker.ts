/** Decodes packed data piece by piece, each given to whoever made it; can go on from places it has passed. */
export interface Unpacker {
  /** Decodes until plain bytes have been given, or to the end. @returns whether there is more. @throws InflateError, TooMuch */
  goOn(): boolean;
  /** The plain byte up to which nothing given can turn out damaged yet: behind it a checksum is still to come. */
  readonly soundTo: number;
  /** After an error: goes to the next place behind it from which it can decode. What lies between is gone. @returns whether there is one. Not given: there never is */
  skip?(): boolean;
  /** Where it is, for going on from there later; null: it cannot go on from here. Valid after `goOn` has given bytes. */
  state(): Uint8Array | null;
  /** Goes on from a state of the same data. */
  resume(state: Uint8Array): void;
}

/** Makes an unpacker that begins at its data's first byte. @param take gets the plain bytes piece by piece, as views valid during the call */
export type MakeUnpacker = (take: (plain: Uint8Array) => void) => Unpacker;

/** Numbers of a state, and the bytes that go with them, as one array. */
export function encodeState(numbers: readonly number[], ...parts: readonly Uint8Array[]): Uint8Array {
  const head = Float64Array.from([numbers.length, ...numbers, parts.length, ...parts.map(({ length }) => length)]);
  return Buffer.concat([new Uint8Array(head.buffer), ...parts]);
}

/** @throws RangeError of a state that was cut */
export function decodeState(state: Uint8Array): { readonly numbers: readonly number[]; readonly parts: readonly Uint8Array[] } {
  const view = new DataView(state.buffer, state.byteOffset, state.byteLength);
  let at = 0;
  const next = () => {
    at += 8;
    return view.getFloat64(at - 8, true);
  };
  const list = () => Array.from({ length: Math.min(next(), state.length / 8) }, next);
  const numbers = list();
  const lengths = list();
  const parts = lengths.map((length) => {
    at += length;
    return state.subarray(at - length, at);
  });
  return { numbers, parts };
}
