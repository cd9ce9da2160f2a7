/** Where one of the numbered archives of a run begins and ends. */
export interface ArchiveEdges {
  readonly name: string;
  /** Paths of the first and the last file that is listed in it; null: none is. */
  readonly first: string | null;
  readonly last: string | null;
  /** More may have stood at its end than is listed: it breaks off, or its directory is gone or damaged. */
  readonly isOpenEnded: boolean;
}

/** How many archives left out one behind the other are named. */
const MOST_NAMED = 8;

const NUMBERED = /^(.*?)(\d+)$/s;

/**
 * The numbered archives of a run. A file goes on from the end of one to the beginning of the next: where one between them is missing or damaged, what there
 * is of a file need not be all of it.
 */
export class ArchiveChain {
  readonly #byNumber = new Map<number, ArchiveEdges>();
  readonly #numbers = new Map<string, number>();
  readonly #stem: string = "";

  constructor(archives: readonly ArchiveEdges[]) {
    const found = archives.map((archive) => ({ archive, parts: NUMBERED.exec(archive.name) }));
    const stem = found[0]?.parts?.[1];
    // What is not numbered, or in several ways, says nothing of what comes next.
    if (stem === undefined || found.some(({ parts }) => parts?.[1] !== stem)) return;
    this.#stem = stem;
    for (const { archive, parts } of found) {
      const number = Number(parts?.[2]);
      this.#byNumber.set(number, archive);
      this.#numbers.set(archive.name, number);
    }
  }

  /**
   * Names the archives in which more of a file may have stood than is known.
   * @param path that of the file, as the archives have it @param within names of the archives in which it, or pieces of it, stand; in their order
   */
  mayStandIn(path: string, within: readonly string[]): readonly string[] {
    const numbers = within.flatMap((name) => this.#numbers.get(name) ?? []);
    const [first, last] = [numbers[0], numbers.at(-1)];
    if (first === undefined || last === undefined || numbers.length !== within.length) return [];
    const doubtful: number[] = [];
    for (let i = 1; i < numbers.length; i += 1)
      for (let between = (numbers[i - 1] as number) + 1; between < (numbers[i] as number) && doubtful.length < MOST_NAMED; between += 1)
        doubtful.push(between);
    if (first > 1 && this.#byNumber.get(first)?.first === path) {
      const before = this.#byNumber.get(first - 1);
      if (!before || before.isOpenEnded) doubtful.unshift(first - 1);
    }
    const most = Math.max(...this.#byNumber.keys());
    if (last < most && this.#byNumber.get(last)?.last === path) {
      const behind = this.#byNumber.get(last + 1);
      if (!behind || behind.first === null) doubtful.push(last + 1);
    }
    return doubtful.map((number) => this.#byNumber.get(number)?.name ?? `${this.#stem}${number}`);
  }
}
