import { fitsAnything } from "./doubts";
import { contentHash } from "./row-hash";
import type { Database, LiveRow, Tree } from "./sqlite/database";
import { type FoundRow, RowLookup } from "./sqlite/lookup";
import type { Page } from "./sqlite/pages";
import { fitsShape } from "./sqlite/shape";

/** Rows of a page that are compared with those of a table. */
const MOST_COMPARED = 16;
/** Tables of which it is known how far they came. */
const MOST_KEPT = 10_000;
/** Tables alike that are compared. */
const MOST_ALIKE = 64;

/** What the numbers of some rows say of a table they may have been of. */
interface Comparison {
  readonly tree: Tree;
  /** Rows that the table has as they are. */
  readonly same: number;
  /** Rows that cannot be its own, unless those it has were written anew: of their number it has others, or it never came so far. */
  readonly other: number;
  /** Rows of whose number it has none, between its first and its last. */
  readonly between: number;
  readonly compared: number;
}

/** The table that rows were of. */
export interface Judged {
  readonly tree: Tree;
  /** Whether they can be of no other table as far as is known. */
  readonly isSure: boolean;
}

/**
 * Tells whose the rows of a page were that leads to no table any more. Tables may be alike in their columns: then only the numbers of the rows
 * tell them apart, for a table has each number once. A number that is missing among those of a table may be a deleted row's; one whose row says
 * other things was another table's, or that row was written anew.
 */
export class RowOwners {
  readonly #lookup: RowLookup;
  /** Whether no table was ever dropped or changed. */
  readonly #isComplete: boolean;
  readonly #isPresent: ReadonlySet<Tree>;
  /** The greatest number each table ever had, of those that keep it (2.6.2). */
  readonly #furthest = new Map<string, number>();

  /** @param database one of which all that counts was read */
  constructor(private readonly database: Database) {
    this.#lookup = new RowLookup(database);
    this.#isComplete = database.hasFirstSchema;
    this.#isPresent = new Set(database.trees);
    const kept = database.trees.find(({ name }) => name === "sqlite_sequence");
    for (const { values } of kept ? database.rowsOf(kept) : []) {
      const [name, furthest] = values;
      if (this.#furthest.size >= MOST_KEPT) break;
      if (typeof name === "string" && typeof furthest === "number") this.#furthest.set(name.toLowerCase(), furthest);
    }
  }

  /**
   * Judges whose rows were that are on one page, or one by itself.
   * @param trees tables that may be in question @returns null where none has rows like these
   */
  judge(rows: readonly LiveRow[], trees: readonly Tree[]): Judged | null {
    const alike = this.#alike(rows, trees);
    const [first] = alike;
    if (!first) return null;
    const numbered = rows.filter(({ rowid }) => typeof rowid === "number");
    if (numbered.length === 0) return { tree: first, isSure: alike.length === 1 };
    const step = Math.max(1, numbered.length / MOST_COMPARED);
    const sample: LiveRow[] = [];
    for (let at = 0; at < numbered.length; at += step) sample.push(numbered[Math.floor(at)] as LiveRow);
    const compared = alike.map((tree) => this.#compare(tree, sample));
    const known = compared.filter(({ same, other }) => same > other).sort((a, b) => b.same - a.same);
    if (known[0]) return { tree: known[0].tree, isSure: known[0].same > (known[1]?.same ?? 0) };
    const possible = compared.filter(({ other, compared: all }) => other * 2 < all);
    if (possible.length === 0) return { tree: first, isSure: this.#isComplete && alike.length === 1 };
    // Behind its last one a table had others too, where they were deleted or all of it was.
    const [likeliest] = possible.sort((a, b) => b.between - a.between) as [Comparison, ...Comparison[]];
    return { tree: likeliest.tree, isSure: possible.length === 1 };
  }

  /**
   * Finds the table a page belonged to when it was written, where several have rows like its own: the one that led to it then.
   * @param rows those it names @returns null where none did; undefined where no two tables are alike
   */
  ownerThen(page: Page, rows: readonly LiveRow[], trees: readonly Tree[]): Tree | null | undefined {
    const alike = this.#alike(rows, trees);
    if (alike.length < 2) return undefined;
    const rowid = rows.find((row) => typeof row.rowid === "number")?.rowid;
    // Without older images a page that belongs to none now was led to by none.
    const hasImages = this.database.log !== null || this.database.journal !== null;
    if (typeof rowid !== "number" || !hasImages) return null;
    const led = (tree: Tree) => this.#isPresent.has(tree) && this.#lookup.pageFor(tree, rowid, page)?.number === page.number;
    return alike.find(led) ?? null;
  }

  /** Whether a row that stood between others of its page, or in an older image of it, may as well have been another table's: its number has no place there. */
  isDoubtful(row: LiveRow, owner: Tree, trees: readonly Tree[]): boolean {
    if (typeof row.rowid !== "number" || !this.#isPresent.has(owner)) return false;
    if (this.#alike([row], trees).length < 2) return false;
    if (this.#lookup.pageFor(owner, row.rowid)?.number === row.page.number) return false;
    return this.#compare(owner, [row]).between === 0;
  }

  /** Whether a row may be of several tables, with row numbers or without. */
  hasTwins(row: LiveRow, trees: readonly Tree[], hasRowId: boolean): boolean {
    return this.#alike([row], trees, hasRowId).length > 1;
  }

  /** The tables, with row numbers or without, whose rows look like nearly all of these; those whose rows may look like anything only where there are no others. */
  #alike(rows: readonly LiveRow[], trees: readonly Tree[], hasRowId = true): Tree[] {
    const found: Tree[] = [];
    for (const tree of trees) {
      if (found.length >= MOST_ALIKE) break;
      if (tree.shape.hasRowId !== hasRowId || tree.shape.count === 0) continue;
      let strange = 0;
      for (const { types } of rows) if (!fitsShape(tree.shape, types)) strange += 1;
      if (strange * 10 <= rows.length) found.push(tree);
    }
    const plain = found.filter(({ shape }) => !rows.some(({ types }) => fitsAnything(shape, types)));
    return plain.length > 0 ? plain : found;
  }

  #compare(tree: Tree, rows: readonly LiveRow[]): Comparison {
    const found = { tree, same: 0, other: 0, between: 0, compared: rows.length };
    // Of a table that was dropped no row counts.
    if (!this.#isPresent.has(tree)) return found;
    const bounds = this.#lookup.boundsOf(tree);
    const furthest = this.#furthest.get(tree.name?.toLowerCase() ?? "");
    for (const row of rows) {
      const rowid = row.rowid as number;
      const there = bounds && this.#lookup.find(tree, rowid);
      if (there) found[this.#isSame(tree, row, there) ? "same" : "other"] += 1;
      else if (furthest !== undefined && rowid > furthest) found.other += 1;
      else if (bounds && rowid > bounds.least && rowid < bounds.most) found.between += 1;
    }
    return found;
  }

  #isSame(tree: Tree, row: LiveRow, { page, cell }: FoundRow): boolean {
    const there = this.database.rowAt(tree, page, cell, []);
    return there !== null && hashOf(there) === hashOf(row);
  }
}

const hashOf = ({ bytes, types, bodyAt, end }: LiveRow) => contentHash(bytes, types, bodyAt, end);
