import { endsInZeros, fitsAnything, isUnlikely, mayBeIndexEntry, saysLittle, soundEnd } from "./doubts";
import { FormerTables, rowsIn } from "./former-tables";
import { imagesOf } from "./images";
import type { LearntRows } from "./learnt-rows";
import { remainedRecord } from "./remained-record";
import { type Row, toRow } from "./row";
import { contentHash, withRowId } from "./row-hash";
import { type Judged, RowOwners } from "./row-owner";
import { carve, type Remain } from "./sqlite/carve";
import { KIND, readCell, readPageHead } from "./sqlite/cell";
import { type Database, emptyCell, type LiveRow, type Tree } from "./sqlite/database";
import type { Page } from "./sqlite/pages";
import type { Value } from "./sqlite/record";
import { fitsShape, likest, type Shape } from "./sqlite/shape";

/** Remains whose row number is gone, kept until all whole ones are known. */
const MOST_KEPT = 500_000;
/** Shapes that are tried: those with the most rows. */
const MOST_SHAPES = 64;

/** What is left of rows of a database that do not count: deleted, changed and never committed ones, each once. */
export class LeftRows {
  /** What entries of indexes look like. */
  readonly #indexes: readonly Shape[];
  /** Tables as they were before. */
  readonly #former: FormerTables;
  readonly #owners: RowOwners;
  /** Every table and index, former ones too, by what its rows look like. */
  readonly #trees: ReadonlyMap<Shape, Tree>;
  readonly #kept: { remain: Row; content: number }[] = [];
  /** Whether there were more remains than are kept. */
  #isFull = false;
  /** Whether a row of a former table was given. */
  #hasFormer = false;
  /** Whether what is read now was never committed. */
  #uncommitted = false;
  /** Whether what is read now is a page that was being written when something broke off: a hot journal has what it was before. */
  #torn = false;

  /**
   * @param database one of which all that counts was read @param learnt from that
   * @param wanted whether rows of a table are asked for @param budget readings of bytes as a row that may still be tried
   */
  constructor(
    private readonly database: Database,
    private readonly learnt: LearntRows,
    private readonly wanted: (table: string | null) => boolean,
    private readonly budget: { left: number },
  ) {
    this.#indexes = database.trees.flatMap(({ shape }) => (shape.isIndex && shape.count > 0 ? [shape] : [])).slice(0, MOST_SHAPES);
    const carving = { scripts: learnt.scripts, budget: this.budget };
    this.#owners = new RowOwners(database);
    this.#former = new FormerTables(database, carving, (shape, row) => learnt.learnShape(shape, row));
    this.#trees = new Map([...database.trees, ...this.#former.trees].map((tree) => [tree.shape, tree]));
  }

  *rows(): Generator<Row> {
    const { notes } = this.database;
    yield* this.#leftInPages();
    yield* this.#leftInImages();
    if (this.#isFull || this.learnt.isFull)
      notes.push(
        "It has more rows than are compared here: some that are given as deleted may count, or be given twice, and some are left out.",
      );
    for (const { remain, content } of this.#kept) {
      if (this.learnt.hasContent(content)) continue;
      this.learnt.rememberContent(content);
      this.#hasFormer ||= remain.former;
      yield remain;
    }
    if (this.#hasFormer)
      notes.push(
        "Some of the deleted rows are of tables that were dropped or changed since, as these were then: what they say may count in another table or form.",
      );
  }

  /** What is left in the pages as they are now: in the room between rows, and on free pages. */
  *#leftInPages(): Generator<Row> {
    const database = this.database;
    for (let number = 1; number <= database.count; number += 1) {
      const page = database.pages.get(number);
      if (!page) continue;
      const counts = Boolean(database.owners[number]);
      yield* this.#leftIn(page, this.#ownerOf(number), counts, database.roles[number] ?? 0, this.#former.ownerOf(number) !== null);
    }
  }

  /** What is left in what pages were before. */
  *#leftInImages(): Generator<Row> {
    const { journal, pages } = this.database;
    for (const { page: number, at, from, uncommitted } of imagesOf(this.database)) {
      this.#uncommitted = uncommitted;
      this.#torn = from === "main" && journal?.hot === true && pages.placeOf(number).from === "journal";
      const page = pages.read(number, from, at);
      const owner = this.#ownerOf(number);
      const then = page && owner && this.#former.tableAt(page, owner.root);
      if (page) yield* this.#leftIn(page, then ?? owner, false, 0, then !== null);
    }
  }

  /** The table a page belongs to, or belonged to before it became free; null: none is known. */
  #ownerOf(number: number): Tree | null {
    const { trees, owners } = this.database;
    return trees[(owners[number] ?? 0) - 1] ?? this.#former.ownerOf(number);
  }

  #isAmbiguous(shape: Shape, types: readonly number[]): boolean {
    return this.#former.isAmbiguous(shape, types);
  }

  /** Whether a page was an inner one of a former table in the end: where its own entries stood is not known, and rows left from before may be overwritten by them. */
  #wasInner(tree: Tree, page: Page): boolean {
    return tree.root === page.number && tree.shape.rows > 0 && this.#isFormer(tree);
  }

  #isFormer(tree: Tree): boolean {
    return this.#former.trees.includes(tree);
  }

  /**
   * @param counts whether the cells the page names count: only what is between them is left over
   * @param known the table it belongs to, or belonged to @param isKnown whether the cells it names are rows of that table
   */
  *#leftIn(page: Page, known: Tree | null, counts: boolean, role: number, isKnown: boolean): Generator<Row> {
    const { usable } = this.database;
    // The rest of a row is that row's; what stands behind its end is not looked at.
    if (role === 1 && !counts) return;
    const head = role === 2 ? null : readPageHead(page, usable);
    const named = head?.sound && !counts ? [...rowsIn(this.database, page)] : [];
    const isLeaf = head?.kind === KIND.leafTable && named.length > 0;
    // A page may have been another table's when it was written.
    const then = isLeaf && !isKnown ? this.#owners.ownerThen(page, named, this.#tablesOf(this.#shapes(known))) : undefined;
    const owner = then === undefined ? known : then;
    const isSure = isKnown || Boolean(then);
    const judged = !owner && isLeaf ? this.#judge(named, this.#shapes(null)) : null;
    const shapes = this.#shapes(owner ?? judged?.tree ?? null);
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
        for (const row of named) {
          const isOwn = isSure && owner && fitsShape(owner.shape, row.types);
          const its = isOwn ? owner : judged && fitsShape(judged.tree.shape, row.types) ? judged.tree : null;
          const shape = its?.shape ?? likest(shapes, row.types, head.kind === KIND.leafTable);
          if (!shape) continue;
          const isUnsure = !isOwn && this.#mayBeAnothers(row, shape, owner, judged, shapes);
          if (!shape.isIndex) yield* this.#offerRow(shape, row, owner, isOwn ? "own" : "cell", isUnsure);
          used.push([row.cell.at, row.cell.end]);
        }
    } else if (role === 2) from = Math.min(usable, 8 + 4 * page.bytes.readUInt32BE(4));
    used.sort(([a], [b]) => a - b);
    for (const [start, end] of [...used, [usable, usable] as const]) {
      if (start - from > 4) yield* this.#carved(page, from, start, starts, owner, shapes, judged);
      from = Math.max(from, end);
    }
  }

  /** Where the cells of a page stand. */
  #room(page: Page, kind: number, offsets: readonly number[]): [number, number][] {
    const cell = emptyCell();
    return offsets.flatMap((at): [number, number][] => (readCell(page, at, kind, this.database.usable, cell) ? [[at, cell.end]] : []));
  }

  *#carved(
    page: Page,
    from: number,
    to: number,
    starts: ReadonlySet<number>,
    owner: Tree | null,
    shapes: readonly Shape[],
    judged: Judged | null,
  ): Generator<Row> {
    const { bytes } = page;
    let [first, last] = [from, to];
    while (first < last && bytes[first] === 0) first += 1;
    while (last > first && bytes[last - 1] === 0) last -= 1;
    if (last - first < 5) return;
    // A cell may begin or end with zeros.
    const stretch = {
      bytes,
      usable: this.database.usable,
      encoding: this.database.encoding,
      from: Math.max(from, first - 8),
      to: Math.min(to, last + 16),
      starts,
      scripts: this.learnt.scripts,
      shapes,
      budget: this.budget,
    };
    for (const remain of carve(stretch)) if (!remain.shape.isIndex) yield* this.#offerRemain(page, remain, owner, shapes, judged);
  }

  /** Judges whose rows were that stand on a page of no known table. */
  #judge(rows: readonly LiveRow[], shapes: readonly Shape[]): Judged | null {
    return this.#owners.judge(rows, this.#tablesOf(shapes));
  }

  /** Whether a row off the pages of its table may as well be one of another that is alike. */
  #mayBeAnothers(row: LiveRow, shape: Shape, owner: Tree | null, judged: Judged | null, shapes: readonly Shape[]): boolean {
    if (owner?.shape === shape) return false;
    if (judged?.tree.shape === shape) return !judged.isSure;
    return this.#owners.hasTwins(row, this.#tablesOf(shapes), shape.hasRowId);
  }

  #tablesOf(shapes: readonly Shape[]): Tree[] {
    return shapes.filter(({ isIndex }) => !isIndex).map((shape) => this.#treeOf(shape));
  }

  /** The shapes rows may have, that of the page's own tree first; of former tables those of which rows are known. */
  #shapes(owner: Tree | null): Shape[] {
    const former = this.#former.trees.filter(({ shape }) => shape.rows > 0);
    const all = [...this.database.trees, ...former].filter(({ shape }) => shape.count > 0).map(({ shape }) => shape);
    const others = all.sort((a, b) => b.rows - a.rows).filter((shape) => shape !== owner?.shape);
    return (owner && owner.shape.count > 0 ? [owner.shape, ...others] : others).slice(0, MOST_SHAPES);
  }

  #treeOf(shape: Shape): Tree {
    return this.#trees.get(shape) as Tree;
  }

  /**
   * A whole cell that does not count any more.
   * @param standing whether the page is known to have been its table's when it named the cell, or named it, or does so no more
   * @param isUnsure whether it may have been another table's
   */
  *#offerRow(shape: Shape, row: LiveRow, owner: Tree | null, standing: "own" | "cell" | "remain", isUnsure: boolean): Generator<Row> {
    const { bytes, types, bodyAt, rowid } = row;
    const end = soundEnd(types, bytes, bodyAt, row.end, row.cell, this.database.encoding);
    const content = contentHash(bytes, types, bodyAt, end);
    const key = withRowId(content, rowid);
    if (this.learnt.hasRow(key)) return;
    const tree = this.#treeOf(shape);
    const waits = standing === "remain" && this.#wasInner(tree, row.page);
    if (!waits) this.learnt.rememberRow(key, content);
    if (!this.wanted(tree.name)) return;
    const values = this.database.values(tree, bytes, bodyAt, end, types, rowid);
    if (!isKnown(values)) return;
    const found = this.#toRow(tree, { ...row, values, whole: row.whole && end === row.end });
    // Between the rows of a page that was half written two states of it may stand in one another.
    const doubtful =
      isUnsure ||
      (standing === "remain" && (this.#torn || saysLittle(types))) ||
      (standing !== "own" && this.#isAmbiguous(shape, types)) ||
      (standing !== "own" && owner?.shape !== shape && fitsAnything(shape, types)) ||
      mayBeIndexEntry(shape, types, owner?.shape ?? null, this.#indexes) ||
      isUnlikely(shape, types, bytes, bodyAt, end) ||
      endsInZeros(types, bytes, bodyAt, end);
    this.#hasFormer ||= !waits && found.former;
    if (waits) this.#keep({ ...found, confidence: "guess" }, content);
    else yield doubtful ? { ...found, confidence: "guess" } : found;
  }

  *#offerRemain(page: Page, remain: Remain, owner: Tree | null, shapes: readonly Shape[], judged: Judged | null): Generator<Row> {
    const { shape, left, rowid, types, at, guessed } = remain;
    const tree = this.#treeOf(shape);
    const { cell, bytes, body, end: read, whole } = remainedRecord(this.database, page, remain);
    const end = soundEnd(types, bytes, body, read, cell, this.database.encoding);
    const content = contentHash(bytes, types, body, end);
    if (left === "cell") {
      const row = { page, cell, bytes, bodyAt: body, end: read, types, whole, rowid, values: [] };
      const isOwners = owner?.shape === shape;
      const own = isOwners ? null : judged && fitsShape(judged.tree.shape, types) ? judged : this.#judge([row], shapes);
      const isUnsure = own ? !own.isSure : isOwners && this.#owners.isDoubtful(row, owner, this.#tablesOf(shapes));
      yield* this.#offerRow(own?.tree.shape ?? shape, row, owner, "remain", isUnsure);
      return;
    }
    if (!this.wanted(tree.name) || this.learnt.hasContent(content)) return;
    const values = this.database.values(tree, bytes, body, end, types, null);
    if (!isKnown(values)) return;
    const row = { page, cell: { ...cell, at }, bytes, bodyAt: body, end, types, whole, rowid: null, values };
    const isGuess =
      guessed > 0 ||
      this.#mayBeAnothers(row, shape, owner, judged, shapes) ||
      this.#isAmbiguous(shape, types) ||
      mayBeIndexEntry(shape, types, owner?.shape ?? null, this.#indexes) ||
      isUnlikely(shape, types, bytes, body, end);
    const isWhole = whole && end === read && left === "record" && !shape.hasRowId;
    const found = this.#toRow(tree, { ...row, whole: isWhole });
    this.#keep(isGuess ? { ...found, confidence: "guess" } : found, content);
  }

  #toRow(tree: Tree, row: LiveRow): Row {
    return toRow(tree, row, { state: "deleted", uncommitted: this.#uncommitted, former: this.#isFormer(tree) });
  }

  /** Keeps a remain that is given only if nothing better of it is found. */
  #keep(remain: Row, content: number): void {
    if (this.#kept.length < MOST_KEPT) this.#kept.push({ remain, content });
    else this.#isFull = true;
  }
}

/** Whether anything of a row stands. */
const isKnown = (values: readonly (Value | undefined)[]) => values.some((value) => value !== undefined && value !== null);
