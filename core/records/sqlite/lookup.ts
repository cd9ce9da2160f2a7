import { type Cell, KIND, readCell, readPageHead } from "./cell";
import { type Database, emptyCell, type Tree } from "./database";
import type { Page } from "./pages";
import { readRowId, readVarint, varintEnd } from "./varint";

/** A tree of a database is never deeper (the fewest entries of an inner page, and 2^32 pages). */
const DEEPEST = 40;

/** A leaf of a table: where its rows stand by their numbers. */
interface Leaf {
  readonly page: Page;
  readonly rows: ReadonlyMap<number, number>;
  readonly least: number;
  readonly most: number;
}

/** Where a row stands. */
export interface FoundRow {
  readonly page: Page;
  readonly cell: Cell;
}

/** Looks rows of tables up by their numbers, from the root down (SQLite file format 1.6). */
export class RowLookup {
  /** The leaf that was looked at last, by its table: numbers are asked for in their order, mostly. */
  readonly #last = new Map<Tree, Leaf | null>();
  readonly #bounds = new Map<Tree, { readonly least: number; readonly most: number } | null>();

  constructor(private readonly database: Database) {}

  /** Finds the row of a number. @returns its page and cell; null: the table has none of that number, or what leads to it is damaged */
  find(tree: Tree, rowid: number): FoundRow | null {
    let leaf = this.#last.get(tree);
    if (!leaf || rowid < leaf.least || rowid > leaf.most) {
      leaf = this.#leafOf(this.pageFor(tree, rowid));
      this.#last.set(tree, leaf);
    }
    const at = leaf?.rows.get(rowid);
    const cell = emptyCell();
    return leaf && at !== undefined && readCell(leaf.page, at, KIND.leafTable, this.database.usable, cell)
      ? { page: leaf.page, cell }
      : null;
  }

  /** The least and the greatest number of a table's rows; null: it has none, or they cannot be read. */
  boundsOf(tree: Tree): { readonly least: number; readonly most: number } | null {
    const known = this.#bounds.get(tree);
    if (known !== undefined) return known;
    const first = this.#leafOf(this.pageFor(tree, Number.NEGATIVE_INFINITY));
    const last = this.#leafOf(this.pageFor(tree, Number.POSITIVE_INFINITY));
    const bounds = first && last && first.rows.size > 0 && last.rows.size > 0 ? { least: first.least, most: last.most } : null;
    this.#bounds.set(tree, bounds);
    return bounds;
  }

  /**
   * Finds the leaf that a row of this number stands on, or would stand on.
   * @param image of a page as it was: the leaf of that time is looked for @returns null where what leads to it is damaged
   */
  pageFor(tree: Tree, rowid: number, image: Page | null = null): Page | null {
    const { count, usable } = this.database;
    let number = tree.root;
    for (let depth = 0; depth < DEEPEST; depth += 1) {
      const page = number >= 1 && number <= count ? this.#pageAt(number, image) : null;
      const head = page && readPageHead(page, usable);
      if (!page || !head) return null;
      if (head.kind === KIND.leafTable) return page;
      if (head.kind !== KIND.interiorTable) return null;
      const { cells } = head;
      // The first entry whose number is not below it leads to it.
      let [low, high] = [0, cells.length];
      while (low < high) {
        const middle = (low + high) >> 1;
        if (readRowId(page.bytes, (cells[middle] as number) + 4) < rowid) low = middle + 1;
        else high = middle;
      }
      number = low < cells.length ? page.bytes.readUInt32BE(cells[low] as number) : head.right;
    }
    return null;
  }

  #pageAt(number: number, image: Page | null): Page | null {
    const { pages } = this.database;
    if (!image) return pages.get(number);
    if (image.number === number) return image;
    const { from, at } = pages.placeBeside(number, image);
    return pages.read(number, from, at);
  }

  #leafOf(page: Page | null): Leaf | null {
    const head = page && readPageHead(page, this.database.usable);
    if (!page || !head) return null;
    const rows = new Map<number, number>();
    let [least, most] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY];
    for (const at of head.cells) {
      readVarint(page.bytes, at);
      const rowid = readRowId(page.bytes, varintEnd);
      if (typeof rowid !== "number") continue;
      rows.set(rowid, at);
      least = Math.min(least, rowid);
      most = Math.max(most, rowid);
    }
    return { page, rows, least, most };
  }
}
