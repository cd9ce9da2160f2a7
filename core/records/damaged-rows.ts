import { rowsIn } from "./former-tables";
import { indexedRows } from "./indexed-rows";
import type { LearntRows } from "./learnt-rows";
import { NumberSet } from "./number-set";
import { contentHash, withRowId } from "./row-hash";
import { carve, type Remain, type Stretch } from "./sqlite/carve";
import { KIND, type PageHead, readCell, readPageHead } from "./sqlite/cell";
import { type Database, emptyCell, type LiveRow, type Tree } from "./sqlite/database";
import type { Page } from "./sqlite/pages";
import { fitsShape, Shape } from "./sqlite/shape";

/** A row that counts, and its table. */
export interface CountingRow {
  readonly tree: Tree;
  readonly row: LiveRow;
  /** Whether it may as well be of another table that is alike. */
  readonly isUnsure: boolean;
}

/** Share of the rows of a page that look like those of a table, when the page is that table's. */
const MOST_OF_THEM = 0.9;

/**
 * Rows of a damaged database that count, and to which the pages of their table do not lead any more: on pages whose list of rows is damaged, and on
 * pages that nothing names because those that did are damaged.
 */
export class DamagedRows {
  /** Row numbers by table, where pages of one are missing. */
  readonly #numbers = new Map<Tree, NumberSet>();
  /** Numbers of rows of which it is not known which of several tables they are of. */
  readonly #unsure = new NumberSet();

  /** @param budget readings of bytes as a row that may still be tried */
  constructor(
    private readonly database: Database,
    private readonly learnt: LearntRows,
    private readonly budget: { left: number },
  ) {}

  /** Keeps the numbers of the rows the tables lead to: only when all was read is it known whether they will be needed. */
  #readNumbers(): void {
    if (this.#numbers.size > 0) return;
    for (const tree of this.database.trees)
      if (!tree.shape.isIndex) for (const { rowid } of this.database.rowsOf(tree)) this.#count(tree, rowid);
  }

  #count(tree: Tree, rowid: number | bigint | null): void {
    if (typeof rowid !== "number") return;
    const numbers = this.#numbers.get(tree) ?? new NumberSet();
    this.#numbers.set(tree, numbers);
    this.learnt.remember(numbers, rowid);
  }

  /** Numbers that may be another table's say nothing of this one. */
  #countUnless(isUnsure: boolean, tree: Tree, rowid: number | bigint | null): void {
    if (!isUnsure) this.#count(tree, rowid);
    else if (typeof rowid === "number") this.learnt.remember(this.#unsure, rowid);
  }

  /** Whether most of these are entries of an index: one ends with the number of a row. */
  isIndex(entries: readonly LiveRow[]): boolean {
    const known = [...this.#numbers.values()];
    const numbered = entries.filter(({ values }) => {
      const last = values.at(-1);
      return typeof last === "number" && known.some((numbers) => numbers.has(last));
    });
    return numbered.length > entries.length / 2;
  }

  /** Finds rows of which only what indexes have of them is left. After all others. */
  *inIndexes(): Generator<CountingRow> {
    // Of more rows than are remembered it is not known which are missing.
    if (!this.database.isDamaged || this.learnt.isFull) return;
    yield* indexedRows(this.database, (tree, rowid) => this.#numbers.get(tree)?.has(rowid) || this.#unsure.has(rowid));
  }

  /** Finds rows of a kind of leaf to which nothing leads any more because the pages that did are damaged: unless others of the same number count. */
  *unreached(kind: number): Generator<CountingRow> {
    const { database } = this;
    if (!database.isDamaged) return;
    this.#readNumbers();
    for (let number = 2; number <= database.count; number += 1) {
      if (database.owners[number] || database.roles[number]) continue;
      const page = database.pages.get(number);
      const head = page && readPageHead(page, database.usable);
      if (!page || !head?.sound || head.cells.length === 0 || head.kind !== kind) continue;
      const rows = [...rowsIn(database, page)];
      // A page most of whose rows are none was something else.
      if (rows.length * 2 < head.cells.length) continue;
      const found = this.#ownerOf(rows, kind);
      if (!found) continue;
      const tree = found === "nameless" ? this.#nameless(number, kind, rows) : found.tree;
      database.owners[number] = database.trees.indexOf(tree) + 1;
      for (const row of rows) {
        const { bytes, bodyAt, end, types, rowid } = row;
        const full: LiveRow = { ...row, values: database.values(tree, bytes, bodyAt, end, types, rowid) };
        const isUnsure = found !== "nameless" && found.isUnsure;
        this.learnt.learn(tree.shape, full);
        this.#countUnless(isUnsure, tree, rowid);
        if (!tree.shape.isIndex) yield { tree, row: full, isUnsure };
      }
    }
  }

  /**
   * The table that rows are of to which nothing leads: one with missing pages, all of whose numbers are others.
   * @returns null: they may have been deleted
   */
  #ownerOf(rows: readonly LiveRow[], kind: number): { tree: Tree; isUnsure: boolean } | "nameless" | null {
    const { isNameless, hasLostTables, isFreeListWhole, trees } = this.database;
    const alike = trees
      .filter(({ shape }) => shape.hasRowId === (kind === KIND.leafTable) && shape.count > 0)
      .map((tree) => ({ tree, fits: rows.filter(({ types }) => fitsShape(tree.shape, types)).length }))
      .filter(({ fits }) => fits >= rows.length * MOST_OF_THEM)
      .sort((a, b) => b.fits - a.fits);
    const open = alike.filter(({ tree }) => tree.broken && !this.#areKnown(tree, rows));
    // Where all free pages are known, one that is not free is of a table that misses it.
    const [best] = isFreeListWhole ? open : open.filter(({ tree }) => tree === alike[0]?.tree);
    if (best) return { tree: best.tree, isUnsure: open.some(({ tree, fits }) => tree !== best.tree && fits === best.fits) };
    return hasLostTables && (alike.length === 0 || !isNameless || isFreeListWhole) ? "nameless" : null;
  }

  #areKnown(tree: Tree, rows: readonly LiveRow[]): boolean {
    const numbers = this.#numbers.get(tree);
    return numbers !== undefined && rows.some(({ rowid }) => typeof rowid === "number" && numbers.has(rowid));
  }

  #nameless(root: number, kind: number, rows: readonly LiveRow[]): Tree {
    const shape = new Shape(null, null, kind === KIND.leafTable, kind === KIND.leafIndex && this.isIndex(rows), []);
    const tree: Tree = { name: null, root, shape, statement: null, broken: true };
    this.database.trees.push(tree);
    return tree;
  }

  /**
   * Finds the rows of pages whose list of rows is damaged, by the form of their table's rows: those that stand whole, whose number lies where the page above
   * says and which nothing else has.
   */
  *onDamagedPages(): Generator<CountingRow> {
    const { database } = this;
    for (const { tree, number, after, upTo } of database.damagedPages.values()) {
      const page = database.pages.get(number);
      const isOthers = database.owners[number] !== 0 && database.trees[(database.owners[number] as number) - 1] !== tree;
      // What is free, or the rest of a row, was reached by a pointer that is damaged.
      if (!page || isOthers || database.roles[number] || !isSearched(tree)) continue;
      const head = readPageHead(page, database.usable);
      if (head?.kind === KIND.interiorTable) continue;
      const all = this.#foundIn(page, this.#unlistedIn(page, head), tree).filter(({ row }) => isWithin(row.rowid, after, upTo));
      // A sound list says how many there are.
      const missing = head?.sound ? page.bytes.readUInt16BE(page.header + 3) - [...rowsIn(database, page)].length : all.length;
      const found = all.length <= missing ? all : [];
      yield* this.#counted(found);
      if (found.length > 0) database.owners[number] = database.trees.indexOf(tree) + 1;
    }
    if (database.isFreeListWhole) yield* this.#onStrayPages();
  }

  /** Finds rows on pages without a list of rows to which nothing leads: since they are not free, they are of a table that misses pages. */
  *#onStrayPages(): Generator<CountingRow> {
    const { database } = this;
    const open = database.trees.filter((tree) => tree.broken && isSearched(tree)).slice(0, MOST_SEARCHED);
    if (open.length === 0) return;
    for (let number = 2; number <= database.count && this.budget.left >= 0; number += 1) {
      const page = database.owners[number] || database.roles[number] ? null : database.pages.get(number);
      const head = page && readPageHead(page, database.usable);
      if (!page || (head && head.kind !== KIND.leafTable)) continue;
      const stretches: [number, number][] = [[head?.pointersEnd ?? page.header + 8, database.usable]];
      // All rows of a page are of one table.
      const found = open.map((tree) => this.#foundIn(page, stretches, tree)).sort((a, b) => b.length - a.length);
      const [most = [], second = []] = found;
      const ends = new Set(most.flatMap(({ row: { cell } }) => [cell.at, -cell.end]));
      // A row that was moved away may still stand on its page, so that one number more or less decides nothing.
      // Bytes of something else may look like one row by chance; rows of a page lie side by side.
      const side = most.filter(({ row: { cell } }) => ends.has(cell.end) || ends.has(-cell.at));
      yield* this.#counted(side.map((each) => ({ ...each, isUnsure: second.length * 2 >= most.length })));
    }
  }

  *#counted(found: readonly CountingRow[]): Generator<CountingRow> {
    for (const each of found) {
      // Now that it is known to count, the pages it goes on to are its own.
      const row = this.database.rowAt(each.tree, each.row.page, each.row.cell, []) ?? each.row;
      this.learnt.learn(each.tree.shape, row);
      this.#countUnless(each.isUnsure, each.tree, row.rowid);
      yield { ...each, row };
    }
  }

  /** The rows of a table in stretches of a page that nothing else has. */
  #foundIn(page: Page, stretches: readonly [number, number][], tree: Tree): CountingRow[] {
    const found: CountingRow[] = [];
    for (const [from, to] of stretches)
      for (const remain of carve(this.#stretch(page, from, to, tree))) {
        const row = remain.left === "cell" ? this.#toRow(page, tree, remain) : null;
        if (row && !this.#isKnown(tree, row)) found.push({ tree, row, isUnsure: false });
      }
    // Of two that claim one number, one was written over or moved away.
    const times = new Map<number | bigint | null, number>();
    for (const { row } of found) times.set(row.rowid, (times.get(row.rowid) ?? 0) + 1);
    return found.filter(({ row }) => row.rowid === null || times.get(row.rowid) === 1);
  }

  /** The stretches of a page where rows may stand that it does not list any more. */
  #unlistedIn(page: Page, head: PageHead | null): [number, number][] {
    const { usable } = this.database;
    if (!head) return [[page.header + 8, usable]];
    const content = page.bytes.readUInt16BE(page.header + 5) || 65_536;
    // What stands before the content is left from before.
    let from = content >= head.pointersEnd && content <= usable ? content : head.pointersEnd;
    const stretches: [number, number][] = [];
    const cells = [...rowsIn(this.database, page)].map(({ cell }) => cell).sort((a, b) => a.at - b.at);
    for (const { at, end } of cells) {
      if (at > from) stretches.push([from, at]);
      from = Math.max(from, end);
    }
    return [...stretches, [from, usable]];
  }

  #stretch({ bytes }: Page, from: number, to: number, { shape }: Tree): Stretch {
    const { usable, encoding } = this.database;
    return { bytes, usable, encoding, from, to, starts: NO_STARTS, scripts: this.learnt.scripts, shapes: [shape], budget: this.budget };
  }

  #toRow(page: Page, tree: Tree, { rowid, types, bodyAt, at, end, payload, local, overflow }: Remain): LiveRow | null {
    const cell = emptyCell();
    const { database } = this;
    const kind = tree.shape.hasRowId ? KIND.leafTable : KIND.leafIndex;
    const isSame = readCell(page, at, kind, database.usable, cell) && cell.rowid === rowid && cell.payload === payload;
    if (!isSame || cell.end !== end || cell.local !== local || cell.overflow !== overflow) return null;
    return bodyAt > cell.recordAt && types.length > 0 ? database.rowAt(tree, page, cell, [], false) : null;
  }

  #isKnown(tree: Tree, { rowid, bytes, types, bodyAt, end }: LiveRow): boolean {
    if (typeof rowid === "number") return this.#numbers.get(tree)?.has(rowid) ?? false;
    return this.learnt.hasRow(withRowId(contentHash(bytes, types, bodyAt, end), rowid));
  }
}

/** Tables whose rows are looked for on one page. */
const MOST_SEARCHED = 16;
const isSearched = ({ shape }: Tree): boolean => !shape.isIndex && shape.count > 0;
const NO_STARTS: ReadonlySet<number> = new Set();

const isWithin = (rowid: number | bigint | null, after: number | bigint | null, upTo: number | bigint | null): boolean =>
  rowid === null || ((after === null || rowid > after) && (upTo === null || rowid <= upTo));
