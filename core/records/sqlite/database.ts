import { BlockReader } from "../../bytes/block-reader";
import { findPageSize } from "../../formats/sqlite/page";
import { type Cell, isTreePage, KIND, type PageHead, readCell, readPageHead } from "./cell";
import { markFreePages } from "./free-list";
import { type Journal, readJournal } from "./journal";
import { type Log, readLog } from "./log";
import { type PageUse, recordOf } from "./overflow";
import { type DatabaseFiles, type Header, type Page, Pages, readHeader } from "./pages";
import { type Encoding, lengthOf, readHead, readValue, type Value } from "./record";
import { isPossibleEntry, isSoundPage, type SchemaEntry } from "./schema-list";
import { Shape } from "./shape";
import { parseTable, type TableStatement } from "./statement";
import { readRowId } from "./varint";

/** A table or an index of a database. */
export interface Tree {
  readonly name: string | null;
  readonly root: number;
  readonly shape: Shape;
  /** null: an index, or a table whose declaration is gone. */
  readonly statement: TableStatement | null;
  /** Whether pages of it are missing or damaged. */
  broken: boolean;
}

/** A page that a table leads to, and whose list of rows is damaged. */
export interface DamagedPage {
  readonly tree: Tree;
  readonly number: number;
  /** The numbers of its rows are greater than this one, and not greater than that one, as the page above says; null: it says nothing. */
  readonly after: number | bigint | null;
  readonly upTo: number | bigint | null;
}

/** Statements of a database that are read. */
const MOST_TREES = 10_000;
const MOST_PAGES = 1 << 26;
/** Pages that a log may lengthen a database by, for each page that stands in it, and besides. */
const PAGES_AN_IMAGE = 16;
const FREE_PAGES = 1 << 16;
/** A journal is at least one sector long. */
const SHORTEST_JOURNAL = 512;
/** Pages whose texts say in which encoding they are. */
const SAMPLED_PAGES = 200;

/** An SQLite database with its log and journal, opened as the published format says; what is damaged is passed by and noted. */
export class Database implements PageUse {
  readonly notes: string[] = [];
  readonly trees: Tree[] = [];
  /** The statements that made it, in their order. */
  readonly schema: SchemaEntry[] = [];
  readonly log: Log | null;
  readonly journal: Journal | null;
  readonly pages: Pages;
  readonly pageSize: number;
  readonly usable: number;
  readonly encoding: Encoding;
  /** Pages the database has. */
  readonly count: number;
  /** Which tree a page belongs to, counted from 1; 0: none that was reached. */
  readonly owners: Uint16Array;
  /** What else a page is: 1 the rest of a row, 2 a list of free pages, 3 a free page. */
  readonly roles: Uint8Array;
  /** By their number: those that were met so far. */
  readonly damagedPages = new Map<number, DamagedPage>();
  readonly #header: Header | null;
  #isListDamaged = false;
  #isFreeListWhole = false;

  private constructor(
    readonly files: DatabaseFiles,
    header: Header | null,
    pageSize: number,
  ) {
    this.pageSize = pageSize;
    const log = files.log ? readLog(files.log) : null;
    this.log = log?.pageSize === pageSize ? log : null;
    const journal = files.journal ? readJournal(files.journal, pageSize) : null;
    this.journal = journal?.pageSize === pageSize ? journal : null;
    if ((log && !this.log) || (journal && !this.journal))
      this.notes.push(
        "The log or journal beside it has pages of another size: it belongs to another database, and is not taken into account.",
      );
    if ((files.log && files.log.size > 0 && !log) || (files.journal && files.journal.size >= SHORTEST_JOURNAL && !journal))
      this.notes.push("The log or journal beside it is damaged or empty, and adds nothing.");
    if (this.log && this.log.damaged > 0)
      this.notes.push(
        `The log beside it is damaged: ${this.log.damaged === 1 ? "one transaction in it does" : `${this.log.damaged} transactions in it do`} not count; rows of such stand among those that were never committed.`,
      );
    this.pages = new Pages(files, pageSize, this.log, this.journal);
    // The first page may itself stand in the log.
    const first = this.pages.get(1);
    this.#header = (first && readHeader(first.bytes, files.main.size)) ?? header;
    const inFile = Math.ceil(files.main.size / pageSize);
    const stated = this.journal?.hot ? this.journal.pages : this.log?.pages;
    this.count = Math.min(MOST_PAGES, stated ?? Math.max(inFile, this.#header?.pages ?? 0), this.#lastPage(inFile));
    if (this.#header && stated === undefined && this.#header.pages > inFile)
      this.notes.push(`${this.#header.pages - inFile} of its ${this.#header.pages} pages are missing at the end.`);
    this.usable = pageSize - (this.#header?.reserved ?? 0);
    this.owners = new Uint16Array(this.count + 1);
    this.roles = new Uint8Array(this.count + 1);
    this.encoding = this.#header?.encoding ?? this.#guessedEncoding();
  }

  /**
   * The last page that can stand in one of the files: what a header says is gone through page by page, and may be anything. A log may leave out
   * free pages that were never used, but not many of them.
   */
  #lastPage(inFile: number): number {
    const images = [...(this.log?.frames ?? []), ...(this.journal?.images ?? [])];
    let last = inFile;
    for (const { page } of images) if (page > last) last = page;
    return Math.min(last, inFile + images.length * PAGES_AN_IMAGE + FREE_PAGES);
  }

  /** Whether the names of its tables are gone. */
  get isNameless(): boolean {
    return this.#header === null || (this.schema.length === 0 && this.trees[0]?.broken === true);
  }

  /** Whether there may be tables that no name leads to. */
  get hasLostTables(): boolean {
    return this.isNameless || this.#isListDamaged;
  }

  /** Whether a page that should lead to others does not. */
  get isDamaged(): boolean {
    return this.hasLostTables || this.trees.some(({ broken }) => broken);
  }

  /** Whether all free pages are known, as many as its header says: the others are of tables and indexes. After `markFree`. */
  get isFreeListWhole(): boolean {
    return this.#isFreeListWhole;
  }

  /**
   * Whether what it is made of is as it was first written, so that nothing was dropped or changed: each statement counts once (1.3.9). A copy made by the
   * library itself begins at one again and says nothing.
   */
  get hasFirstSchema(): boolean {
    const changes = this.#header?.schemaChanges ?? 0;
    return (
      !this.#isListDamaged &&
      changes > 1 &&
      changes === this.schema.filter(({ name, sql }) => sql !== "" && !name.startsWith("sqlite_")).length
    );
  }

  /** @returns null when no pages of a database are found in it */
  static open(files: DatabaseFiles): Database | null {
    const reader = new BlockReader(files.main);
    const head = reader.size >= 100 ? reader.bytes(0, 100).slice() : new Uint8Array(0);
    const header = readHeader(head, files.main.size);
    const log = files.log ? readLog(files.log) : null;
    const pageSize = header?.pageSize ?? log?.pageSize ?? findPageSize(reader);
    if (pageSize === 0) return null;
    const database = new Database(files, header, pageSize);
    database.#findTrees();
    return database;
  }

  /** The encoding most texts are in: of two bytes a character, Latin letters have a zero on the side of the high one. */
  #guessedEncoding(): Encoding {
    const votes = { utf8: 0, utf16le: 0, utf16be: 0 };
    const cell = emptyCell();
    const types: number[] = [];
    for (let number = 2; number <= Math.min(this.count, SAMPLED_PAGES); number += 1) {
      const page = this.pages.get(number);
      if (!page || page.bytes[0] !== KIND.leafTable) continue;
      for (const at of readPageHead(page, this.usable)?.cells ?? []) {
        if (!readCell(page, at, KIND.leafTable, this.usable, cell)) continue;
        let body = readHead(page.bytes, cell.recordAt, cell.payload, cell.end, types);
        for (const type of body < 0 ? [] : types) {
          const [first, second] = [page.bytes[body], page.bytes[body + 1]];
          if (type >= 17 && type % 2 === 1 && body + 2 <= cell.end)
            votes[first !== 0 && second === 0 ? "utf16le" : first === 0 && second !== 0 ? "utf16be" : "utf8"] += 1;
          body += lengthOf(type);
        }
      }
    }
    return (["utf8", "utf16le", "utf16be"] as const).reduce((a, b) => (votes[b] > votes[a] ? b : a));
  }

  /** The tables and indexes the first page speaks of; where it, or its list of them, is damaged, those too that their pages make up. */
  #findTrees(): void {
    const schema = new Shape("sqlite_schema", SCHEMA, true, false, [0, 1, 2, 3, 4]);
    const tree: Tree = { name: "sqlite_schema", root: 1, shape: schema, statement: SCHEMA, broken: false };
    this.trees.push(tree);
    if (this.#header) this.#readSchema(tree);
    else tree.broken = true;
    if (this.isNameless)
      this.notes.push("Its first page is damaged: the names of tables and columns are gone, and tables are put together from their pages.");
    else if (this.#isListDamaged)
      this.notes.push("The list of its tables is damaged: what it does not name any more is put together from its pages, without names.");
    if (this.hasLostTables) this.#treesWithoutSchema();
  }

  /** Reads the list of tables and indexes, and what of it is damaged. */
  #readSchema(tree: Tree): void {
    for (const { values } of this.rowsOf(tree)) {
      const [type, name, table, root, sql] = values;
      const entry =
        typeof type === "string" && typeof name === "string" && typeof root === "number"
          ? { type, name, table: typeof table === "string" ? table : name, root, sql: typeof sql === "string" ? sql : "" }
          : null;
      if (!entry || !isPossibleEntry(entry, this.#kindOf(entry.root))) this.#isListDamaged = true;
      else if (this.schema.length < MOST_TREES) this.schema.push(entry);
    }
    this.#isListDamaged ||= tree.broken || [...this.pagesOf(tree)].some(({ bytes, header }) => !isSoundPage(bytes, header, this.usable));
    for (const { type, name, root, sql } of this.schema) {
      if (root < 2 || root > this.count) {
        if (root > this.count) this.notes.push(`Where “${name}” begins is not there any more.`);
        continue;
      }
      if (type === "table") this.trees.push(this.#declared(tableTree(name, root, parseTable(sql))));
      else if (type === "index")
        this.trees.push({ name, root, shape: new Shape(name, null, false, true, []), statement: null, broken: false });
    }
  }

  /** The kind of tree a page is of, by its mark; null: it is of none. */
  #kindOf(number: number): number | null {
    const kind = this.pages.get(number)?.bytes[0];
    return kind !== undefined && isTreePage(kind) ? kind : null;
  }

  /** A table with its declaration, unless its rows have more values than that has columns: then the declaration is damaged, and is left out. */
  #declared(tree: Tree): Tree {
    const { statement, shape, name, root } = tree;
    if (!statement) return tree;
    for (const { types } of this.rowsOf(tree)) {
      if (types.length <= shape.columns.length) return tree;
      this.#isListDamaged = true;
      return { name, root, shape: new Shape(name, null, shape.hasRowId, false, []), statement: null, broken: false };
    }
    return tree;
  }

  /** Trees by what points to what: a page of a tree that no other points to, and that is not free, is a root. */
  #treesWithoutSchema(): void {
    const pointed = new Uint8Array(this.count + 1);
    for (const { root } of this.trees) pointed[root] = 1;
    const inner: number[] = [];
    this.markFree();
    for (let number = 2; number <= this.count; number += 1) {
      const page = this.roles[number] ? null : this.pages.get(number);
      const head = page && readPageHead(page, this.usable);
      if (!page || !head || (head.kind !== KIND.interiorTable && head.kind !== KIND.interiorIndex)) continue;
      inner.push(number);
      for (const child of [...head.cells.map((at) => page.bytes.readUInt32BE(at)), head.right]) if (child <= this.count) pointed[child] = 1;
    }
    // What is free is known better once the trees were gone through.
    this.roles.fill(0);
    for (const root of inner.filter((number) => !pointed[number]).slice(0, MOST_TREES)) {
      const table = this.pages.get(root)?.bytes[0] === KIND.interiorTable;
      this.trees.push({ name: null, root, shape: new Shape(null, null, table, !table, []), statement: null, broken: false });
    }
  }

  /** The rows of a table as they count, in the order of their row numbers; damaged pages and rows are passed by. */
  *rowsOf(tree: Tree): Generator<LiveRow> {
    const cell = emptyCell();
    const types: number[] = [];
    for (const page of this.pagesOf(tree)) {
      const head = readPageHead(page, this.usable);
      if (!head || head.kind === KIND.interiorTable) continue;
      for (const at of head.cells) {
        const row = readCell(page, at, head.kind, this.usable, cell) ? this.rowAt(tree, page, cell, types) : null;
        if (row) yield row;
        else this.#noteDamage(tree, { number: page.number, after: null, upTo: null });
      }
    }
  }

  /** The row in a cell. @returns null when it is none of the table */
  rowAt(tree: Described, page: Page, cell: Cell, types: number[], counts = true): LiveRow | null {
    const { bytes, recordAt, end, whole } = recordOf(this, page, cell, counts);
    const bodyAt = readHead(bytes, recordAt, cell.payload, end, types);
    if (bodyAt < 0) return null;
    return {
      page,
      cell,
      bytes,
      bodyAt,
      end,
      types,
      whole,
      rowid: cell.rowid,
      values: this.values(tree, bytes, bodyAt, end, types, cell.rowid),
    };
  }

  /** The values of a record in the order of the table's columns; undefined: not known. */
  values(
    { shape, statement }: Described,
    bytes: Buffer,
    bodyAt: number,
    end: number,
    types: readonly number[],
    rowid: number | bigint | null,
    unsure = 0,
  ): (Value | undefined)[] {
    const columns = statement?.columns;
    // What is computed when a row is read stands nowhere.
    const values: (Value | undefined)[] = columns ? columns.map(({ fallback, virtual }) => (virtual ? undefined : fallback)) : [];
    let at = bodyAt;
    for (let i = 0; i < types.length; i += 1) {
      const type = types[i] as number;
      const length = lengthOf(type);
      const value = at + length > end || i < unsure ? undefined : readValue(bytes, at, type, this.encoding);
      at += length;
      if (!columns) values.push(value);
      else {
        const column = shape.columns[i];
        if (column !== undefined) values[column] = column === statement.alias ? (rowid ?? undefined) : value;
      }
    }
    return values;
  }

  /** The pages of a tree that hold records, its inner ones among them, in order. */
  *pagesOf(tree: Tree): Generator<Page> {
    const id = this.trees.indexOf(tree) + 1;
    const waiting: Reached[] = [{ number: tree.root, after: null, upTo: null }];
    const seen = new Set<number>();
    for (let reached = waiting.pop(); reached !== undefined; reached = waiting.pop()) {
      const { number } = reached;
      const page = number >= 1 && number <= this.count && !seen.has(number) ? this.pages.get(number) : null;
      const head = page && readPageHead(page, this.usable);
      if (!page || !head || !this.#fits(tree, head.kind)) {
        if (page && !head) this.#noteDamage(tree, reached);
        tree.broken = true;
        continue;
      }
      seen.add(number);
      this.owners[number] ||= id;
      if (!head.sound) this.#noteDamage(tree, reached);
      if (head.kind === KIND.interiorTable || head.kind === KIND.interiorIndex) waiting.push(...this.#below(page, head, reached).reverse());
      yield page;
    }
  }

  /** The pages below an inner one, in order, with what it says of the numbers of their rows (1.6). */
  #below({ bytes }: Page, { kind, cells, right, sound }: PageHead, { after, upTo }: Reached): Reached[] {
    const isNumbered = kind === KIND.interiorTable && sound;
    let last = after;
    const below = cells.map((at): Reached => {
      const key = isNumbered ? readRowId(bytes, at + 4) : null;
      const reached = { number: bytes.readUInt32BE(at), after: last, upTo: key };
      last = key;
      return reached;
    });
    return [...below, { number: right, after: last, upTo }];
  }

  #noteDamage(tree: Tree, reached: Reached): void {
    tree.broken = true;
    if (!this.damagedPages.has(reached.number)) this.damagedPages.set(reached.number, { tree, ...reached });
  }

  /** The first page says of a table whether it is kept by row numbers; of others, the declaration. */
  #fits({ shape }: Tree, kind: number): boolean {
    return isTreePage(kind) && (kind === KIND.leafTable || kind === KIND.interiorTable) === shape.hasRowId;
  }

  /** Marks the free pages. */
  markFree(): void {
    if (!this.#header) return;
    this.#isFreeListWhole = markFreePages(this, this.#header.firstFree) === this.#header.free;
  }
}

/** A page as something leads to it. */
type Reached = Omit<DamagedPage, "tree">;

interface Described {
  readonly shape: Shape;
  readonly statement: TableStatement | null;
}

export interface LiveRow {
  readonly page: Page;
  readonly cell: Cell;
  /** The record's bytes: the page's own, or put together from several pages. */
  readonly bytes: Buffer;
  readonly bodyAt: number;
  readonly end: number;
  readonly types: readonly number[];
  /** Whether all of it is there. */
  readonly whole: boolean;
  readonly rowid: number | bigint | null;
  readonly values: (Value | undefined)[];
}

export const emptyCell = (): Cell => ({ at: 0, rowid: null, payload: 0, local: 0, recordAt: 0, end: 0, overflow: 0 });

/** A table as its declaration says. */
export function tableTree(name: string, root: number, statement: TableStatement | null): Tree {
  const columns = statement ? storedOrder(statement) : [];
  const hasRowId = !statement?.withoutRowId;
  return { name, root, shape: new Shape(name, statement, hasRowId, false, columns), statement, broken: false };
}

/** The columns in the order of a record: as declared, without those that are computed; of tables without row numbers the key's first (2.4). */
function storedOrder({ columns, key, withoutRowId }: TableStatement): number[] {
  const stored = columns.map((_, i) => i).filter((i) => !columns[i]?.virtual);
  return withoutRowId ? [...key, ...stored.filter((i) => !key.includes(i))] : stored;
}

/** The table every database begins with (2.6). */
const SCHEMA = parseTable("CREATE TABLE sqlite_schema(type TEXT, name TEXT, tbl_name TEXT, rootpage INTEGER, sql TEXT)") as TableStatement;
