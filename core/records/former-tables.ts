import { crc32 } from "node:zlib";
import { imagesOf, type PageImageAt } from "./images";
import { remainedRecord } from "./remained-record";
import { carve } from "./sqlite/carve";
import { KIND, readCell, readPageHead } from "./sqlite/cell";
import { type Database, emptyCell, type LiveRow, type Tree, tableTree } from "./sqlite/database";
import type { Page } from "./sqlite/pages";
import { classOf, NULL, type Value } from "./sqlite/record";
import { fitsShape, Shape } from "./sqlite/shape";
import { type Column, parseTable, type TableStatement } from "./sqlite/statement";

/** Earlier forms of tables that are taken into account. */
const MOST_FORMER = 200;
/** Tables that are there which rows are compared with. */
const MOST_PRESENT = 256;
/** Lists of tables of other times that are read. */
const MOST_LISTS = 4096;
/** Entries of the list of tables that are looked at. */
const MOST_ENTRIES = 20_000;
/** What a table that was dropped, or is declared otherwise now, was declared by. */
const DECLARES = /^\s*create\s+(?:temp(?:orary)?\s+)?table\b/i;

/** How what stands in bytes that no row uses is looked at. */
export interface Carving {
  readonly scripts: Uint8Array;
  readonly budget: { left: number };
}

/**
 * Tables as they were before they were dropped, made anew or changed: by what is left of the list of tables (SQLite file format 2.6), and then by the pages their
 * own roots lead to, and by pages whose rows look like theirs alone. Their rows stand on free pages, and in older images of pages.
 */
export class FormerTables {
  readonly trees: Tree[];
  /** Free pages that were theirs. */
  readonly #owners = new Map<number, Tree>();
  /** Whether any of them has a declaration. */
  readonly #isChanged: boolean;
  /** Inner pages that were gone through. */
  readonly #inner = new Set<number>();
  /** Tables that are there, those with the most rows. */
  readonly #present: readonly Tree[];
  /** By the place of a list of tables: tables by the page they began with. */
  readonly #lists = new Map<string, Map<number, Tree>>();

  /** @param learn is called with each row that is surely one of them */
  constructor(
    private readonly database: Database,
    carving: Carving,
    learn: (shape: Shape, row: LiveRow) => void,
  ) {
    const images = imagesOf(database);
    this.trees = formerTables(this.#entries(images, carving), database.trees);
    this.#isChanged = this.trees.length > 0;
    const present = database.trees.filter(({ shape }) => shape.count > 0);
    this.#present = present.sort((a, b) => b.shape.rows - a.shape.rows).slice(0, MOST_PRESENT);
    for (const tree of this.trees) for (const leaf of this.#leavesFrom(tree)) for (const row of leaf.rows) learn(tree.shape, row);
    const learnFrom = (page: Page | null) => {
      const leaf = page && soundLeaf(database, page);
      const tree = leaf && this.#fittedAlone(leaf);
      if (tree) for (const row of leaf.rows) learn(tree.shape, row);
    };
    const free = [...this.#freePages()];
    if (this.#isChanged) {
      for (const number of free) learnFrom(database.pages.get(number));
      for (const { page, at, from } of images) learnFrom(database.pages.read(page, from, at));
    }
    for (const number of free) {
      const page = database.pages.get(number);
      const leaf = page && !this.#firstFits(page, this.#present) ? soundLeaf(database, page) : null;
      const tree = leaf && this.#nameless(leaf, number);
      if (!tree) continue;
      this.#owners.set(number, tree);
      for (const row of leaf.rows) learn(tree.shape, row);
    }
  }

  /** Pages that are free now, and are not known to have been a former table's. */
  *#freePages(): Generator<number> {
    const { roles, count } = this.database;
    for (let number = 2; number <= count; number += 1) if (roles[number] === 3 && !this.#owners.has(number)) yield number;
  }

  /** The table without a name or a declaration that a free page of whole rows was of: one that looks alike, or a new one; null: they are rows of a table that is known. */
  #nameless({ hasRowId, rows }: Leaf, number: number): Tree | null {
    if (!hasRowId) return null;
    const isTheirs = ({ shape }: Tree) => shape.hasRowId && rows.some(({ types }) => fitsShape(shape, types));
    const nameless = this.trees.filter(({ name }) => name === null);
    const alike = nameless.find(({ shape }) => rows.every(({ types }) => looksAlike(shape, types)));
    if (alike) return alike;
    if (this.trees.length >= MOST_FORMER || this.#present.some(isTheirs) || this.trees.some((tree) => tree.name !== null && isTheirs(tree)))
      return null;
    const made: Tree = { name: null, root: number, shape: new Shape(null, null, true, false, []), statement: null, broken: false };
    this.trees.push(made);
    return made;
  }

  /** The former table whose page this was before it became free; null: none is known. */
  ownerOf(number: number): Tree | null {
    return this.#owners.get(number) ?? null;
  }

  /**
   * The table that began with a page when another page was what an image of it says: by the list of tables of that time.
   * @returns null where that list does not say
   */
  tableAt(image: Page, root: number): Tree | null {
    if (!this.#isChanged) return null;
    const { pages } = this.database;
    const { from, at } = pages.placeBeside(1, image);
    const key = `${from} ${at}`;
    let roots = this.#lists.get(key);
    if (!roots) {
      if (this.#lists.size >= MOST_LISTS) return null;
      roots = this.#rootsBy(pages.read(1, from, at));
      this.#lists.set(key, roots);
    }
    return roots.get(root) ?? null;
  }

  /** Tables by the page they begin with, by an image of the first page. */
  #rootsBy(first: Page | null): Map<number, Tree> {
    const { database } = this;
    const roots = new Map<number, Tree>();
    const list = database.trees[0];
    for (const { bytes, bodyAt, end, types, rowid } of first && list ? rowsIn(database, first) : []) {
      const declared = declaredBy(database.values(list as Tree, bytes, bodyAt, end, types, rowid));
      if (!declared || declared.root < 2) continue;
      const isIts = (tree: Tree) => tree.statement !== null && isOneTable(tree, declared) && isReadBy(declared.statement, tree.statement);
      const tree = database.trees.find(isIts) ?? this.trees.find(isIts);
      if (tree) roots.set(declared.root, tree);
    }
    return roots;
  }

  /** Whether a table that is there had other columns once, as which rows like its own can be read, too. */
  isAmbiguous(shape: Shape, types: readonly number[]): boolean {
    const { trees } = this.database;
    const own = trees.find((tree) => tree.shape === shape) ?? this.trees.find((tree) => tree.shape === shape);
    if (!own?.statement) return false;
    return [...trees, ...this.trees].some(
      (tree) => tree !== own && tree.statement && isOneTable(tree, own) && fitsShape(tree.shape, types),
    );
  }

  /** What is left of the list of tables: in its pages, in free ones that were its, and in their older images. */
  *#entries(images: readonly PageImageAt[], carving: Carving): Generator<readonly (Value | undefined)[]> {
    const { owners, roles, pages, count, trees } = this.database;
    const list = trees[0];
    if (!list) return;
    for (let number = 1; number <= count; number += 1) {
      if (owners[number] !== 1 && roles[number] !== 3) continue;
      const page = pages.get(number);
      if (!page) continue;
      if (owners[number] !== 1 && !this.#firstFits(page, [list])) continue;
      const leaf = owners[number] === 1 ? null : soundLeaf(this.database, page);
      if (owners[number] === 1 || (leaf && fitsAll(leaf, list))) yield* this.#entriesIn(page, list, carving);
    }
    // What its pages say changes much more seldom than they do.
    const seen = new Set<number>();
    for (const { page: number, at, from } of images) {
      const page = owners[number] === 1 || number === 1 ? pages.read(number, from, at) : null;
      const sum = page && crc32(page.bytes.subarray(page.header));
      if (!page || sum === null || seen.has(sum)) continue;
      seen.add(sum);
      yield* this.#entriesIn(page, list, carving);
    }
  }

  *#entriesIn(page: Page, list: Tree, { scripts, budget }: Carving): Generator<readonly (Value | undefined)[]> {
    const { database } = this;
    const { usable, encoding } = database;
    for (const { bytes, bodyAt, end, types, rowid } of rowsIn(database, page))
      yield database.values(list, bytes, bodyAt, end, types, rowid);
    const head = readPageHead(page, usable);
    const from = head?.pointersEnd ?? page.header + 8;
    const starts = new Set(head?.freeBlocks ?? []);
    const shapes = [list.shape];
    for (const remain of carve({ bytes: page.bytes, usable, encoding, from, to: usable, starts, scripts, shapes, budget })) {
      const { bytes, body, end } = remainedRecord(database, page, remain);
      yield database.values(list, bytes, body, end, remain.types, remain.rowid);
    }
  }

  /** Whether the first row of a page looks like one of a table: of very many pages it is all that has to be read. */
  #firstFits(page: Page, trees: readonly Tree[]): boolean {
    const isLeafTable = readPageHead(page, this.database.usable)?.kind === KIND.leafTable;
    for (const { types } of rowsIn(this.database, page))
      return trees.some(({ shape }) => shape.hasRowId === isLeafTable && fitsShape(shape, types));
    return false;
  }

  /** Goes from the root of a former table through pages that are free now, as far as they are still what they were. */
  *#leavesFrom(tree: Tree): Generator<Leaf> {
    const { owners, roles, pages, usable, count } = this.database;
    const waiting = [tree.root];
    for (let number = waiting.pop(); number !== undefined; number = waiting.pop()) {
      if (number < 2 || number > count || owners[number] || roles[number] === 1 || this.#owners.has(number)) continue;
      const page = pages.get(number);
      if (!page) continue;
      // The page that was freed first is a list of the others now: what is left of its rows stands behind that.
      const head = roles[number] === 2 ? null : readPageHead(page, usable);
      if (!head && number === tree.root) this.#owners.set(number, tree);
      if (!head) continue;
      const isInner = head.kind === KIND.interiorTable || head.kind === KIND.interiorIndex;
      // Taken off the list of what is free for it: pages that lead to one another are gone through once.
      if (isInner) {
        if (this.#inner.has(number)) continue;
        this.#inner.add(number);
        waiting.push(head.right, ...head.cells.map((at) => page.bytes.readUInt32BE(at)));
      }
      const leaf = soundLeaf(this.database, page);
      if (!leaf || !mayBeOf(leaf, tree)) continue;
      this.#owners.set(number, tree);
      yield leaf;
    }
  }

  /** The former table that a page of whole rows must be of, because those of no other look like it; null: there is none, or several. */
  #fittedAlone(leaf: Leaf): Tree | null {
    const [only, ...more] = this.trees.filter((tree) => fitsAll(leaf, tree));
    if (!only || more.length > 0) return null;
    return this.#present.some((tree) => fitsAll(leaf, tree)) ? null : only;
  }
}

/** The rows of a page that is a sound leaf. */
interface Leaf {
  readonly hasRowId: boolean;
  readonly rows: readonly LiveRow[];
}

/** Reads a page of rows, each of which can be read; null: it is none. */
function soundLeaf(database: Database, page: Page): Leaf | null {
  const head = readPageHead(page, database.usable);
  if (!head?.sound || head.cells.length === 0 || head.kind === KIND.interiorTable) return null;
  const rows = [...rowsIn(database, page)];
  return rows.length === head.cells.length ? { hasRowId: head.kind === KIND.leafTable, rows } : null;
}

/** Whether all rows of a page look like those of a table. */
const fitsAll = ({ hasRowId, rows }: Leaf, { shape }: Tree): boolean =>
  hasRowId === shape.hasRowId && rows.every(({ types }) => fitsShape(shape, types));

/**
 * Whether a page that the root of a table leads to is still a leaf of it: all rows have its number of fields, and half of them or more what its columns are
 * declared for. (A column may hold other things than it is declared for.)
 */
function mayBeOf({ hasRowId, rows }: Leaf, { shape, statement }: Tree): boolean {
  if (hasRowId !== shape.hasRowId) return false;
  const alias = shape.columns.indexOf(statement?.alias ?? -1);
  let fitting = 0;
  for (const { types } of rows) {
    if (types.length > shape.count || types.length === 0 || (types[alias] ?? 0) !== 0) return false;
    if (fitsShape(shape, types)) fitting += 1;
  }
  return fitting * 2 >= rows.length;
}

/** Whether a row has as many fields as others of a table without a declaration, and each of a class that one of those has, or is empty. */
const looksAlike = ({ fields }: Shape, types: readonly number[]) =>
  types.length === fields.length &&
  types.every((type, i) => type === 0 || ((fields[i]?.seen ?? 0) & ~NULL) === 0 || (classOf(type) & (fields[i]?.seen ?? 0)) !== 0);

const NO_TABLE = { shape: new Shape(null, null, true, false, []), statement: null };

/** The rows that the cells of a page hold, whatever table they are of. */
export function* rowsIn(database: Database, page: Page): Generator<LiveRow> {
  const head = readPageHead(page, database.usable);
  if (!head || head.kind === KIND.interiorTable) return;
  const cell = emptyCell();
  for (const at of head.cells) {
    if (!readCell(page, at, head.kind, database.usable, cell)) continue;
    const row = database.rowAt(NO_TABLE, page, cell, [], false);
    if (row) yield { ...row, cell: { ...cell } };
  }
}

/** A column as far as rows depend on it. */
const columnForm = ({ name, affinity, virtual }: Column) => `${name.toLowerCase()} ${affinity} ${virtual}`;

/** Whether rows by one declaration can be read by another: it is the same, or had columns added at its end. */
function isReadBy(own: TableStatement, other: TableStatement): boolean {
  const { columns, alias, withoutRowId, key } = own;
  if (columns.length > other.columns.length || alias !== other.alias || withoutRowId !== other.withoutRowId) return false;
  if (withoutRowId && (columns.length !== other.columns.length || key.join() !== other.key.join())) return false;
  return columns.every((column, i) => columnForm(column) === columnForm(other.columns[i] as Column));
}

interface Declared {
  readonly name: string;
  /** 0: not known. */
  readonly root: number;
  readonly statement: TableStatement;
}

/** Whether two are of one table, at one time or another: they have its name, or begin at the same page, where it was renamed. */
const isOneTable = (one: Pick<Tree, "name" | "root">, other: Pick<Tree, "name" | "root">) =>
  one.name?.toLowerCase() === other.name?.toLowerCase() || (one.root > 1 && one.root === other.root);

/** The table that an entry of the list declares. @param entry values of the list's columns; null: none, or not to its end */
function declaredBy([, name, , root, sql]: readonly (Value | undefined)[]): Declared | null {
  if (typeof name !== "string" || typeof sql !== "string" || !DECLARES.test(sql) || name.startsWith("sqlite_") || !isClosed(sql))
    return null;
  const statement = parseTable(sql);
  return statement && statement.columns.length > 0 ? { name, root: typeof root === "number" ? root : 0, statement } : null;
}

/** The tables that entries of the list declare otherwise than those that are there. */
function formerTables(entries: Iterable<readonly (Value | undefined)[]>, present: readonly Tree[]): Tree[] {
  let found: Declared[] = [];
  let looked = 0;
  for (const entry of entries) {
    if (looked++ >= MOST_ENTRIES) break;
    const declared = declaredBy(entry);
    if (!declared) continue;
    const isKnown = (other: Pick<Tree, "name" | "root" | "statement">) =>
      isOneTable(declared, other) && other.statement !== null && isReadBy(declared.statement, other.statement);
    if (present.some(isKnown) || found.some(isKnown)) continue;
    found = found.filter((other) => !(isOneTable(declared, other) && isReadBy(other.statement, declared.statement)));
    if (found.length < MOST_FORMER) found.push(declared);
  }
  return found.map(({ name, root, statement }) => tableTree(name, root, statement));
}

/** Whether a statement stands to its end: of one that was cut off the last columns would be missing. */
const isClosed = (sql: string) => /\)\s*(?:without\s+rowid|strict|,|\s)*;?\s*$/i.test(sql);
