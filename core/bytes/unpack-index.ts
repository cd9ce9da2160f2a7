import { crc32 } from "node:zlib";
import { type ByteSource, readBytes } from "./byte-source";
import { Crc64 } from "./crc64";
import type { Range } from "./range-set";
import { Restarts } from "./restarts";
import { decodeState, encodeState } from "./unpacker";

/** What going through a large compressed file has shown. */
export interface UnpackIndex {
  /** Plain bytes. */
  readonly size: number;
  readonly notes: readonly string[];
  /** Blocks at which it was begun anew: their first bits, and the plain bytes before them. */
  readonly breaks: readonly { readonly bit: number; readonly plain: number }[];
  /** A checksum was reached and does not agree. */
  readonly disagrees: boolean;
  /** Checksums that are known here cover all of it. */
  readonly isCovered: boolean;
  /** All of it was unpacked. */
  readonly isComplete: boolean;
  readonly seams: readonly number[];
  readonly doubts: readonly Range[];
  readonly restarts: Restarts;
}

/** Where indexes are kept from one opening of a file to the next. */
export interface KeptIndexes {
  /** @returns null: none is kept under that key */
  load(key: string): Uint8Array | null;
  save(key: string, index: Uint8Array): void;
}

/** Indexes that this process holds, the last used ones, and the bytes that their restarts take together. */
const MOST_HELD = 8;
const MOST_HELD_BYTES = 1 << 26;
const held = new Map<string, UnpackIndex>();
let outside: KeptIndexes | null = null;

/** Sets where indexes are kept beyond this process; null: nowhere. */
export function keepIndexesIn(kept: KeptIndexes | null): void {
  outside = kept;
  held.clear();
}

/** The index of a compressed file that was gone through before; null: there is none. */
export function findIndex(source: ByteSource): UnpackIndex | null {
  const key = keyOf(source);
  const found = held.get(key) ?? readIndex(outside?.load(key) ?? null);
  if (found) hold(key, found);
  return found;
}

/** Keeps what was learnt of a compressed file. @param beyond whether beyond this process too: of a small one it is learnt again as soon */
export function keepIndex(source: ByteSource, index: UnpackIndex, beyond: boolean): void {
  const key = keyOf(source);
  hold(key, index);
  if (beyond) outside?.save(key, encodeIndex(index));
}

function hold(key: string, index: UnpackIndex): void {
  held.delete(key);
  held.set(key, index);
  let bytes = [...held.values()].reduce((sum, { restarts }) => sum + restarts.bytes, 0);
  for (const [oldest, { restarts }] of held) {
    if (held.size === 1 || (held.size <= MOST_HELD && bytes <= MOST_HELD_BYTES)) return;
    held.delete(oldest);
    bytes -= restarts.bytes;
  }
}

const ENDS = 1 << 16;
const AT_ONCE = 1 << 20;

/**
 * Identifies a compressed file: by its length, its beginning and end, and where it stands; where that is not known, by all of its bytes. A damaged
 * copy has the length and the ends of a sound one.
 */
function keyOf(source: ByteSource): string {
  const { size, identity } = source;
  const length = Math.min(ENDS, size);
  const sum = new Crc64();
  let short = crc32(identity ?? "");
  for (const at of [0, size - length]) sum.add(readBytes(source, at, length));
  if (identity !== undefined) sum.add(new TextEncoder().encode(identity));
  else for (let at = 0; at < size; at += AT_ONCE) short = crc32(readBytes(source, at, Math.min(AT_ONCE, size - at)), short);
  return [VERSION, size, ...sum.value, short].map((each) => each.toString(16)).join("-");
}

/** Of the indexes' own form: raised when it changes. */
const VERSION = 3;

function encodeIndex({ size, restarts, ...learnt }: UnpackIndex): Uint8Array {
  const facts = new TextEncoder().encode(JSON.stringify(learnt));
  const body = encodeState([size], facts, restarts.encode());
  const sum = Buffer.alloc(4);
  sum.writeUInt32LE(crc32(body));
  return Buffer.concat([sum, body]);
}

/** @returns null: there is none, or it was damaged */
function readIndex(bytes: Uint8Array | null): UnpackIndex | null {
  if (!bytes || bytes.length < 4) return null;
  const body = bytes.subarray(4);
  if (new DataView(bytes.buffer, bytes.byteOffset).getUint32(0, true) !== crc32(body)) return null;
  const { numbers, parts } = decodeState(body);
  const [facts, restarts] = parts as [Uint8Array, Uint8Array];
  const learnt = JSON.parse(new TextDecoder().decode(facts)) as Omit<UnpackIndex, "size" | "restarts">;
  return { ...learnt, size: numbers[0] as number, restarts: Restarts.decode(restarts) };
}
