import { describeCell } from "./cell-text";
import type { RecordRow, RecordTable } from "./entries/table";
import { mostBytesOf, RowList } from "./row-list";
import { SearchText } from "./search-text";
import type { Value } from "./sqlite/record";
import { recogniseTimes, type TimeForm } from "./times";

/** Values of a column that say whether it counts time; half of them settle it while the table is still read. */
const SAMPLED = 2_000;
/** Characters of a value that are searched. */
const SEARCHED = 1 << 20;
/** Rows after which who waits for them may be answered. */
const ROWS_A_STEP = 2_048;

/** Which rows of a table are asked for. */
export interface RowQuery {
  readonly words: string;
  readonly only: "all" | RecordRow["state"];
}

/** The numbers of a column, as far as it has to be known whether they count time. */
class ColumnNumbers {
  readonly numbers: (number | bigint)[] = [];
  #isOver = false;

  add(value: Value | undefined): void {
    if (this.#isOver) return;
    if (typeof value === "string" || value instanceof Uint8Array) this.#isOver = true;
    else if (typeof value === "number" || typeof value === "bigint") this.#isOver = this.numbers.push(value) >= SAMPLED;
  }

  get isSettled(): boolean {
    return this.#isOver || this.numbers.length >= SAMPLED / 2;
  }
}

/** A table of a database while and after it is read: its rows, which of its columns count time, and its rows by the words in them. */
export class RowTable implements RecordTable {
  readonly rows = new RowList();
  live = 0;
  deleted = 0;
  /** Bytes that are kept of its rows. */
  bytes = 0;
  times: readonly (TimeForm | null)[] = [];
  readonly #numbers: readonly ColumnNumbers[];
  /** null: its columns are not settled yet, or their sense changed. */
  #text: SearchText | null = null;
  /** Rows in the order in which they are shown; null: as they were read. */
  #order: Uint32Array | null = null;
  readonly #full = { live: false, deleted: false };
  #last: { readonly key: string; readonly rows: Uint32Array } | null = null;

  constructor(
    readonly name: string,
    readonly columns: readonly string[],
  ) {
    this.#numbers = columns.map(() => new ColumnNumbers());
  }

  /** Counts a row, and keeps it unless it takes more than `most` bytes. @returns how many bytes it takes: 0 when it is not kept */
  append(row: RecordRow, most: number): number {
    this[row.state] += 1;
    // Those that are kept are the first ones, without a gap.
    if (this.#full[row.state] || mostBytesOf(row) > most) {
      this.#full[row.state] = true;
      return 0;
    }
    this.#last = null;
    for (const [i, numbers] of this.#numbers.entries()) numbers.add(row.values[i]);
    const before = this.bytes;
    this.bytes += this.rows.append(row);
    if (this.#text) this.bytes += this.#index(this.#text, row.values);
    else if (this.rows.length >= SAMPLED) this.#settle();
    return this.bytes - before;
  }

  /** Says which columns count time while the table is still read, and begins to keep what is searched. */
  #settle(): void {
    const now = Date.now() / 1000;
    this.times = this.#numbers.map((column) => (column.isSettled ? recogniseTimes(column.numbers, now) : null));
    this.#text = new SearchText();
    for (const { values } of this.rows) this.bytes += this.#index(this.#text, values);
  }

  #index(text: SearchText, values: RecordRow["values"]): number {
    return text.append(values.map((value, i) => describeCell(value, this.times[i] ?? null, SEARCHED) ?? ""));
  }

  /** Settles which columns count time, and the order of the rows, when all are read. Gives how many rows were gone through, from time to time. */
  *finish(): Generator<number> {
    const now = Date.now() / 1000;
    const times = this.#numbers.map(({ numbers }) => recogniseTimes(numbers, now));
    if (!this.#text || times.some((form, i) => form?.id !== this.times[i]?.id)) {
      this.times = times;
      this.#text = null;
      this.#last = null;
      const text = new SearchText();
      for (const { values } of this.rows) {
        this.#index(text, values);
        if (text.length % ROWS_A_STEP === 0) yield text.length;
      }
      this.#text = text;
    }
    yield* this.#sort();
    this.#last = null;
  }

  /** What was deleted stands among the others, where it was: by its time, else by its number. */
  *#sort(): Generator<number> {
    const { rows } = this;
    const column = this.times.findIndex((time) => time !== null);
    const keys = new Float64Array(rows.length);
    let isSorted = true;
    for (let i = 0; i < keys.length; i += 1) {
      keys[i] = Number((column < 0 ? rows.numberAt(i) : rows.valueAt(i, column)) ?? Number.POSITIVE_INFINITY);
      // What is no number stands at the end, too.
      if (Number.isNaN(keys[i])) keys[i] = Number.POSITIVE_INFINITY;
      if (i > 0 && (keys[i] as number) < (keys[i - 1] as number)) isSorted = false;
      if (i % ROWS_A_STEP === 0) yield i;
    }
    if (isSorted) return;
    this.#order = Uint32Array.from(keys, (_, i) => i).sort((a, b) => {
      const [one, other] = [keys[a] as number, keys[b] as number];
      return one === other ? a - b : one - other;
    });
  }

  /** Finds rows, in the order in which they are shown; while the table is read, those there are. @returns their places in `rows` */
  find({ words, only }: RowQuery): Uint32Array {
    const key = JSON.stringify([words, only]);
    if (this.#last?.key === key) return this.#last.rows;
    const { rows } = this;
    const found = words === "" ? null : (this.#text?.find(words) ?? this.#findOneByOne(words));
    const deleted = only === "all" ? null : rows.deleted;
    const state = only === "deleted" ? 1 : 0;
    const { length } = rows;
    const order = this.#order;
    const matched = new Uint32Array(length);
    let count = 0;
    for (let i = 0; i < length; i += 1) {
      const row = order ? (order[i] as number) : i;
      if ((found && found[row] !== 1) || (deleted && deleted[row] !== state)) continue;
      matched[count] = row;
      count += 1;
    }
    this.#last = { key, rows: matched.slice(0, count) };
    return this.#last.rows;
  }

  /** As {@link SearchText} does, before the columns are settled: there are few rows then. */
  #findOneByOne(words: string): Uint8Array {
    const text = new SearchText();
    for (const { values } of this.rows) this.#index(text, values);
    return text.find(words);
  }
}
