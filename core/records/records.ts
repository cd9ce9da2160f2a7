import { rowsIn } from "./former-tables";
import { LearntRows } from "./learnt-rows";
import { LeftRows } from "./left-rows";
import { NumberSet } from "./number-set";
import { type Row, toRow } from "./row";
import { KIND, readPageHead } from "./sqlite/cell";
import { Database, type LiveRow, type Tree } from "./sqlite/database";
import type { DatabaseFiles } from "./sqlite/pages";
import type { SchemaEntry } from "./sqlite/schema-list";
import { fitsShape, Shape } from "./sqlite/shape";

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
  /** Row numbers by tree, where pages of it are missing. */
  readonly #numbers = new Map<Tree, NumberSet>();
  private constructor(
    database: Database,
    private options: ReadingOptions,
  ) {
    this.#database = database;
    this.#learnt = new LearntRows(database.encoding);
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
    yield* this.#unreached(KIND.leafTable);
    for (const tree of trees)
      if (tree.shape.isIndex) {
        // Without a declaration only the rows say whether a tree is an index.
        if (tree.name !== null || !(yield* this.#liveWithoutNumbers(tree))) this.#learnIndex(tree);
      }
    yield* this.#unreached(KIND.leafIndex);
    if (!this.options.deleted) return;
    let onDamaged = 0;
    for (const row of new LeftRows(this.#database, this.#learnt, (table) => this.#wanted(table)).rows()) {
      if (this.#isOnDamagedPage(row)) onDamaged += 1;
      yield row;
    }
    if (onDamaged > 0)
      this.#database.notes.push(
        `${onDamaged} of the rows that are called deleted ${onDamaged === 1 ? "stands on a damaged page" : "stand on damaged pages"}: ${onDamaged === 1 ? "it" : "they"} may have counted.`,
      );
  }

  /** Whether a row stands on a page that is neither free nor reached, because it, or what led to it, is damaged. */
  #isOnDamagedPage({ at, from }: Row): boolean {
    const { isDamaged, pageSize, owners, roles } = this.#database;
    const number = Math.floor(at / pageSize) + 1;
    return isDamaged && from === "main" && owners[number] === 0 && roles[number] === 0;
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
      this.#count(tree, row.rowid);
      if (wanted) yield toRow(tree, row, COUNTS);
    }
    if (tree.broken && wanted) this.#database.notes.push(`Pages of ${tree.name ? `“${tree.name}”` : "a table"} are damaged or missing.`);
  }

  /** Keeps row numbers where they will be needed: when pages of the table are missing. */
  #count(tree: Tree, rowid: number | bigint | null): void {
    if (typeof rowid !== "number" || !this.#database.isDamaged) return;
    const numbers = this.#numbers.get(tree) ?? new NumberSet();
    this.#numbers.set(tree, numbers);
    this.#learnt.remember(numbers, rowid);
  }

  /** Reads a tree without row numbers whose declaration is gone, unless it is an index: an entry of one ends with the number of a row. */
  *#liveWithoutNumbers(tree: Tree): Generator<Row, boolean> {
    const sample: LiveRow[] = [];
    for (const row of this.#database.rowsOf(tree)) {
      sample.push(row);
      if (sample.length >= SAMPLED) break;
    }
    if (sample.length === 0 || this.#isIndex(sample)) return false;
    tree.shape.isIndex = false;
    yield* this.#live(tree);
    return true;
  }

  #isIndex(entries: readonly LiveRow[]): boolean {
    const known = [...this.#numbers.values()];
    const numbered = entries.filter(({ values }) => {
      const last = values.at(-1);
      return typeof last === "number" && known.some((numbers) => numbers.has(last));
    });
    return numbered.length > entries.length / 2;
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

  /** Leaves of tables to which nothing leads any more because the pages that did are damaged: their rows count, unless others of the same number do. */
  *#unreached(kind: number): Generator<Row> {
    const database = this.#database;
    const { trees } = database;
    if (!database.isDamaged && !trees.some((tree) => tree.broken && !tree.shape.isIndex)) return;
    for (let number = 2; number <= database.count; number += 1) {
      if (database.owners[number] || database.roles[number]) continue;
      const page = database.pages.get(number);
      const head = page && readPageHead(page, database.usable);
      if (!page || !head?.sound || head.cells.length === 0 || head.kind !== kind) continue;
      const rows = [...rowsIn(database, page)];
      if (rows.length < head.cells.length) continue;
      const found = this.#treeFor(rows, head.kind === KIND.leafTable, trees);
      // Rows of a table that is complete, or whose numbers others have, were deleted, or are of one like it that nothing names any more.
      const fitting = found?.broken && !this.#areKnown(found, rows) ? found : null;
      if (!fitting && (found ? database.isNameless || !database.hasLostTables : !database.hasLostTables)) continue;
      const tree = fitting ?? this.#nameless(number, kind === KIND.leafTable, kind === KIND.leafIndex && this.#isIndex(rows));
      database.owners[number] = database.trees.indexOf(tree) + 1;
      for (const row of rows) {
        const full: LiveRow = { ...row, values: database.values(tree, row.bytes, row.bodyAt, row.end, row.types, row.rowid) };
        if (this.#learns) this.#learnt.learn(tree.shape, full);
        this.#count(tree, row.rowid);
        if (!tree.shape.isIndex && this.#wanted(tree.name)) yield toRow(tree, full, COUNTS);
      }
    }
  }

  #areKnown(tree: Tree, rows: readonly LiveRow[]): boolean {
    const numbers = this.#numbers.get(tree);
    return numbers !== undefined && rows.some(({ rowid }) => typeof rowid === "number" && numbers.has(rowid));
  }

  #nameless(root: number, hasRowId: boolean, isIndex: boolean): Tree {
    const tree: Tree = { name: null, root, shape: new Shape(null, null, hasRowId, isIndex, []), statement: null, broken: true };
    this.#database.trees.push(tree);
    return tree;
  }

  /** The tree whose shape fits the most rows, nearly all at least. */
  #treeFor(rows: readonly LiveRow[], table: boolean, trees: readonly Tree[]): Tree | null {
    let best: Tree | null = null;
    let most = rows.length * 0.9 - 1;
    for (const tree of trees) {
      if (tree.shape.hasRowId !== table || tree.shape.count === 0) continue;
      const fits = rows.filter(({ types }) => fitsShape(tree.shape, types)).length;
      if (fits > most) [best, most] = [tree, fits];
    }
    return best;
  }
}

/** Entries of a tree that say whether it is an index. */
const SAMPLED = 1000;
/** Entries of an index from which its shape is learnt. */
const MOST_LEARNT = 1_000_000;

/** What is said of every row that counts. */
const COUNTS = { state: "live", uncommitted: false, former: false } as const;
