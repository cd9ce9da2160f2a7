import type { Row } from "./row";
import { recogniseTimes, secondsOf, type TimeForm } from "./times";

/** The column by which it is counted how far databases of one kind go. */
export interface TimedColumn {
  readonly table: string;
  readonly column: string;
  readonly form: TimeForm;
  /** How many rows its table has. */
  readonly rows: number;
}

/** Numbers of a column that say whether it counts time. */
const SAMPLED = 2_000;
/** The latest moment that is counted, in milliseconds from 1970. */
const LATEST = 8e15;

interface Counted {
  rows: number;
  /** By column where it stands, how many numbers it has, and the first of them. */
  readonly columns: Map<string, { readonly at: number; count: number; readonly numbers: (number | bigint)[] }>;
}

/** Finds the table with the most rows that has a column of times in most of them. @param now seconds since 1970 */
export function timedColumn(all: Iterable<Row>, now: number): TimedColumn | null {
  const tables = new Map<string, Counted>();
  for (const { table, columns, values } of all) {
    if (table === null) continue;
    const counted: Counted = tables.get(table) ?? { rows: 0, columns: new Map() };
    tables.set(table, counted);
    counted.rows += 1;
    for (const [i, value] of values.entries()) {
      if (typeof value !== "number" && typeof value !== "bigint") continue;
      const name = columns[i] as string;
      const known = counted.columns.get(name) ?? { at: i, count: 0, numbers: [] };
      counted.columns.set(name, known);
      known.count += 1;
      if (known.numbers.length < SAMPLED) known.numbers.push(value);
    }
  }
  for (const [table, { rows, columns }] of [...tables].sort((a, b) => b[1].rows - a[1].rows))
    for (const [column, { count, numbers }] of [...columns].sort((a, b) => a[1].at - b[1].at)) {
      const form = count >= rows / 2 ? recogniseTimes(numbers, now) : null;
      if (form) return { table, column, form, rows };
    }
  return null;
}

/** How far a database goes: rows by month, and the first and the last of them. */
export class Coverage {
  live = 0;
  deleted = 0;
  /** By months since the year 0: rows that count, and deleted ones. */
  readonly months = new Map<number, [live: number, deleted: number]>();
  #first = Number.POSITIVE_INFINITY;
  #last = Number.NEGATIVE_INFINITY;

  constructor(private readonly by: TimedColumn | null) {}

  /** UTC milliseconds of its first and last row; null: none has a time. */
  get first(): number | null {
    return Number.isFinite(this.#first) ? Math.round(this.#first) : null;
  }

  get last(): number | null {
    return Number.isFinite(this.#last) ? Math.round(this.#last) : null;
  }

  add({ table, columns, values, state }: Row): void {
    this[state] += 1;
    const { by } = this;
    if (!by || table !== by.table) return;
    const value = values[columns.indexOf(by.column)];
    if ((typeof value !== "number" && typeof value !== "bigint") || value === 0) return;
    const at = secondsOf(Number(value), by.form) * 1000;
    if (!(Math.abs(at) < LATEST)) return;
    this.#first = Math.min(this.#first, at);
    this.#last = Math.max(this.#last, at);
    const date = new Date(at);
    const month = date.getUTCFullYear() * 12 + date.getUTCMonth();
    const counts = this.months.get(month) ?? [0, 0];
    counts[state === "live" ? 0 : 1] += 1;
    this.months.set(month, counts);
  }
}
