import type { FileRecord } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import { type BackupSet, below, byTime, movedTo, parentOf, recordsOf, type SetFinder, type SetState, unvouched } from "./backup-set";
import { readStateFolder } from "./stamps";

/** One dated folder alone is a folder with a date in its name. */
const FEWEST = 2;
const MOST_STATES = 100_000;
const QUARTER_HOUR = 15 * 60_000;
const FARTHEST_ZONE = 14 * 3_600_000;
/** A folder that a system gives a name of its own to while it writes. */
const IDENTIFIER = /^[0-9A-F]{8}-[0-9A-F]{4}-[0-9A-F]{4}-[0-9A-F]{4}-[0-9A-F]{12}$/i;

interface Tree extends SetState {
  readonly folder: string;
  /** The folder below it that stands for a drive; "": none does. */
  drive: string;
}

/**
 * Finds sets in which each state is a tree of its own in a folder named by its local time (YYYY-MM-DD-HHMMSS), unchanged files being
 * linked. The layout is common practice, no published source.
 */
export class DatedTreesFinder implements SetFinder {
  /** State folders by the folder they lie in. */
  readonly #states = new Map<string, Map<string, { at: number; ending: string; modified: number | null }>>();
  /** Folders right below a state, by the state's path. */
  readonly #inside = new Map<string, Set<string>>();
  #count = 0;

  note(record: FileRecord): void {
    if (record.type !== "folder" || record.state !== "live") return;
    const parent = parentOf(record.path);
    const state = readStateFolder(record.name);
    if (state && this.#count < MOST_STATES && !insideState(parent)) {
      const found = this.#states.get(parent) ?? new Map<string, { at: number; ending: string; modified: number | null }>();
      this.#states.set(parent, found);
      found.set(record.path, { ...state, modified: record.modified });
      this.#count += 1;
      return;
    }
    const name = parent.slice(parent.lastIndexOf("/") + 1);
    const outer = readStateFolder(name)
      ? parent
      : readStateFolder(parentOf(parent).slice(parentOf(parent).lastIndexOf("/") + 1)) && IDENTIFIER.test(name)
        ? parent
        : null;
    if (outer) this.#inside.set(outer, (this.#inside.get(outer) ?? new Set()).add(record.name));
  }

  found(): BackupSet[] {
    return [...this.#states].flatMap(([root, found]) => {
      if (found.size < FEWEST) return [];
      const zoneOf = zonesOf([...found.values()]);
      const states = [...found].map(([folder, own]): Tree => {
        const { at, ending } = own;
        const ahead = zoneOf(own);
        const unfinished = ending !== "";
        return {
          key: folder.slice(root.length + 1),
          label: folder.slice(root.length + 1),
          asOf: at - (ahead ?? 0),
          unfinished,
          notes: [
            ...(unfinished ? ["This state was not finished: what it does not have may have been there."] : []),
            ...(ahead === null ? ["Its name is a local time, and nothing says of which zone."] : []),
          ],
          folder,
          drive: this.#driveOf(folder),
        };
      });
      return [new DatedTrees(root, states.sort(byTime))];
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

const insideState = (path: string) => path.split("/").some((part) => readStateFolder(part) !== null);

/**
 * How far the clock that named a folder was ahead of UTC, by when the folders were written to last: milliseconds; null: nothing agrees.
 * Where clocks are changed in summer there are two answers.
 */
function zonesOf(
  states: readonly { at: number; modified: number | null }[],
): (state: { at: number; modified: number | null }) => number | null {
  // The folder is named when the run begins or ends, and written to last at its end.
  const aheadOf = ({ at, modified }: { at: number; modified: number | null }) =>
    modified === null ? null : Math.round((at - modified) / QUARTER_HOUR) * QUARTER_HOUR;
  const votes = new Map<number, number>();
  for (const state of states) {
    const ahead = aheadOf(state);
    if (ahead !== null && Math.abs(ahead) <= FARTHEST_ZONE) votes.set(ahead, (votes.get(ahead) ?? 0) + 1);
  }
  const asked = [...votes.values()].reduce((sum, count) => sum + count, 0);
  const [best] = [...votes].sort(([, a], [, b]) => b - a);
  const general = best && best[1] * 2 > states.length ? best[0] : null;
  return (state) => {
    const own = aheadOf(state);
    return own !== null && (votes.get(own) ?? 0) * 5 >= asked && asked > 1 ? own : general;
  };
}

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
    const unfinished = states.filter((state) => state.unfinished).length;
    this.notes = unfinished > 0 ? [`${unfinished} of its states ${unfinished === 1 ? "was" : "were"} not finished.`] : [];
  }

  *filesOf({ key }: SetState, tree: FileTree): Generator<FileRecord, void, void> {
    const state = this.states.find((each) => each.key === key);
    if (!state) return;
    const drive = state.folder + state.drive;
    for (const record of recordsOf(tree)) {
      if (record.state !== "live") continue;
      const own = below(record.path, drive);
      if (own) yield state.unfinished ? unvouched(movedTo(record, own)) : movedTo(record, own);
    }
  }
}
