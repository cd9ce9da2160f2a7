import type { Copy } from "../copies/copy";
import type { BackupSet, SetKindName, SetState } from "./backup-set";

/** Something that is to be known of a set. */
export interface SetNote {
  readonly what: string;
  /** States it was said of; 0: it is said of the set as a whole. */
  readonly states: number;
}

/** A backup set, or the snapshots of a volume, as a pass over its states found it. */
export interface SetFacts {
  /** Distinguishes it from the other sets of its store, in every pass over them. */
  readonly id: string;
  readonly kind: SetKindName | "snapshots";
  /** The folder it lies in; "": none, it is kept by the volume itself. */
  readonly root: string;
  readonly machine: string | null;
  readonly user: string | null;
  /** The innermost folder, as the client knew it, below which all its files stood; null: nothing was read of it. */
  readonly covers: string | null;
  readonly states: number;
  /** States that were broken off. */
  readonly unfinished: number;
  /** The oldest and the newest moment, UTC milliseconds; null: no state has one. */
  readonly first: number | null;
  readonly last: number | null;
  /** States that were read so far. */
  readonly read: number;
  /** Contents of files read from it so far, each once, and the bytes they have together. */
  readonly versions: number;
  readonly bytes: number;
  /** Those of them that are encrypted: listed, and not to be read. */
  readonly encrypted: number;
  readonly notes: readonly SetNote[];
}

/** Said of a state whose moment has not come yet. */
export const IN_FUTURE = "This is in the future: a clock was wrong.";
/** Notes that are kept of one set at most; of the rest it is said how many there are. */
const MOST_NOTES = 24;
const MOST_COUNTED = 1000;

/** Counts what a pass meets in one set. */
export class SetCounter {
  readonly #about: Pick<SetFacts, "kind" | "root" | "machine" | "user">;
  readonly #states: readonly Pick<SetState, "asOf" | "unfinished">[];
  #notesOfSet: readonly string[] = [];
  readonly #notes = new Map<string, number>();
  #moreNotes = 0;
  #covers: string[] | null = null;
  #read = 0;
  #versions = 0;
  #bytes = 0;
  #encrypted = 0;

  constructor(about: Pick<SetFacts, "kind" | "root" | "machine" | "user">, states: readonly Pick<SetState, "asOf" | "unfinished">[]) {
    this.#about = about;
    this.#states = states;
  }

  get id(): string {
    const { kind, root, machine, user } = this.#about;
    return JSON.stringify([kind, root, machine, user]);
  }

  static ofSet(set: BackupSet): SetCounter {
    const counter = new SetCounter(set, set.states);
    counter.#notesOfSet = set.notes;
    return counter.anew();
  }

  /** One for the same set that has met nothing yet. */
  anew(): SetCounter {
    const counter = new SetCounter(this.#about, this.#states);
    counter.#notesOfSet = this.#notesOfSet;
    for (const each of this.#notesOfSet) counter.#note(each, 0);
    return counter;
  }

  /** Notes a file that stood in a state. @param path as the client knew it */
  sawFile(path: string): void {
    const cut = path.lastIndexOf("/");
    if (this.#covers === null) this.#covers = path.slice(0, Math.max(0, cut)).split("/");
    const folders = this.#covers;
    let at = 0;
    for (let index = 0; index < folders.length; index += 1) {
      const name = folders[index] as string;
      const end = at + name.length;
      if (end > cut || !path.startsWith(name, at) || path[end] !== "/") {
        folders.length = index;
        return;
      }
      at = end + 1;
    }
  }

  /** Notes that a state was read to its end. */
  sawState(notes: readonly string[]): void {
    this.#read += 1;
    for (const each of new Set(notes)) this.#note(each, 1);
  }

  sawVersion({ size, absent }: Pick<Copy, "size" | "absent">): void {
    this.#versions += 1;
    this.#bytes += size;
    if (absent === "encrypted") this.#encrypted += 1;
  }

  #note(what: string, states: number): void {
    const known = this.#notes.get(what);
    if (known === undefined && this.#notes.size >= MOST_COUNTED) this.#moreNotes += 1;
    else this.#notes.set(what, (known ?? 0) + states);
  }

  facts(now: number): SetFacts {
    const moments = this.#states.flatMap(({ asOf }) => (asOf === null ? [] : [asOf]));
    const late = moments.filter((at) => at > now).length;
    const notes = [...this.#notes].map(([what, states]): SetNote => ({ what, states }));
    if (late > 0) notes.unshift({ what: IN_FUTURE, states: late });
    const more = notes.length - MOST_NOTES + this.#moreNotes;
    const { kind, root, machine, user } = this.#about;
    return {
      id: this.id,
      kind,
      root,
      machine,
      user,
      covers: this.#covers && (this.#covers.join("/") || "/"),
      states: this.#states.length,
      unfinished: this.#states.filter(({ unfinished }) => unfinished).length,
      first: moments.reduce<number | null>((least, at) => (least === null || at < least ? at : least), null),
      last: moments.reduce<number | null>((most, at) => (most === null || at > most ? at : most), null),
      read: this.#read,
      versions: this.#versions,
      bytes: this.#bytes,
      encrypted: this.#encrypted,
      notes: [...notes.slice(0, MOST_NOTES), ...(more > 0 ? [{ what: `${more} further notes are left out here.`, states: 0 }] : [])],
    };
  }
}
