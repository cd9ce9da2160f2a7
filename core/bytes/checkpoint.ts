import { Malformed } from "./malformed";
/**
 * Where a reading goes on after a batch: bytes of the reader's own, to be kept and given back to it, and to nobody else. What they hold
 * differs by reader (a number of the file system, the path last given) and is no measure of progress.
 */
export type Checkpoint = Uint8Array;

/** The first byte says what follows: a number (8 bytes, big-endian), or a JSON text. */
const TAG = { number: 1, text: 2 } as const;
const NUMBER_BYTES = 9;

export function numberCheckpoint(value: number): Checkpoint {
  const bytes = new Uint8Array(NUMBER_BYTES);
  bytes[0] = TAG.number;
  new DataView(bytes.buffer).setBigUint64(1, BigInt(value));
  return bytes;
}

/** @returns the number of a checkpoint, 0 for the start (null). @throws Malformed when it is one of another kind of reader */
export function readNumberCheckpoint(from: Checkpoint | null): number {
  if (from === null) return 0;
  if (from.length !== NUMBER_BYTES || from[0] !== TAG.number) throw new Malformed("This checkpoint is not of this reader.");
  const value = Number(new DataView(from.buffer, from.byteOffset).getBigUint64(1));
  if (!Number.isSafeInteger(value)) throw new Malformed("This checkpoint is not of this reader.");
  return value;
}

export const isNumberCheckpoint = (from: Checkpoint): boolean => from[0] === TAG.number;

export function textCheckpoint(value: unknown): Checkpoint {
  const text = new TextEncoder().encode(JSON.stringify(value));
  const bytes = new Uint8Array(text.length + 1);
  bytes[0] = TAG.text;
  bytes.set(text, 1);
  return bytes;
}

/** @throws Malformed when it is one of another kind of reader */
export function readTextCheckpoint(from: Checkpoint): unknown {
  if (from[0] !== TAG.text) throw new Malformed("This checkpoint is not of this reader.");
  return JSON.parse(new TextDecoder().decode(from.subarray(1)));
}
