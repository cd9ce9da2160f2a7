import { Growing } from "../../bytes/growing";
import { SearchText } from "../search-text";
import type { Entry } from "./entry";
import type { EntryPlace, EntryReader } from "./entry-reader";
import type { EntryKind } from "./kinds";
import { personOf } from "./person";
import type { RecordRow } from "./table";

/** The key of what is in no conversation, or not known in which. */
export const NO_TALK = "none";
/** Characters of a text that are searched. */
const SEARCHED = 1 << 20;
/** A place is the recognised table times this, the row, and whether it is a page's last visit. */
const SPAN = 2 ** 40;

/** Which entries are asked for. */
export interface EntryQuery {
  readonly words: string;
  readonly only: "all" | RecordRow["state"];
  /** The key of a conversation, and who wrote or which site was visited; empty: all. */
  readonly talk: string;
  readonly who: string;
  /** UTC milliseconds, the first and the one after the last; null: from or to any time. */
  readonly since: number | null;
  readonly until: number | null;
}

/** Texts by number, each once. */
class Names {
  readonly all: string[] = [];
  readonly #numbers = new Map<string, number>();

  /** The number of a text, from 1; 0 of none. */
  numberOf(text: string | null): number {
    if (text === null) return 0;
    let number = this.#numbers.get(text);
    if (number === undefined) {
      number = this.all.push(text);
      this.#numbers.set(text, number);
    }
    return number;
  }

  /** The number of a text that is known; -1 of one that is not. */
  find(text: string): number {
    return this.#numbers.get(text) ?? -1;
  }
}

/**
 * The entries of a kind, the earliest first; those whose time is not known at the end. Of each only what narrows the list is kept, a few bytes,
 * and where its row stands: the entry itself is read again when it is wanted.
 */
export class EntryList implements Iterable<Entry> {
  readonly #places = new Growing((length) => new Float64Array(length));
  readonly #times = new Growing((length) => new Float64Array(length));
  readonly #deleted = new Growing((length) => new Uint8Array(length));
  readonly #persons = new Growing((length) => new Uint32Array(length));
  readonly #talks = new Growing((length) => new Uint32Array(length));
  /** What many entries share, by number from 1: who wrote it, or the page that was visited. */
  readonly #shared = new Growing((length) => new Uint32Array(length));
  readonly #personNames = new Names();
  readonly #talkKeys = new Names();
  #sharedNumbers: Map<string, number> | null = new Map();
  readonly #sharedText = new SearchText();
  readonly #text = new SearchText();
  readonly #byPerson: number[] = [];
  #busiest: { readonly name: string; readonly entries: number }[] | null = null;
  #order: Uint32Array | null = null;
  #last: { readonly key: string; readonly entries: Uint32Array } | null = null;
  deleted = 0;

  constructor(
    readonly kind: EntryKind,
    private readonly reader: EntryReader,
  ) {}

  get length(): number {
    return this.#places.length;
  }

  /** Adds an entry that was read from a place. */
  add(entry: Entry, { found, row, lastVisit }: EntryPlace): void {
    const { at, who, talk, title, text, address, files, details } = entry;
    this.#places.push(found * SPAN + row * 2 + (lastVisit ? 1 : 0));
    this.#times.push(at ?? Number.POSITIVE_INFINITY);
    const isDeleted = entry.row.state === "deleted";
    this.#deleted.push(isDeleted ? 1 : 0);
    if (isDeleted) this.deleted += 1;
    const person = this.#personNames.numberOf(personOf(entry));
    this.#persons.push(person);
    this.#byPerson[person] = (this.#byPerson[person] ?? 0) + 1;
    this.#talks.push(this.#talkKeys.numberOf(talk ?? NO_TALK));
    const isVisit = this.kind === "visits";
    this.#shared.push(this.#sharedNumberOf((isVisit ? [title, address] : [who]).filter((each) => each !== null)));
    const own = [
      isVisit ? null : title,
      isVisit ? null : address,
      text,
      ...files.map(({ name }) => name),
      ...details.map(([, value]) => value),
    ];
    this.#text.append(own.filter((each) => each !== null).map((each) => each.slice(0, SEARCHED)));
  }

  #sharedNumberOf(parts: readonly string[]): number {
    if (parts.length === 0) return 0;
    const key = parts.join("\0");
    let number = this.#sharedNumbers?.get(key);
    if (number === undefined) {
      this.#sharedText.append(parts.map((each) => each.slice(0, SEARCHED)));
      number = this.#sharedText.length;
      this.#sharedNumbers?.set(key, number);
    }
    return number;
  }

  /** Puts all into their order; nothing is added afterwards. */
  finish(): void {
    this.#sharedNumbers = null;
    const times = Float64Array.from({ length: this.length }, (_, i) => this.#times.get(i));
    if (times.every((time, i) => i === 0 || time >= (times[i - 1] as number))) return;
    this.#order = Uint32Array.from(times, (_, i) => i).sort((a, b) => {
      const [one, other] = [times[a] as number, times[b] as number];
      return one === other ? a - b : one - other;
    });
  }

  /** The number, by which it was added, of the entry at a place. */
  #addedAt(index: number): number {
    return this.#order ? (this.#order[index] as number) : index;
  }

  isDeletedAt(index: number): boolean {
    return this.#deleted.get(this.#addedAt(index)) === 1;
  }

  /** The entry at a place of the list. */
  at(index: number): Entry | undefined {
    if (!(index >= 0 && index < this.length)) return undefined;
    const place = this.#places.get(this.#addedAt(index));
    const below = place % SPAN;
    return this.reader.read({ found: Math.floor(place / SPAN), row: Math.floor(below / 2), lastVisit: below % 2 === 1 }) ?? undefined;
  }

  *[Symbol.iterator](): Generator<Entry> {
    for (let index = 0; index < this.length; index += 1) {
      const entry = this.at(index);
      if (entry) yield entry;
    }
  }

  /** Who wrote, or which sites were visited, those with the most entries first. */
  persons(most: number): readonly { readonly name: string; readonly entries: number }[] {
    this.#busiest ??= this.#personNames.all
      .map((name, i) => ({ name, entries: this.#byPerson[i + 1] ?? 0 }))
      .sort((a, b) => b.entries - a.entries);
    return this.#busiest.slice(0, most);
  }

  /** Finds entries. @returns their places in the list, in its order */
  find(query: EntryQuery): Uint32Array {
    const { words, only, talk, who, since, until } = query;
    const key = JSON.stringify([words, only, talk, who, since, until]);
    if (this.#last?.key === key) return this.#last.entries;
    const own = words === "" ? null : this.#text.find(words);
    const shared = words === "" ? null : this.#sharedText.find(words);
    const talkNumber = talk === "" ? 0 : this.#talkKeys.find(talk);
    const personNumber = who === "" ? 0 : this.#personNames.find(who);
    const state = only === "all" ? -1 : only === "deleted" ? 1 : 0;
    const [times, deleted, persons, talks] = [this.#times.view, this.#deleted.view, this.#persons.view, this.#talks.view];
    const sharedNumbers = this.#shared.view;
    const fits = (i: number) => {
      if (state >= 0 && deleted[i] !== state) return false;
      if ((talkNumber !== 0 && talks[i] !== talkNumber) || (personNumber !== 0 && persons[i] !== personNumber)) return false;
      const time = times[i] as number;
      if ((since !== null && (time < since || time === Number.POSITIVE_INFINITY)) || (until !== null && time >= until)) return false;
      return !own || own[i] === 1 || shared?.[(sharedNumbers[i] as number) - 1] === 1;
    };
    const found = new Uint32Array(this.length);
    let count = 0;
    for (let index = 0; index < this.length; index += 1)
      if (fits(this.#addedAt(index))) {
        found[count] = index;
        count += 1;
      }
    this.#last = { key, entries: found.slice(0, count) };
    return this.#last.entries;
  }
}
