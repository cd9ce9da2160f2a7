import type { Entry } from "./entry";
import { NO_TALK } from "./entry-list";
import type { EntryReader } from "./entry-reader";

export interface Talk {
  readonly key: string;
  readonly label: string;
  readonly entries: number;
  readonly deleted: number;
  readonly first: number | null;
  readonly last: number | null;
}

/** Persons whose names stand for a conversation without a title. */
const NAMED_PERSONS = 3;

/** Labels that are kept. */
const MOST_LABELS = 20_000;

interface Counts {
  entries: number;
  deleted: number;
  first: number | null;
  last: number | null;
  readonly persons: Map<string, number>;
}

/** Messages by the conversation they stand in. */
export class Talks {
  readonly #byKey = new Map<string, Counts>();
  readonly #labels = new Map<string, string>();
  #longest: [key: string, counts: Counts][] | null = null;

  constructor(private readonly reader: EntryReader) {}

  get size(): number {
    return this.#byKey.size;
  }

  add({ talk, at, who, row }: Entry): void {
    const key = talk ?? NO_TALK;
    let own = this.#byKey.get(key);
    if (!own) {
      own = { entries: 0, deleted: 0, first: null, last: null, persons: new Map() };
      this.#byKey.set(key, own);
    }
    own.entries += 1;
    if (row.state === "deleted") own.deleted += 1;
    if (who !== null) own.persons.set(who, (own.persons.get(who) ?? 0) + 1);
    if (at === null) return;
    own.first = Math.min(own.first ?? at, at);
    own.last = Math.max(own.last ?? at, at);
  }

  /** Those with the most messages; nothing is added afterwards. */
  longest(most: number): Talk[] {
    this.#longest ??= [...this.#byKey].sort((a, b) => b[1].entries - a[1].entries);
    return this.#longest
      .slice(0, most)
      .map(([key, { entries, deleted, first, last }]) => ({ key, label: this.labelOf(key) ?? "", entries, deleted, first, last }));
  }

  /** What a conversation is called: its title, else those who wrote most in it. @returns null when there is none of that key */
  labelOf(key: string): string | null {
    const known = this.#labels.get(key);
    if (known !== undefined) return known;
    const counts = this.#byKey.get(key);
    if (!counts) return null;
    const label = this.#labelFrom(key, counts);
    if (this.#labels.size >= MOST_LABELS) this.#labels.clear();
    this.#labels.set(key, label);
    return label;
  }

  #labelFrom(key: string, { persons }: Counts): string {
    if (key === NO_TALK) return "Not known in which";
    const [table, number] = [Number(key.slice(0, key.indexOf("."))), key.slice(key.indexOf(".") + 1)];
    const title = this.reader.labelOf(table, number);
    if (title) return title;
    const most = [...persons].sort((a, b) => b[1] - a[1]).slice(0, NAMED_PERSONS);
    return most.length > 0 ? most.map(([name]) => name).join(", ") : `Number ${number}`;
  }
}
