import { BLOB, classOf, INTEGER, NULL, REAL, TEXT } from "./record";
import type { TableStatement } from "./statement";

/** What is known of the values in one field of the records of a table. */
class Field {
  /** Classes that stand in rows that count. */
  seen = 0;
  /** Serial types that were seen, with how often; of texts and blobs only some. */
  readonly types = new Map<number, number>();
  least = Number.POSITIVE_INFINITY;
  most = Number.NEGATIVE_INFINITY;
  /** Its serial types, most frequent first, as they were after so many rows. */
  usual: { readonly rows: number; readonly types: readonly number[] } | null = null;

  constructor(
    /** Classes the column's declaration allows. */
    readonly declared: number,
    readonly isAlias: boolean,
  ) {}
}

const MOST_TYPES = 64;
/** From so many rows on, ranges of numbers mean something. */
const ENOUGH = 8;
/** Numbers below this may be any: counters, flags, lengths. */
const LARGE = 1_000_000;

/** How the records of a table, or of an index, look: by their declaration and by those that count. */
export class Shape {
  readonly fields: Field[] = [];
  /** Fewest fields of a record: rows that were written before a column was added have fewer. */
  least: number;
  rows = 0;

  constructor(
    readonly name: string | null,
    /** null: an index, or a table of which no declaration is left. */
    readonly statement: TableStatement | null,
    /** Whether a cell has a row number before its record. */
    readonly hasRowId: boolean,
    public isIndex: boolean,
    /** Index of the column each field is of. */
    readonly columns: readonly number[],
  ) {
    for (const index of columns) {
      const column = statement?.columns[index];
      const isAlias = index === statement?.alias;
      if (column) this.fields.push(new Field(isAlias ? NULL : allowedBy(column.affinity, column.notNull), isAlias));
    }
    this.least = this.fields.length;
  }

  get count(): number {
    return this.fields.length;
  }

  /** Learns from a record that counts. @param numberAt gives the whole number of a field, for those that are one */
  learn(types: readonly number[], numberAt: (field: number) => number): void {
    this.rows += 1;
    // A table without a declaration is as wide as its widest row.
    while (!this.statement && this.fields.length < types.length) {
      this.fields.push(new Field(0, false));
      if (this.rows === 1) this.least = this.fields.length;
    }
    this.least = Math.min(this.least, types.length);
    for (let i = 0; i < types.length && i < this.fields.length; i += 1) {
      const type = types[i] as number;
      const field = this.fields[i] as Field;
      field.seen |= classOf(type);
      const times = field.types.get(type);
      if (times !== undefined || field.types.size < MOST_TYPES) field.types.set(type, (times ?? 0) + 1);
      if (type > 0 && type < 10) {
        const value = numberAt(i);
        if (value < field.least) field.least = value;
        if (value > field.most) field.most = value;
      }
    }
  }

  /** Counts a row that is like others, unless it is one in sixteen or has what none had: those are learnt from. */
  learnsAlready(types: readonly number[]): boolean {
    if (this.rows % 16 === 0 || types.length < this.least || types.length > this.fields.length) return false;
    for (let i = 0; i < types.length; i += 1) if ((classOf(types[i] as number) & (this.fields[i] as Field).seen) === 0) return false;
    this.rows += 1;
    return true;
  }

  /** Whether a serial type may stand in a field. */
  allows(field: number, type: number): boolean {
    const known = this.fields[field];
    if (!known) return false;
    // Where enough rows count, what none of them has is not expected; a column that may be empty may always be.
    const allowed = this.rows < ENOUGH ? known.declared | known.seen : known.seen | (known.declared & NULL);
    return (classOf(type) & allowed) !== 0;
  }

  /** Whether a number is of the size that numbers of this field have: times, above all. */
  isLikely(field: number, value: number): boolean {
    const known = this.fields[field];
    if (!known || this.rows < ENOUGH || known.least < LARGE) return true;
    // A field may be empty as 0.
    return value === 0 ? (known.types.get(8) ?? 0) > 0 : value >= known.least / 2 && value <= known.most * 2;
  }

  /** Whether the first fields can be of one type only. */
  isCertain(fields: number): boolean {
    return this.fields.slice(0, fields).every(({ isAlias }) => isAlias);
  }

  /** The serial types a field had, most frequent first. */
  usual(field: number): readonly number[] {
    const known = this.fields[field];
    if (!known) return [];
    if (known.isAlias) return [0];
    if (known.usual?.rows === this.rows) return known.usual.types;
    const types = new Map(known.types);
    // Shorter and longer numbers than those that were seen are as good.
    if (known.seen & INTEGER) for (const type of [1, 2, 3, 4, 5, 6, 8, 9]) if (!types.has(type)) types.set(type, 0);
    known.usual = { rows: this.rows, types: [...types].sort(([, a], [, b]) => b - a).map(([type]) => type) };
    return known.usual.types;
  }

  /** How much rows that count look like this one: the share of its fields whose class was seen in them. Shapes with few fields are alike. */
  likeness(types: readonly number[]): number {
    if (this.rows === 0) return 0;
    let seen = 0;
    types.forEach((type, field) => {
      if (classOf(type) & (this.fields[field]?.seen ?? 0)) seen += 1;
    });
    return (seen / Math.max(types.length, 1)) * 4 + Math.min(1, this.rows / 1000);
  }

  /** Whether a number lies among those that were seen. */
  isWithin(field: number, value: number): boolean {
    const known = this.fields[field];
    return known !== undefined && value >= known.least && value <= known.most;
  }

  /**
   * Whether a number is near those that were seen: of large ones, times above all, no farther than the least of them from the greatest; of others of a
   * size that is thinkable.
   */
  isNear(field: number, value: number): boolean {
    const known = this.fields[field];
    if (!known) return false;
    if (this.rows < ENOUGH || known.least > known.most) return true;
    if (!this.hasLargeNumbers(field)) return Math.abs(value) <= (Math.max(Math.abs(known.most), Math.abs(known.least)) + 1000) * 1000;
    const span = known.most - known.least;
    return value === 0 || (value >= known.least - span && value <= known.most + span);
  }

  /** Whether the numbers of a field are so large that others of their size mean something. */
  hasLargeNumbers(field: number): boolean {
    const known = this.fields[field];
    return known !== undefined && this.rows >= ENOUGH && known.least >= LARGE && known.least !== Number.POSITIVE_INFINITY;
  }

  /** How usual a serial type is in a field, 0 to 1. */
  frequency(field: number, type: number): number {
    const known = this.fields[field];
    if (!known || this.rows === 0) return 0;
    return known.isAlias ? 1 : (known.types.get(type) ?? 0) / this.rows;
  }

  /** Whether a field holds texts or blobs: of a length that is free. */
  isOpen(field: number): number {
    const known = this.fields[field];
    return known ? (known.seen || known.declared) & (TEXT | BLOB) : 0;
  }
}

function allowedBy(affinity: string, notNull: boolean): number {
  const empty = notNull ? 0 : NULL;
  switch (affinity) {
    case "text":
      return empty | TEXT;
    case "blob":
      return empty | INTEGER | REAL | TEXT | BLOB;
    default:
      return empty | INTEGER | REAL;
  }
}

/** The shape rows like this one have. */
export function likest(shapes: readonly Shape[], types: readonly number[], hasRowId: boolean): Shape | null {
  let best: Shape | null = null;
  let most = 0;
  for (const shape of shapes) {
    if (shape.hasRowId !== hasRowId || !fitsShape(shape, types)) continue;
    const likeness = shape.likeness(types) + (shape === shapes[0] ? 0.5 : 0) + 0.01;
    if (likeness > most) [best, most] = [shape, likeness];
  }
  return best;
}

/** Whether the serial types of a record may be those of a row of this shape. */
export const fitsShape = (shape: Shape, types: readonly number[]) =>
  types.length >= shape.least && types.length <= shape.count && types.every((type, i) => shape.allows(i, type));
