import type { FileRecord } from "../filesystems/file-record";
import { nameParts } from "./match";
import type { Hit } from "./places-pass";
import type { RightName } from "./right-name";

/** Names in one folder that are kept at most. */
const MOST_NAMES = 20_000;
/** Different names looked for on the whole volume at most. */
const MOST_WANTED = 100_000;

/**
 * What lies around the finds: the files beside backups, and the files elsewhere that bear the names of autosave copies. Filled by
 * a second walk over the records.
 */
export class Surroundings {
  readonly #folders = new Map<string, string[]>();
  /** Paths by the name without extension, in lower case; more than one: the name alone does not say which. */
  readonly #byStem = new Map<string, string[]>();
  readonly #found: ReadonlySet<string>;

  constructor(hits: readonly Hit[]) {
    this.#found = new Set(hits.map((hit) => hit.record.path));
    for (const { rule, record } of hits) {
      if (rule.ties === "beside") this.#folders.set(folderKey(record.path), []);
      else if (rule.ties === "by-name" && this.#byStem.size < MOST_WANTED) {
        const groups = nameParts(record.name, rule.naming.pattern);
        this.#byStem.set(stemOf(groups.name ?? groups.stem ?? record.name), []);
      }
    }
  }

  /** Whether a second walk is of any use. */
  get wanted(): boolean {
    return this.#folders.size > 0 || this.#byStem.size > 0;
  }

  add(record: FileRecord): void {
    if (record.type === "folder" || this.#found.has(record.path)) return;
    const names = this.#folders.get(folderKey(record.path));
    if (names && names.length < MOST_NAMES) names.push(record.name);
    this.addNamed(record.path);
  }

  /** A file that is there, or that a list of recent ones names. */
  addNamed(path: string): void {
    const paths = this.#byStem.get(stemOf(path.slice(path.lastIndexOf("/") + 1)));
    if (paths && paths.length < 8 && !paths.some((each) => each.toLowerCase() === path.toLowerCase())) paths.push(path);
  }

  /** The file beside a backup that it is the backup of. */
  beside(folder: string, right: RightName, foundName: string): string | null {
    const names = this.#folders.get(folder.toLowerCase()) ?? [];
    const wanted = right.name.toLowerCase();
    const same = names.find((name) => name.toLowerCase() === wanted && name !== foundName);
    if (same) return `${folder}/${same}`;
    // The backup's name without its extension is the drawing's: with one such file beside it there is no doubt.
    const stem = right.stem.toLowerCase();
    const near = [...new Set(names.filter((name) => name !== foundName && stemOf(name) === stem))];
    return near.length === 1 ? `${folder}/${near[0]}` : null;
  }

  /** The only file anywhere of this name; among several with other extensions, the only one with the right extension. */
  named(right: RightName, foundPath: string): string | null {
    const paths = (this.#byStem.get(stemOf(right.name)) ?? []).filter((path) => path !== foundPath);
    const exact = paths.filter((path) => path.toLowerCase().endsWith(`/${right.name.toLowerCase()}`));
    return exact.length === 1 ? (exact[0] as string) : null;
  }

  /** The document in a folder whose name ends like this: owner files leave out the first two letters of longer names. */
  endingWith(folder: string, tail: string): string | null {
    const names = this.#folders.get(folder.toLowerCase()) ?? [];
    const lower = tail.toLowerCase();
    const fitting = [...new Set(names.filter((name) => name.toLowerCase() === lower || name.slice(2).toLowerCase() === lower))];
    return fitting.length === 1 ? `${folder}/${fitting[0]}` : null;
  }
}

const folderKey = (path: string) => path.slice(0, Math.max(0, path.lastIndexOf("/"))).toLowerCase();

function stemOf(name: string): string {
  const dot = name.lastIndexOf(".");
  return (dot > 0 && name.length - dot <= 12 ? name.slice(0, dot) : name).toLowerCase();
}
