import { type CountingRow, DamagedRows } from "./damaged-rows";
import { LearntRows } from "./learnt-rows";
import { LeftRows } from "./left-rows";
import { type Row, toRow } from "./row";
import { readingsFor } from "./sqlite/carve";
import { KIND } from "./sqlite/cell";
import { Database, type LiveRow, type Tree } from "./sqlite/database";
import type { DatabaseFiles } from "./sqlite/pages";
import type { SchemaEntry } from "./sqlite/schema-list";

export interface ReadingOptions {
  /** Whether remains of deleted rows are looked for. */
  readonly deleted: boolean;
  /** Only this table. */
  readonly table?: string | undefined;
}

/**
 * Reads the rows of an SQLite database: those that count, with log and journal as the published format says, and then what is left of deleted,
 * changed and never committed ones, each once.
 */
export class RecordReader {
  readonly #database: Database;
  readonly #learnt: LearntRows;
  readonly #damaged: DamagedRows;
  readonly #budget: { left: number };

  private constructor(
    database: Database,
    private options: ReadingOptions,
  ) {
    this.#database = database;
    this.#learnt = new LearntRows(database.encoding);
    const { main, log, journal } = database.files;
    this.#budget = readingsFor(main.size + (log?.size ?? 0) + (journal?.size ?? 0));
    this.#damaged = new DamagedRows(database, this.#learnt, this.#budget);
  }

  /** @returns null when no database is in it */
  static open(files: DatabaseFiles, options: ReadingOptions): RecordReader | null {
    const database = Database.open(files);
    return database && new RecordReader(database, options);
  }

  /** Gives the rows of one table that count. */
  *rowsOf(table: string): Generator<Row> {
    this.options = { ...this.options, table };
    for (const tree of this.#database.trees) if (tree.name === table && !tree.shape.isIndex) yield* this.#live(tree);
  }

  get notes(): readonly string[] {
    return [...new Set(this.#database.notes)];
  }

  get schema(): readonly SchemaEntry[] {
    return this.#database.schema;
  }

  /** The name of the first table that has all of these columns; null: none has. */
  tableWith(columns: readonly string[]): string | null {
    const has = ({ statement }: Tree) => columns.every((name) => statement?.columns.some((column) => column.name === name));
    return this.#database.trees.find(has)?.name ?? null;
  }

  *rows(): Generator<Row> {
    const { trees } = this.#database;
    for (const tree of trees) if (!tree.shape.isIndex) yield* this.#live(tree);
    this.#database.markFree();
    yield* this.#counting(this.#damaged.unreached(KIND.leafTable));
    const found = yield* this.#counting(this.#damaged.onDamagedPages());
    if (found > 0)
      this.#database.notes.push(
        `${found === 1 ? "One row" : `${found} rows`} stood on damaged pages and ${found === 1 ? "was" : "were"} found by ${found === 1 ? "its" : "their"} form: ${found === 1 ? "it" : "some"} may have been deleted before.`,
      );
    for (const tree of trees)
      if (tree.shape.isIndex) {
        // Without a declaration only the rows say whether a tree is an index.
        if (tree.name !== null || !(yield* this.#liveWithoutNumbers(tree))) this.#learnIndex(tree);
      }
    yield* this.#counting(this.#damaged.unreached(KIND.leafIndex));
    const inIndexes = yield* this.#counting(this.#damaged.inIndexes());
    if (inIndexes > 0)
      this.#database.notes.push(
        `${inIndexes === 1 ? "One row is" : `${inIndexes} rows are`} known by indexes alone: only the columns that stand there are left of ${inIndexes === 1 ? "it" : "them"}.`,
      );
    if (this.options.deleted) yield* this.#left();
    if (this.#budget.left < 0)
      this.#database.notes.push("What is left of rows was not looked for to the end: too much of it can be read in too many ways.");
  }

  /** The rows that do not count. */
  *#left(): Generator<Row> {
    let onDamaged = 0;
    for (const row of new LeftRows(this.#database, this.#learnt, (table) => this.#wanted(table), this.#budget).rows()) {
      if (this.#isOnDamagedPage(row)) onDamaged += 1;
      yield row;
    }
    if (onDamaged > 0)
      this.#database.notes.push(
        `${onDamaged} of the rows that are called deleted ${onDamaged === 1 ? "stands on a damaged page" : "stand on damaged pages"}: ${onDamaged === 1 ? "it" : "they"} may have counted.`,
      );
  }

  /** Whether a row stands on a page that is damaged, or that is neither free nor reached because what led to it is damaged. */
  #isOnDamagedPage({ at, from }: Row): boolean {
    const { isDamaged, pageSize, owners, roles, damagedPages } = this.#database;
    const number = Math.floor(at / pageSize) + 1;
    return isDamaged && from === "main" && roles[number] === 0 && (owners[number] === 0 || damagedPages.has(number));
  }

  /** @returns how many were given */
  *#counting(rows: Iterable<CountingRow>): Generator<Row, number> {
    let given = 0;
    for (const { tree, row, isUnsure } of rows) {
      if (!this.#wanted(tree.name)) continue;
      const found = toRow(tree, row, COUNTS);
      given += 1;
      yield isUnsure ? { ...found, confidence: "guess" } : found;
    }
    return given;
  }

  #wanted(table: string | null): boolean {
    const { table: only } = this.options;
    return only === undefined ? table !== "sqlite_schema" : table?.toLowerCase() === only.toLowerCase();
  }

  /** Whether it has to be known what rows look like: for remains, and to say whose a page is that nothing leads to. */
  get #learns(): boolean {
    return this.options.deleted || this.#database.isDamaged;
  }

  /** The rows of a table as they count. */
  *#live(tree: Tree): Generator<Row> {
    const wanted = this.#wanted(tree.name);
    if (!wanted && !this.#learns) return;
    for (const row of this.#database.rowsOf(tree)) {
      if (this.#learns) this.#learnt.learn(tree.shape, row);
      if (wanted) yield toRow(tree, row, COUNTS);
    }
    if (tree.broken && wanted) this.#database.notes.push(`Pages of ${tree.name ? `“${tree.name}”` : "a table"} are damaged or missing.`);
  }

  /** Reads a tree without row numbers whose declaration is gone, unless it is an index: an entry of one ends with the number of a row. */
  *#liveWithoutNumbers(tree: Tree): Generator<Row, boolean> {
    const sample: LiveRow[] = [];
    for (const row of this.#database.rowsOf(tree)) {
      sample.push(row);
      if (sample.length >= SAMPLED) break;
    }
    if (sample.length === 0 || this.#damaged.isIndex(sample)) return false;
    tree.shape.isIndex = false;
    yield* this.#live(tree);
    return true;
  }

  /** What entries of an index look like: so that what is left of them is not taken for rows. */
  #learnIndex(tree: Tree): void {
    if (!this.options.deleted) return;
    let learnt = 0;
    for (const row of this.#database.rowsOf(tree)) {
      if (learnt++ > MOST_LEARNT) continue;
      this.#learnt.learn(tree.shape, row);
    }
  }
}

/** Entries of a tree that say whether it is an index. */
const SAMPLED = 1000;
/** Entries of an index from which its shape is learnt. */
const MOST_LEARNT = 1_000_000;

/** What is said of every row that counts. */
const COUNTS = { state: "live", uncommitted: false, former: false } as const;
