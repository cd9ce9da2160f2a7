import type { FileRecord } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import {
  type BackupSet,
  below,
  byTime,
  parentOf,
  recordsBelow,
  type SetFinder,
  type SetState,
  type StandingFile,
  unvouched,
} from "./backup-set";
import { aheadOfUtc } from "./clock";
import { readStateFolder } from "./stamps";

/** One dated folder alone is a folder with a date in its name. */
const FEWEST = 2;
const MOST_STATES = 100_000;
/** A folder that a system gives a name of its own to while it writes. */
const IDENTIFIER = /^[0-9A-F]{8}-[0-9A-F]{4}-[0-9A-F]{4}-[0-9A-F]{4}-[0-9A-F]{12}$/i;

interface Tree extends SetState {
  readonly folder: string;
  /** Its folder was deleted: what is left of its files is deleted, too. */
  readonly deleted: boolean;
  /** The folder below it that stands for a drive; "": none does. */
  drive: string;
}

interface StateFolder {
  readonly at: number;
  readonly ending: string;
  readonly modified: number | null;
  readonly live: boolean;
}

/**
 * Finds sets in which each state is a tree of its own in a folder named by its local time (YYYY-MM-DD-HHMMSS), unchanged files being
 * linked. The layout is common practice, no published source.
 */
export class DatedTreesFinder implements SetFinder {
  /** State folders by the folder they lie in. */
  readonly #states = new Map<string, Map<string, StateFolder>>();
  /** Folders right below a state, by the state's path. */
  readonly #inside = new Map<string, Set<string>>();
  /** Folders some way below the states of a set, and which states have them. */
  readonly #below = new Map<string, Map<string, Set<string>>>();
  #belowCount = 0;
  #count = 0;

  note(record: FileRecord): void {
    if (record.type !== "folder" || record.path.startsWith("/?")) return;
    const live = record.state === "live";
    const parent = parentOf(record.path);
    const state = readStateFolder(record.name);
    if (state && this.#count < MOST_STATES && !insideState(parent)) {
      const found = this.#states.get(parent) ?? new Map<string, StateFolder>();
      this.#states.set(parent, found);
      if (live || !found.has(record.path)) found.set(record.path, { ...state, modified: record.modified, live });
      this.#count += 1;
      return;
    }
    const name = parent.slice(parent.lastIndexOf("/") + 1);
    const outer = readStateFolder(name)
      ? parent
      : readStateFolder(parentOf(parent).slice(parentOf(parent).lastIndexOf("/") + 1)) && IDENTIFIER.test(name)
        ? parent
        : null;
    if (live) this.#noteBelow(record.path);
    if (outer) this.#inside.set(outer, (this.#inside.get(outer) ?? new Set()).add(record.name));
  }

  found(): BackupSet[] {
    return [...this.#states].flatMap(([root, found]) => {
      if (found.size < FEWEST) return [];
      const zoneOf = aheadOfUtc([...found.values()]);
      const states = [...found].map(([folder, own]): Tree => {
        const { at, ending, live } = own;
        const ahead = zoneOf(own);
        const unfinished = ending !== "" || !live;
        return {
          key: folder.slice(root.length + 1),
          label: folder.slice(root.length + 1),
          asOf: at - (ahead ?? 0),
          unfinished,
          notes: [
            ...(ending !== "" ? ["This state was not finished: what it does not have may have been there."] : []),
            ...(live ? [] : ["This state was deleted from the disk: what is left of it is listed as deleted."]),
            ...(ahead === null ? ["Its name is a local time, and nothing says of which zone."] : []),
          ],
          folder,
          deleted: !live,
          drive: this.#driveOf(folder),
        };
      });
      states.sort(byTime);
      return [new DatedTrees(root, this.#withLost(root, states))];
    });
  }

  #noteBelow(path: string): void {
    const parts = path.split("/");
    const state = parts.findIndex((part) => readStateFolder(part) !== null);
    if (state < 0 || parts.length - state > DEEPEST || this.#belowCount >= MOST_BELOW) return;
    this.#belowCount += 1;
    const root = parts.slice(0, state).join("/");
    const folders = this.#below.get(root) ?? new Map<string, Set<string>>();
    this.#below.set(root, folders);
    const own = parts.slice(state + 1).join("/");
    folders.set(own, (folders.get(own) ?? new Set()).add(parts[state] as string));
  }

  /** Adds to a state what it does not have, although the states before and after it do: the backup lost it, and not the client. */
  #withLost(root: string, states: readonly Tree[]): Tree[] {
    if (this.#belowCount >= MOST_BELOW) return [...states];
    const finished = states.filter(({ unfinished }) => !unfinished);
    const lost = new Map<string, string[]>();
    for (const [folder, has] of this.#below.get(root) ?? []) {
      for (let index = 1; index < finished.length - 1; index += 1) {
        const [before, here, after] = [finished[index - 1], finished[index], finished[index + 1]] as [Tree, Tree, Tree];
        if (has.has(here.key) || !has.has(before.key) || !has.has(after.key)) continue;
        const found = lost.get(here.key) ?? [];
        lost.set(here.key, found);
        // What lies in a folder that is reported need not be reported.
        if (!found.some((outer) => folder.startsWith(`${outer}/`))) found.push(folder);
      }
    }
    return states.map((state) => {
      const folders = (lost.get(state.key) ?? []).map(
        (folder) => below(`${state.folder}/${folder}`, state.folder + state.drive) ?? `/${folder}`,
      );
      return folders.length === 0 ? state : { ...state, notes: [...state.notes, ...folders.slice(0, MOST_NOTED).map(LOST_FOLDER)] };
    });
  }

  /** The way from a state's folder to the drive in it, where there is one drive alone. */
  #driveOf(folder: string): string {
    let at = folder;
    for (let depth = 0; depth < 2; depth += 1) {
      const inside = [...(this.#inside.get(at) ?? [])];
      const [only] = inside;
      if (inside.length !== 1 || !only) return below(at, folder) ?? "";
      at = `${at}/${only}`;
      if (!IDENTIFIER.test(only)) break;
    }
    return below(at, folder) ?? "";
  }
}

/** How deep below a state, and how many, folders are compared from state to state. */
const DEEPEST = 6;
const MOST_BELOW = 1_000_000;
const MOST_NOTED = 10;
const LOST_FOLDER = (folder: string) =>
  `The folder “${folder}” is missing in this state, and is there in those before and after it: the backup lost it, not the client.`;

const insideState = (path: string) => path.split("/").some((part) => readStateFolder(part) !== null);

class DatedTrees implements BackupSet {
  readonly kind = "dated-trees";
  readonly user = null;
  readonly machine: string | null;
  readonly notes: readonly string[];

  constructor(
    readonly root: string,
    readonly states: readonly Tree[],
  ) {
    this.machine = root.slice(root.lastIndexOf("/") + 1) || null;
    const unfinished = states.filter((state) => state.unfinished && !state.deleted).length;
    this.notes = unfinished > 0 ? [`${unfinished} of its states ${unfinished === 1 ? "was" : "were"} not finished.`] : [];
  }

  *standingIn({ key }: SetState, tree: FileTree): Generator<StandingFile, void, void> {
    const state = this.states.find((each) => each.key === key);
    if (!state) return;
    const drive = state.folder + state.drive;
    const inside = `${drive}/`;
    for (const record of recordsBelow(tree, drive)) {
      if ((record.state !== "live" && !state.deleted) || !record.path.startsWith(inside)) continue;
      yield { record: state.unfinished ? unvouched(record) : record, path: record.path.slice(drive.length) };
    }
  }
}
