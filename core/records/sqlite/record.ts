import { readVarint, varintEnd } from "./varint";

/** A value as SQLite stores it (file format 2.1). Whole numbers beyond 2^53 are bigint. */
export type Value = null | number | bigint | string | Uint8Array;

export type Encoding = "utf8" | "utf16le" | "utf16be";

/** Bytes of the values of serial types 0 to 11 (2.1). */
const FIXED = [0, 1, 2, 3, 4, 6, 8, 8, 0, 0, 0, 0] as const;

/** Bytes a value of this serial type takes in the body of a record. */
export const lengthOf = (type: number) => (type >= 12 ? Math.floor((type - 12) / 2) : (FIXED[type] as number));

/** What a serial type is, as a bit. */
export const NULL = 1;
export const INTEGER = 2;
export const REAL = 4;
export const TEXT = 8;
export const BLOB = 16;

/** The class of a serial type; 0: it is reserved and stands in no record. */
export function classOf(type: number): number {
  if (type === 0) return NULL;
  if (type <= 6 || type === 8 || type === 9) return INTEGER;
  if (type === 7) return REAL;
  return type < 12 ? 0 : type % 2 === 1 ? TEXT : BLOB;
}

/** Most columns a record can have (SQLITE_MAX_COLUMN at its highest). */
const MOST_FIELDS = 32_767;

/**
 * Reads the head of a record: the serial types of its fields.
 * @returns where the body begins, or -1 when the head is none: its length, its types or their sum (`payload` bytes in all) do not agree
 */
export function readHead(bytes: Uint8Array, at: number, payload: number, limit: number, types: number[]): number {
  types.length = 0;
  const length = readVarint(bytes, at);
  const bodyAt = at + length;
  let next = varintEnd;
  if (length < next - at || bodyAt > limit || length > payload) return -1;
  let body = 0;
  while (next < bodyAt) {
    const type = readVarint(bytes, next);
    next = varintEnd;
    if (type === 10 || type === 11 || types.length >= MOST_FIELDS) return -1;
    body += lengthOf(type);
    types.push(type);
  }
  return next === bodyAt && length + body === payload ? bodyAt : -1;
}

/** Reads a whole number of `length` bytes, the highest first, signed. */
function readInteger(bytes: Uint8Array, at: number, length: number): number | bigint {
  let value = ((bytes[at] as number) << 24) >> 24;
  if (length <= 6) {
    for (let i = 1; i < length; i += 1) value = value * 256 + (bytes[at + i] as number);
    return value;
  }
  let high = value;
  for (let i = 1; i < 4; i += 1) high = high * 256 + (bytes[at + i] as number);
  let low = 0;
  for (let i = 4; i < 8; i += 1) low = low * 256 + (bytes[at + i] as number);
  value = high * 0x1_0000_0000 + low;
  return Number.isSafeInteger(value) ? value : (BigInt(high) << 32n) | BigInt(low);
}

const utf16be = new TextDecoder("utf-16be");

/** Reads the value of a serial type. The caller knows that its bytes are there. */
export function readValue(bytes: Buffer, at: number, type: number, encoding: Encoding): Value {
  switch (type) {
    case 0:
      return null;
    case 8:
      return 0;
    case 9:
      return 1;
    case 7:
      return bytes.readDoubleBE(at);
  }
  if (type < 12) return readInteger(bytes, at, FIXED[type] as number);
  const end = at + lengthOf(type);
  if (type % 2 === 0) return Uint8Array.prototype.slice.call(bytes, at, end);
  if (encoding === "utf16be") return utf16be.decode(bytes.subarray(at, end));
  return bytes.toString(encoding, at, end);
}

/** Whether bytes are a text somebody may have stored: right in its encoding, and without control characters other than breaks and tabs. */
export function isText(bytes: Uint8Array, at: number, length: number, encoding: Encoding): boolean {
  if (length === 0) return true;
  if (at + length > bytes.length) return false;
  return encoding === "utf8" ? isUtf8Text(bytes, at, at + length) : isUtf16Text(bytes, at, at + length, encoding === "utf16le" ? 1 : 0);
}

/** Whether a character is one that texts do not have. */
const isControl = (code: number) =>
  (code < 32 && code !== 9 && code !== 10 && code !== 13) || (code >= 0x7f && code < 0xa0) || code === 0xfffe || code === 0xffff;

/** Well-formed sequences of bytes are those of table 3-7 of the Unicode Standard (section 3.9). No decoder is asked: most bytes are no text, and an error costs a hundred times as much. */
function isUtf8Text(bytes: Uint8Array, from: number, end: number): boolean {
  for (let at = from; at < end; ) {
    const lead = bytes[at] as number;
    at += 1;
    if (lead < 0x80) {
      if (isControl(lead)) return false;
      continue;
    }
    const more = lead >= 0xf0 ? 3 : lead >= 0xe0 ? 2 : 1;
    if (lead < 0xc2 || lead > 0xf4 || at + more > end) return false;
    let code = lead & (0x3f >> more);
    for (const until = at + more; at < until; at += 1) {
      const byte = bytes[at] as number;
      if ((byte & 0xc0) !== 0x80) return false;
      code = (code << 6) | (byte & 0x3f);
    }
    // Longer than it need be, half of a pair, or beyond the last character.
    if ((more === 2 && code < 0x800) || (more === 3 && code < 0x10000) || code > 0x10ffff) return false;
    if ((code >= 0xd800 && code < 0xe000) || isControl(code)) return false;
  }
  return true;
}

/** @param high where in a unit its high byte stands */
function isUtf16Text(bytes: Uint8Array, from: number, end: number, high: 0 | 1): boolean {
  if ((end - from) % 2 !== 0) return false;
  const unitAt = (at: number) => ((bytes[at + high] as number) << 8) | (bytes[at + 1 - high] as number);
  for (let at = from; at < end; at += 2) {
    const unit = unitAt(at);
    if (unit < 0xd800 || unit >= 0xe000) {
      if (isControl(unit)) return false;
      continue;
    }
    // A pair is a high surrogate and a low one (Unicode Standard, table 3-5).
    at += 2;
    if (unit >= 0xdc00 || at >= end || (unitAt(at) & 0xfc00) !== 0xdc00) return false;
  }
  return true;
}
