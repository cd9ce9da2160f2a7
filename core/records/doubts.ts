import type { Cell } from "./sqlite/cell";
import { BLOB, classOf, type Encoding, isText, lengthOf, NULL, readValue } from "./sqlite/record";
import { fitsShape, type Shape } from "./sqlite/shape";

/** Zeros at the end of a value that make it doubtful. */
const ZEROS = 3;

/**
 * How far a record that goes on to other pages is what it was: those of a row that does not count may have become other rows'. Where a text on them is
 * none, only what stands on the row's own page is the row's. @returns where that ends in the record's bytes
 */
export function soundEnd(
  types: readonly number[],
  bytes: Buffer,
  bodyAt: number,
  end: number,
  { overflow, local }: Cell,
  encoding: Encoding,
): number {
  if (overflow === 0) return end;
  let at = bodyAt;
  for (const type of types) {
    const length = lengthOf(type);
    const isRead = type >= 13 && type % 2 === 1 && at + length > local && at + length <= end;
    if (isRead && !isText(bytes, at, length, encoding)) return Math.min(end, local);
    at += length;
  }
  return end;
}

/** Whether a record of a table without row numbers may as well be an entry of an index: both look alike, and only the page tells. @param owner of that page; null: not known */
export const mayBeIndexEntry = (shape: Shape, types: readonly number[], owner: Shape | null, indexes: readonly Shape[]): boolean =>
  !shape.hasRowId && owner !== shape && indexes.some((each) => fitsShape(each, types));

/** A number nearer to zero than this is nobody's: of one that was partly overwritten the exponent is any. */
const TINY = 1e-100;

/** Whether so little stands that much else may look like it: one number, found between other rows. */
export const saysLittle = (types: readonly number[]): boolean => types.length < 2 && types.every((type) => type < 12);

/** Whether a number is far from those of rows that count. */
export function isUnlikely(shape: Shape, types: readonly number[], bytes: Buffer, bodyAt: number, end: number): boolean {
  let at = bodyAt;
  return types.some((type, field) => {
    const place = at;
    at += lengthOf(type);
    if (type === 0 || type > 7 || at > end) return false;
    const value = Number(readValue(bytes, place, type, "utf8"));
    return (value !== 0 && Math.abs(value) < TINY) || !shape.isNear(field, value);
  });
}

/** Rows by which it is known what a table has in a column that may hold anything. */
const ENOUGH = 8;

/** Whether a row looks like one of a table only because its columns may hold anything, and too few rows of it are known to say what they do hold. */
export const fitsAnything = (shape: Shape, types: readonly number[]): boolean =>
  shape.rows < ENOUGH &&
  types.some((type, field) => ((shape.fields[field]?.declared ?? 0) & BLOB) !== 0 && (classOf(type) & (NULL | BLOB)) === 0);

/** Whether bytes at the end of a record, of which nothing says what they were, are zeros: they may have been overwritten. */
export function endsInZeros(types: readonly number[], bytes: Uint8Array, bodyAt: number, end: number): boolean {
  let at = bodyAt;
  let last = 0;
  for (const type of types) {
    at += lengthOf(type);
    if (lengthOf(type) > 0) last = type;
  }
  if (last < 12 || last % 2 !== 0 || at > end || lengthOf(last) < ZEROS) return false;
  for (let i = at - ZEROS; i < at; i += 1) if (bytes[i] !== 0) return false;
  return true;
}
