import { columnsOf } from "./column-names";
import { endsInZeros, fitsAnything, isUnlikely, mayBeIndexEntry, saysLittle, soundEnd } from "./doubts";
import { FormerTables, rowsIn } from "./former-tables";
import { imagesOf } from "./images";
import { NumberSet } from "./number-set";
import { remainedRecord } from "./remained-record";
import { contentHash, withRowId } from "./row-hash";
import { carve, type Remain } from "./sqlite/carve";
import { KIND, readCell, readPageHead } from "./sqlite/cell";
import { Database, emptyCell, type LiveRow, type SchemaEntry, type Tree } from "./sqlite/database";
import type { DatabaseFiles, Page, Part } from "./sqlite/pages";
import { lengthOf, readValue, type Value } from "./sqlite/record";
import { fitsShape, likest, Shape } from "./sqlite/shape";

/** A row of a database: one that counts, or what is left of one that does not. */
export interface Row {
  /** null: the name of its table is gone. */
  readonly table: string | null;
  /** The page its table begins with, as far as that is known: tables without a name are distinguished by it. */
  readonly root: number;
  /** Names of the columns; those without one are their numbers, from 0. */
  readonly columns: readonly string[];
  /** In the order of the columns; undefined: not known. */
  readonly values: readonly (Value | undefined)[];
  readonly rowid: number | bigint | null;
  readonly state: "live" | "deleted";
  /** `whole`: every value stands; `part`: some do not, or the row's number is gone; `guess`: it was worked out where a value begins. */
  readonly confidence: "whole" | "part" | "guess";
  /** It stands only in a transaction of the log that never came to an end: it was written and never counted. */
  readonly uncommitted: boolean;
  /** It is of a table that was dropped, or had other columns then: `columns` are those of that time. */
  readonly former: boolean;
  /** Where its cell begins, in the file `from` says. */
  readonly at: number;
  readonly from: Part;
}

export interface ReadingOptions {
  /** Whether remains of deleted rows are looked for. */
  readonly deleted: boolean;
  /** Only this table. */
  readonly table?: string | undefined;
}

/** Remains whose row number is gone, kept until all whole ones are known. */
const MOST_KEPT = 500_000;
/** Rows by whose content doubles are known. */
const MOST_KNOWN = 8_000_000;

/**
 * Reads the rows of an SQLite database: those that count, with log and journal as the published format says, and then what is left of deleted,
 * changed and never committed ones, each once.
 */
export class RecordReader {
  readonly #database: Database;
  /** What is known by row number and content, and by content alone: hashes. */
  readonly #known = new NumberSet();
  readonly #contents = new NumberSet();
  /** High bytes of the characters of texts in two bytes each. */
  readonly #scripts = new Uint8Array(256);
  /** Row numbers by tree, where pages of it are missing. */
  readonly #numbers = new Map<Tree, NumberSet>();
  /** Whether what is read now was never committed. */
  #uncommitted = false;
  /** Whether what is read now is a page that was being written when something broke off: a hot journal has what it was before. */
  #torn = false;
  /** Whether there were more rows than are remembered, or more remains than are kept. */
  #isFull = false;
  readonly #budget: { left: number };
  /** What entries of indexes look like; known when all that counts is read. */
  #indexes: readonly Shape[] = [];
  readonly #kept: { remain: Row; content: number }[] = [];
  /** Tables as they were before; known when all that counts is read. */
  #former: FormerTables | null = null;

  private constructor(
    database: Database,
    private options: ReadingOptions,
  ) {
    this.#database = database;
    const { main, log, journal } = database.files;
    this.#budget = { left: LEAST_READINGS + READINGS_A_BYTE * (main.size + (log?.size ?? 0) + (journal?.size ?? 0)) };
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
    return this.#database.notes;
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
    this.#indexes = trees.flatMap(({ shape }) => (shape.isIndex && shape.count > 0 ? [shape] : [])).slice(0, MOST_SHAPES);
    const carving = { scripts: this.#scripts, budget: this.#budget };
    this.#former = new FormerTables(this.#database, carving, (shape, row) => this.#learnShape(shape, row));
    yield* this.#leftInPages();
    yield* this.#leftInImages();
    if (this.#budget.left < 0)
      this.#database.notes.push("What is left of deleted rows was not looked for to the end: too much of it can be read in too many ways.");
    if (this.#isFull)
      this.#database.notes.push(
        "It has more rows than are compared here: some that are given as deleted may count, or be given twice, and some are left out.",
      );
    for (const { remain, content } of this.#kept) {
      if (this.#contents.has(content)) continue;
      this.#remember(this.#contents, content);
      yield remain;
    }
  }

  #remember(set: NumberSet, hash: number): void {
    if (set.size < MOST_KNOWN) set.add(hash);
    else this.#isFull = true;
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
      if (this.#learns) this.#learn(tree.shape, row);
      this.#count(tree, row.rowid);
      if (wanted) yield this.#rowOf(tree, row, "live");
    }
    if (tree.broken && wanted) this.#database.notes.push(`Pages of ${tree.name ? `“${tree.name}”` : "a table"} are damaged or missing.`);
  }

  /** Keeps row numbers where they will be needed: when pages of the table are missing. */
  #count(tree: Tree, rowid: number | bigint | null): void {
    if (typeof rowid !== "number" || !this.#database.isDamaged) return;
    const numbers = this.#numbers.get(tree) ?? new NumberSet();
    this.#numbers.set(tree, numbers);
    this.#remember(numbers, rowid);
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
    const numbered = entries.filter(({ bytes, bodyAt, end, types }) => {
      const last = this.#database.values(NO_TABLE, bytes, bodyAt, end, types, null).at(-1);
      return typeof last === "number" && known.some((numbers) => numbers.has(last));
    });
    return numbered.length > entries.length / 2;
  }

  #learn(shape: Shape, row: LiveRow): void {
    const { bytes, bodyAt, end, types, rowid } = row;
    const content = contentHash(bytes, types, bodyAt, end);
    // Remains of index entries are given to nobody.
    if (!shape.isIndex) {
      this.#remember(this.#known, withRowId(content, rowid));
      this.#remember(this.#contents, content);
    }
    this.#learnShape(shape, row);
  }

  #learnShape(shape: Shape, { bytes, bodyAt, end, types }: LiveRow): void {
    // After so many rows, one of a few says what others look like.
    if (shape.rows > LEARNT_ALL && shape.learnsAlready(types)) return;
    const places: number[] = [];
    let at = bodyAt;
    const { encoding } = this.#database;
    for (const type of types) {
      places.push(at);
      if (encoding !== "utf8" && type >= 13 && type % 2 === 1) {
        const until = Math.min(end, at + lengthOf(type));
        for (let i = at + (encoding === "utf16le" ? 1 : 0); i < until; i += 2) this.#scripts[bytes[i] as number] = 1;
      }
      at += lengthOf(type);
    }
    shape.learn(types, (i) => {
      const place = places[i] as number;
      const type = types[i] as number;
      return place + lengthOf(type) > end ? 0 : Number(readValue(bytes, place, type, "utf8"));
    });
  }

  /** What entries of an index look like: so that what is left of them is not taken for rows. */
  #learnIndex(tree: Tree): void {
    if (!this.options.deleted) return;
    let learnt = 0;
    for (const row of this.#database.rowsOf(tree)) {
      if (learnt++ > MOST_LEARNT) continue;
      this.#learn(tree.shape, row);
    }
  }

  #rowOf(tree: Tree, row: LiveRow, state: Row["state"]): Row {
    const { name, root, statement } = tree;
    const { values, page, cell, whole } = row;
    return {
      table: name,
      root,
      columns: columnsOf(statement, values.length),
      values,
      rowid: row.rowid,
      state,
      confidence: whole ? "whole" : "part",
      uncommitted: this.#uncommitted,
      former: this.#isFormer(tree),
      at: page.at + cell.at,
      from: page.from,
    };
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
      const fitting = this.#treeFor(rows, head.kind === KIND.leafTable, trees);
      const tree =
        fitting ??
        (database.isNameless ? this.#nameless(number, kind === KIND.leafTable, kind === KIND.leafIndex && this.#isIndex(rows)) : null);
      // Rows of a table that is complete, or whose numbers others have, were deleted.
      if (!tree || (fitting && (!tree.broken || this.#areKnown(tree, rows)))) continue;
      database.owners[number] = database.trees.indexOf(tree) + 1;
      for (const row of rows) {
        const full: LiveRow = { ...row, values: database.values(tree, row.bytes, row.bodyAt, row.end, row.types, row.rowid) };
        if (this.#learns) this.#learn(tree.shape, full);
        this.#count(tree, row.rowid);
        if (!tree.shape.isIndex && this.#wanted(tree.name)) yield this.#rowOf(tree, full, "live");
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

  /** What is left in the pages as they are now: in the room between rows, and on free pages. */
  *#leftInPages(): Generator<Row> {
    const database = this.#database;
    for (let number = 1; number <= database.count; number += 1) {
      const page = database.pages.get(number);
      if (!page) continue;
      const counts = Boolean(database.owners[number]);
      yield* this.#leftIn(page, this.#ownerOf(number), counts, database.roles[number] ?? 0, this.#former?.ownerOf(number) != null);
    }
  }

  /** What is left in what pages were before. */
  *#leftInImages(): Generator<Row> {
    const { journal, pages } = this.#database;
    for (const { page: number, at, from, uncommitted } of imagesOf(this.#database)) {
      this.#uncommitted = uncommitted;
      this.#torn = from === "main" && journal?.hot === true && pages.placeOf(number).from === "journal";
      const page = pages.read(number, from, at);
      const owner = this.#ownerOf(number);
      const then = page && owner && (this.#former?.tableAt(page, owner.root) ?? null);
      if (page) yield* this.#leftIn(page, then ?? owner, false, 0, then !== null);
    }
  }

  /** The table a page belongs to, or belonged to before it became free; null: none is known. */
  #ownerOf(number: number): Tree | null {
    const { trees, owners } = this.#database;
    return trees[(owners[number] ?? 0) - 1] ?? this.#former?.ownerOf(number) ?? null;
  }

  #isAmbiguous(shape: Shape, types: readonly number[]): boolean {
    return this.#former?.isAmbiguous(shape, types) ?? false;
  }

  /** Whether a page was an inner one of a former table in the end: where its own entries stood is not known, and rows left from before may be overwritten by them. */
  #wasInner(tree: Tree, page: Page): boolean {
    return tree.root === page.number && tree.shape.rows > 0 && this.#isFormer(tree);
  }

  #isFormer(tree: Tree): boolean {
    return this.#former?.trees.includes(tree) ?? false;
  }

  /**
   * @param counts whether the cells the page names count: only what is between them is left over
   * @param isSure whether the cells it names are rows of the owner
   */
  *#leftIn(page: Page, owner: Tree | null, counts: boolean, role: number, isSure: boolean): Generator<Row> {
    const { usable } = this.#database;
    // The rest of a row is that row's; what stands behind its end is not looked at.
    if (role === 1 && !counts) return;
    const shapes = this.#shapes(owner);
    const head = role === 2 ? null : readPageHead(page, usable);
    const used: [number, number][] = [];
    let from = page.header;
    let starts: ReadonlySet<number> = new Set();
    if (head) {
      from = head.pointersEnd;
      starts = new Set(head.freeBlocks);
      if (head.kind === KIND.interiorTable) for (const at of head.cells) used.push([at, at + 5]);
      else if (counts) used.push(...this.#room(page, head.kind, head.cells));
      else if (!head.sound) from = page.header + 8;
      else
        for (const row of rowsIn(this.#database, page)) {
          const isOwn = isSure && owner && fitsShape(owner.shape, row.types);
          const shape = isOwn ? owner.shape : likest(shapes, row.types, head.kind === KIND.leafTable);
          if (!shape) continue;
          if (!shape.isIndex) yield* this.#offerRow(shape, row, owner, isOwn ? "own" : "cell");
          used.push([row.cell.at, row.cell.end]);
        }
    } else if (role === 2) from = Math.min(usable, 8 + 4 * page.bytes.readUInt32BE(4));
    used.sort(([a], [b]) => a - b);
    for (const [start, end] of [...used, [usable, usable] as const]) {
      if (start - from > 4) yield* this.#carved(page, from, start, starts, owner, shapes);
      from = Math.max(from, end);
    }
  }

  /** Where the cells of a page stand. */
  #room(page: Page, kind: number, offsets: readonly number[]): [number, number][] {
    const cell = emptyCell();
    return offsets.flatMap((at): [number, number][] => (readCell(page, at, kind, this.#database.usable, cell) ? [[at, cell.end]] : []));
  }

  *#carved(
    page: Page,
    from: number,
    to: number,
    starts: ReadonlySet<number>,
    owner: Tree | null,
    shapes: readonly Shape[],
  ): Generator<Row> {
    const { bytes } = page;
    let [first, last] = [from, to];
    while (first < last && bytes[first] === 0) first += 1;
    while (last > first && bytes[last - 1] === 0) last -= 1;
    if (last - first < 5) return;
    // A cell may begin or end with zeros.
    const stretch = {
      bytes,
      usable: this.#database.usable,
      encoding: this.#database.encoding,
      from: Math.max(from, first - 8),
      to: Math.min(to, last + 16),
      starts,
      scripts: this.#scripts,
      shapes,
      budget: this.#budget,
    };
    for (const remain of carve(stretch)) if (!remain.shape.isIndex) yield* this.#offerRemain(page, remain, owner);
  }

  /** The shapes rows may have, that of the page's own tree first; of former tables those of which rows are known. */
  #shapes(owner: Tree | null): Shape[] {
    const former = this.#former?.trees.filter(({ shape }) => shape.rows > 0) ?? [];
    const all = [...this.#database.trees, ...former].filter(({ shape }) => shape.count > 0).map(({ shape }) => shape);
    const others = all.sort((a, b) => b.rows - a.rows).filter((shape) => shape !== owner?.shape);
    return (owner && owner.shape.count > 0 ? [owner.shape, ...others] : others).slice(0, MOST_SHAPES);
  }

  #treeOf(shape: Shape): Tree {
    const isIts = (tree: Tree) => tree.shape === shape;
    return (this.#database.trees.find(isIts) ?? this.#former?.trees.find(isIts)) as Tree;
  }

  /**
   * A whole cell that does not count any more.
   * @param standing whether the page is known to have been its table's when it named the cell, or named it, or does so no more
   */
  *#offerRow(shape: Shape, row: LiveRow, owner: Tree | null, standing: "own" | "cell" | "remain"): Generator<Row> {
    const { bytes, types, bodyAt, rowid } = row;
    const end = soundEnd(types, bytes, bodyAt, row.end, row.cell, this.#database.encoding);
    const content = contentHash(bytes, types, bodyAt, end);
    const key = withRowId(content, rowid);
    if (this.#known.has(key)) return;
    const tree = this.#treeOf(shape);
    const waits = standing === "remain" && this.#wasInner(tree, row.page);
    if (!waits) {
      this.#remember(this.#known, key);
      this.#remember(this.#contents, content);
    }
    if (!this.#wanted(tree.name)) return;
    const values = this.#database.values(tree, bytes, bodyAt, end, types, rowid);
    if (!isKnown(values)) return;
    const found = this.#rowOf(tree, { ...row, values, whole: row.whole && end === row.end }, "deleted");
    // Between the rows of a page that was half written two states of it may stand in one another.
    const doubtful =
      (standing === "remain" && (this.#torn || saysLittle(types))) ||
      (standing !== "own" && this.#isAmbiguous(shape, types)) ||
      (standing !== "own" && owner?.shape !== shape && fitsAnything(shape, types)) ||
      mayBeIndexEntry(shape, types, owner?.shape ?? null, this.#indexes) ||
      isUnlikely(shape, types, bytes, bodyAt, end) ||
      endsInZeros(types, bytes, bodyAt, end);
    if (waits) this.#keep({ ...found, confidence: "guess" }, content);
    else yield doubtful ? { ...found, confidence: "guess" } : found;
  }

  *#offerRemain(page: Page, remain: Remain, owner: Tree | null): Generator<Row> {
    const { shape, left, rowid, types, at, guessed } = remain;
    const tree = this.#treeOf(shape);
    const { cell, bytes, body, end: read, whole } = remainedRecord(this.#database, page, remain);
    const end = soundEnd(types, bytes, body, read, cell, this.#database.encoding);
    const content = contentHash(bytes, types, body, end);
    if (left === "cell") {
      yield* this.#offerRow(shape, { page, cell, bytes, bodyAt: body, end: read, types, whole, rowid, values: [] }, owner, "remain");
      return;
    }
    if (!this.#wanted(tree.name) || this.#contents.has(content)) return;
    const values = this.#database.values(tree, bytes, body, end, types, null);
    if (!isKnown(values)) return;
    const row: Row = {
      table: tree.name,
      root: tree.root,
      columns: columnsOf(tree.statement, values.length),
      values,
      rowid: null,
      state: "deleted",
      confidence:
        guessed > 0 ||
        this.#isAmbiguous(shape, types) ||
        mayBeIndexEntry(shape, types, owner?.shape ?? null, this.#indexes) ||
        isUnlikely(shape, types, bytes, body, end)
          ? "guess"
          : whole && end === read && left === "record" && !shape.hasRowId
            ? "whole"
            : "part",
      uncommitted: this.#uncommitted,
      former: this.#isFormer(tree),
      at: page.at + at,
      from: page.from,
    };
    this.#keep(row, content);
  }

  /** Keeps a remain that is given only if nothing better of it is found. */
  #keep(remain: Row, content: number): void {
    if (this.#kept.length < MOST_KEPT) this.#kept.push({ remain, content });
    else this.#isFull = true;
  }
}

/** Shapes that are tried: those with the most rows. */
const MOST_SHAPES = 64;
/** Ways to read bytes as a row that are tried at most; a page full of remains of rows takes some twenty a byte. */
const LEAST_READINGS = 5_000_000;
const READINGS_A_BYTE = 200;
/** Entries of a tree that say whether it is an index. */
const SAMPLED = 1000;
/** Rows all of which are looked at to know what rows of a table look like. */
const LEARNT_ALL = 20_000;
/** Entries of an index from which its shape is learnt. */
const MOST_LEARNT = 1_000_000;

const NO_TABLE = { shape: new Shape(null, null, true, false, []), statement: null };

/** Whether anything of a row stands. */
const isKnown = (values: readonly (Value | undefined)[]) => values.some((value) => value !== undefined && value !== null);
