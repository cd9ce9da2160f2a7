import { absent, type FileRecord } from "../filesystems/file-record";
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
import { readStampedName } from "./stamps";

/** Copies of one run whose stamps drift by seconds. Milliseconds. */
const ONE_RUN = 60_000;
const LONGEST_RUN = 15 * ONE_RUN;
/** Fewer dated names below a folder may be chance. */
const FEWEST = 3;
const MOST_VERSIONS = 4_000_000;
/** A gap before which a clock had fallen back rather than nothing was copied. Milliseconds. */
const FALLEN_BACK = 2 * 365 * 24 * 3_600_000;

const LETTER = /^[A-Z]$/;

interface Found {
  count: number;
  readonly stamps: Set<number>;
  /** By the client's path: stamp and size of each version, one after the other. */
  readonly versions: Map<string, number[]>;
}

/**
 * Finds sets in which each version of a file lies under its own name with a UTC stamp, in trees by user, computer and drive letter.
 * The layout is common practice, no published source.
 */
export class DatedCopiesFinder implements SetFinder {
  readonly #sets = new Map<string, Found>();
  #count = 0;

  note(record: FileRecord): void {
    const stamped = record.type === "file" ? readStampedName(record.name) : null;
    const place = stamped && placeOf(record.path);
    if (!place || this.#count >= MOST_VERSIONS) return;
    this.#count += 1;
    const found = this.#sets.get(place.root) ?? { count: 0, stamps: new Set<number>(), versions: new Map<string, number[]>() };
    this.#sets.set(place.root, found);
    found.count += 1;
    found.stamps.add(stamped.at);
    const own = `${parentOf(place.own)}/${stamped.name}`;
    const versions = found.versions.get(own);
    if (versions) versions.push(stamped.at, record.size);
    else found.versions.set(own, [stamped.at, record.size]);
  }

  found(): BackupSet[] {
    return [...this.#sets].flatMap(([root, found]) => (found.count < FEWEST ? [] : [new DatedCopies(root, runsOf(found))]));
  }
}

/** The set a file belongs to by its path, and what the client called it. */
function placeOf(path: string): { root: string; own: string } | null {
  const parts = path.split("/");
  // Of several folders of one letter the outermost is the drive.
  const drive = parts.findIndex((part, index) => index >= 2 && index < parts.length - 1 && LETTER.test(part));
  if (drive < 0) return { root: "", own: path };
  return { root: parts.slice(0, drive).join("/"), own: `/${parts[drive]}:/${parts.slice(drive + 1).join("/")}` };
}

interface Run extends SetState {
  /** The stamps of its copies. UTC milliseconds. */
  readonly from: number;
  readonly to: number;
}

/** Joins stamps to runs, and puts runs whose clock was wrong where they belong. */
function runsOf({ stamps, versions }: Found): Run[] {
  const runs: { from: number; to: number }[] = [];
  for (const at of [...stamps].sort((a, b) => a - b)) {
    const last = runs.at(-1);
    if (last && at - last.to <= ONE_RUN && at - last.from <= LONGEST_RUN) last.to = at;
    else runs.push({ from: at, to: at });
  }
  const wrong = wrongRuns(runs, versions);
  return runs
    .map(({ from, to }, index): Run => {
      const shown = new Date(to).toISOString().slice(0, 19).replace("T", " ");
      const moved = index < wrong.count && wrong.after !== null;
      return {
        key: String(from),
        label: shown,
        // Behind the run after which they belong, in their own order.
        asOf: moved ? (wrong.after as number) + (index + 1) * 1000 : to,
        unfinished: false,
        notes: moved ? [WRONG_CLOCK(shown)] : [],
        from,
        to,
      };
    })
    .sort(byTime);
}

const WRONG_CLOCK = (shown: string) =>
  `The clock was wrong at this run: it said ${shown} UTC. By the sizes of its files it belongs here; the time given is that of the run before it.`;

/**
 * Runs whose clock had fallen back to an early date: they come first by their stamps, long before all others, and yet hold only some of the files
 * that the run behind them holds for the first time.
 * @returns how many of the first runs they are, and the time of the run after which they belong (null: there are none)
 */
function wrongRuns(runs: readonly { from: number; to: number }[], versions: Found["versions"]): { count: number; after: number | null } {
  const count = runs.findIndex((run, index) => index > 0 && run.from - (runs[index - 1]?.to ?? 0) > FALLEN_BACK);
  const next = runs[count];
  if (count <= 0 || !next) return { count: 0, after: null };
  const isEarly = (at: number) => at < next.from;
  const inRun = (at: number, run: { from: number; to: number }) => at >= run.from && at <= run.to;
  let [early, first] = [0, 0];
  /** For each file that has both: between which of the others its early versions fit best, by their sizes. */
  const fits: { after: number; before: number; weight: number }[] = [];
  for (const flat of versions.values()) {
    const all = Array.from({ length: flat.length / 2 }, (_, index) => ({
      at: flat[index * 2] as number,
      size: flat[index * 2 + 1] as number,
    }));
    const [wrong, right] = [all.filter(({ at }) => isEarly(at)), all.filter(({ at }) => !isEarly(at))];
    if (wrong.length > 0) early += 1;
    if (right.some(({ at }) => inRun(at, next))) first += 1;
    if (wrong.length > 0 && right.length > 0) fits.push({ ...bestGap(wrong, right), weight: right.length });
  }
  // A true first run holds everything.
  if (early * 2 > first || fits.length === 0) return { count: 0, after: null };
  // Of a file with many versions the place is surer.
  const votesAt = (at: number) => fits.reduce((sum, { after, before, weight }) => sum + (at >= after && at < before ? weight : 0), 0);
  const votes = runs.slice(count).map(({ to }) => ({ at: to, votes: votesAt(to) }));
  return { count, after: votes.sort((a, b) => b.votes - a.votes || a.at - b.at)[0]?.at ?? null };
}

interface Sized {
  readonly at: number;
  readonly size: number;
}

/** Between which versions of a file some others fit best, by their sizes: stamps. */
function bestGap(some: readonly Sized[], others: readonly Sized[]): { after: number; before: number } {
  const sorted = [...others].sort((a, b) => a.at - b.at);
  const ordered = [...some].sort((a, b) => a.at - b.at);
  const [first, last] = [ordered[0]?.size ?? 0, ordered.at(-1)?.size ?? 0];
  let best = { cost: Number.POSITIVE_INFINITY, after: 0, before: 0 };
  sorted.forEach(({ at, size }, index) => {
    const next = sorted[index + 1];
    // Behind the last one there is nothing to compare with: the other side counts twice.
    const cost = Math.abs(first - size) + Math.abs(next ? next.size - last : first - size);
    if (cost < best.cost) best = { cost, after: at, before: next?.at ?? Number.POSITIVE_INFINITY };
  });
  return best;
}

class DatedCopies implements BackupSet {
  readonly kind = "dated-copies";
  readonly machine: string | null;
  readonly user: string | null;
  readonly notes: readonly string[];

  constructor(
    readonly root: string,
    readonly states: readonly Run[],
  ) {
    // <user>/<computer>/<a fixed folder>, as far as there are so many.
    const parts = root.split("/").filter((part) => part !== "");
    this.machine = parts.at(-2) ?? null;
    this.user = parts.at(-3) ?? null;
    const wrong = states.filter(({ notes }) => notes.length > 0).length;
    this.notes = wrong > 0 ? [`The clock was wrong at ${wrong} of its ${states.length} runs.`] : [];
  }

  *standingIn(state: SetState, tree: FileTree): Generator<StandingFile, void, void> {
    const wanted = this.states.findIndex(({ key }) => key === state.key);
    /** Of each run its place in the order of time, by the beginning of its stamps. */
    const byStamp = this.states.map(({ from, to }, order) => ({ from, to, order })).sort((a, b) => a.from - b.from);
    const orderOf = (at: number) => {
      let [low, high] = [0, byStamp.length - 1];
      while (low < high) {
        const middle = (low + high + 1) >>> 1;
        if ((byStamp[middle]?.from ?? 0) <= at) low = middle;
        else high = middle - 1;
      }
      return byStamp[low]?.order ?? 0;
    };
    const newest = new Map<string, { order: number; record: FileRecord; full: boolean }>();
    const folders = new Map<string, StandingFile>();
    for (const record of recordsBelow(tree, this.root)) {
      if (below(record.path, this.root) === null) continue;
      const place = placeOf(record.path);
      if (place?.root !== this.root) continue;
      if (record.type === "folder") {
        folders.set(record.path, { record, path: place.own });
        continue;
      }
      const stamped = readStampedName(record.name);
      if (!stamped) continue;
      const order = orderOf(stamped.at);
      const own = `${parentOf(place.own)}/${stamped.name}`;
      const before = newest.get(own);
      const full = record.size > 0 || (before?.full ?? false);
      if (order > wanted || (before && (before.order > order || (before.order === order && before.record.state === "live")))) {
        if (before) before.full = full;
        else if (order > wanted) newest.set(own, { order: -1, record, full });
        continue;
      }
      newest.set(own, { order, record, full });
    }
    yield* folders.values();
    for (const [path, { order, record, full }] of newest) if (order >= 0) yield { record: versionOf(record, full), path };
  }
}

/** @param full whether another version of the file has content */
function versionOf(record: FileRecord, full: boolean): FileRecord {
  const version = unvouched(record);
  if (record.size > 0 || !full) return version;
  return {
    ...version,
    content: absent("named-only", "This copy is empty, and other versions of the file are not: it was probably broken off."),
  };
}
