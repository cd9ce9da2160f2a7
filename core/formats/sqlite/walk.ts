import type { BlockReader } from "../../bytes/block-reader";
import { damaged, type Extent, SOUND } from "../format";
import { hasRowsBetween, readTreePage, type Spilling } from "./page";

/** What a page is for, as a pointer map says it (1.8). */
const USE = { root: 1, free: 2, firstOverflow: 3, overflow: 4, below: 5 } as const;
type Use = (typeof USE)[keyof typeof USE];

/** A page that is to be read, which page leads to it, and between which row numbers its own must be: more than `over`, `most` at most. */
interface Visit {
  readonly page: number;
  readonly from: number;
  readonly over: number;
  readonly most: number;
}

/** A page of a tree that is not where the one above it says. */
export interface MissingPage extends Omit<Visit, "from"> {
  readonly table: boolean;
}

interface Problem {
  readonly page: number;
  readonly reason: string;
}

/** How the pages of a database hang together: which are reached from the tables, and what is wrong with them. */
export class PageWalk {
  /** Of each page, what it is for; 0: nothing has led to it. */
  readonly #uses: Uint8Array;
  /** Of each page, the one that leads to it; empty where there is no pointer map that would say it too. */
  readonly #parents: Uint32Array;
  readonly #usable: number;
  /** Pages that are wrong themselves, and links that cannot be right: where there are any of the former, the latter only follow from them. */
  readonly #wrong: Problem[] = [];
  readonly #links: Problem[] = [];
  /** Pages that are wrong themselves, though right ones lead to them. */
  readonly missing: MissingPage[] = [];
  /** The last page, in the order of the file, in which all rows are right. */
  #lastRight = 0;
  /** Pages of whose content nothing is checked: those that rows spill over to, and free ones. */
  #unfollowed = 0;

  constructor(
    private readonly reader: BlockReader,
    private readonly pageSize: number,
    private readonly pages: number,
    private readonly autoVacuum: boolean,
  ) {
    this.#uses = new Uint8Array(pages + 1);
    this.#parents = new Uint32Array(autoVacuum ? pages + 1 : 0);
    this.#usable = pageSize - reader.u8(20);
  }

  /** Whether so much is wrong that nothing more is learnt. */
  get #isOver(): boolean {
    return this.#wrong.length + this.#links.length >= MOST_PROBLEMS;
  }

  get isSound(): boolean {
    return this.#wrong.length + this.#links.length === 0;
  }

  /** What is wrong, and how far the database is right; where another file's bytes begin is mostly the first page, in the order of the file, that is wrong. */
  extent(size: number, closed: boolean): Extent {
    const unfollowed = this.#unfollowed * this.pageSize;
    if (this.isSound) return { size, closed, verdict: SOUND, ...(unfollowed > 0 ? { unfollowed } : {}) };
    const problems = this.#wrong.length > 0 ? this.#wrong : this.#links.slice(0, 1);
    const { page, reason } = problems.reduce((first, each) => (each.page < first.page ? each : first));
    const at = (page - 1) * this.pageSize;
    const right = page > this.#lastRight ? this.#lastRight * this.pageSize : 0;
    // Where no right page comes behind it any more, nothing shows that the database goes as far as it says.
    const goesOn = page < this.#lastRight;
    return {
      size,
      closed: closed && goesOn,
      verdict: damaged(at, reason, Math.min(size, at + this.pageSize)),
      ...(right > 0 ? { proven: right } : {}),
    };
  }

  #fail(page: number, reason: string): void {
    this.#wrong.push({ page, reason });
  }

  #take(page: number, from: number, use: Use): boolean {
    if (page < 1 || page > this.pages) this.#links.push({ page: from, reason: "it points to a page that does not exist" });
    else if (this.#uses[page]) this.#links.push({ page, reason: "two parts of the database claim the same page" });
    else {
      this.#uses[page] = use;
      if (this.autoVacuum) this.#parents[page] = use === USE.root || use === USE.free ? 0 : from;
      return true;
    }
    return false;
  }

  /** Follows a tree of pages from its root. @param table whether its cells are rows of a table */
  tree(root: number, table: boolean, onCell: (at: number, length: number) => void = () => undefined): void {
    const waiting: Visit[] = [{ page: root, from: root, over: Number.NEGATIVE_INFINITY, most: Number.POSITIVE_INFINITY }];
    for (let next = waiting.pop(); next && !this.#isOver; next = waiting.pop()) {
      const { page, from, over, most } = next;
      if (!this.#take(page, from, page === root ? USE.root : USE.below)) continue;
      const start = (page - 1) * this.pageSize;
      const found = readTreePage(this.reader, start, start + (page === 1 ? 100 : 0), this.#usable, table);
      if (typeof found === "string" || !hasRowsBetween(found, over, most)) {
        this.#fail(page, typeof found === "string" ? found : "the rows are out of their order");
        this.missing.push({ page, table, over, most });
        continue;
      }
      this.#lastRight = Math.max(this.#lastRight, page);
      for (const { at, length } of found.cells) onCell(at, length);
      for (const each of found.spilling) this.#overflow(page, each);
      // From left to right, which is mostly as they stand in the file.
      let before = over;
      const below = found.below.map((child) => {
        const visit = { page: child.page, from: page, over: before, most: Math.min(most, child.most) };
        if (table) before = Math.max(before, child.most);
        return visit;
      });
      waiting.push(...below.reverse());
    }
  }

  /** Follows the pages a row spills over to (1.6): it is right where it stands, the chain may lead through pages of another file. */
  #overflow(page: number, { page: first, left }: Spilling): void {
    let [from, next] = [page, first];
    for (let rest = left; rest > 0; rest -= this.#usable - 4) {
      if (!this.#take(next, from, from === page ? USE.firstOverflow : USE.overflow)) return;
      this.#unfollowed += 1;
      from = next;
      next = this.reader.u32be((next - 1) * this.pageSize);
    }
    // The last page of a chain leads nowhere: of its content this is all that shows whether it is one.
    if (next !== 0) this.#fail(from, "a row goes on behind its last page");
  }

  /** The chain of free pages (1.5). */
  free(first: number, count: number): void {
    let found = 0;
    for (let trunk = first, from = 1; trunk !== 0 && !this.#isOver; ) {
      if (!this.#take(trunk, from, USE.free)) return;
      found += 1;
      const at = (trunk - 1) * this.pageSize;
      const leaves = this.reader.u32be(at + 4);
      if (leaves > this.#usable / 4 - 2) {
        this.#fail(trunk, "the list of free pages is damaged");
        return;
      }
      for (let i = 0; i < leaves && !this.#isOver; i += 1, found += 1) {
        this.#take(this.reader.u32be(at + 8 + i * 4), trunk, USE.free);
        this.#unfollowed += 1;
      }
      from = trunk;
      trunk = this.reader.u32be(at);
    }
    if (found !== count) this.#fail(1, "the list of free pages is damaged");
  }

  /** Checks that something leads to each page, and that pointer maps say what does. */
  unused(): void {
    const { reader, pageSize, pages } = this;
    const entries = Math.floor(this.#usable / 5);
    // The page with the lock byte is never used (1.4).
    const lock = Math.floor(0x4000_0000 / pageSize) + 1;
    let map = 0;
    for (let page = 2; page <= pages && !this.#isOver; page += 1) {
      if (page === lock) continue;
      if (this.autoVacuum && (page === 2 || page - map > entries)) {
        if (this.#uses[page]) this.#fail(page, "two parts of the database claim the same page");
        map = page;
        continue;
      }
      if (!this.#uses[page]) this.#links.push({ page, reason: "nothing in the database leads to this page" });
      else if (this.autoVacuum) {
        const entry = (map - 1) * pageSize + (page - map - 1) * 5;
        if (reader.u8(entry) !== this.#uses[page] || reader.u32be(entry + 1) !== this.#parents[page])
          this.#fail(map, "what leads to a page is not what the database says of it");
      }
    }
  }
}
const MOST_PROBLEMS = 256;
