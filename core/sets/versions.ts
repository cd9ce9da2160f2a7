import type { FileRecord } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import type { StandingFile } from "./backup-set";

/** One moment, with the files that stood in it. */
export interface Moment {
  /** UTC milliseconds; null: not known, or now. */
  readonly asOf: number | null;
  /** Whether what it does not have was not there then. */
  readonly complete: boolean;
  readonly label: string;
  files(): Iterable<StandingFile>;
  readonly tree: FileTree;
  /** What is to be known of it, once it was read. */
  notes?(): readonly string[];
}

/** How versions are distinguished in a series of moments. */
export interface VersionRules {
  /** What shows that two files of one path are the same version. */
  keyOf(record: FileRecord): string;
  /** What shows that files of two paths are one file, which was moved or renamed; null: nothing does. Not given: nothing ever does. */
  identityOf?(record: FileRecord): string | null;
  /** The last of the moments, where it is the volume as it is now. */
  readonly present?: Moment;
}

/** The moments a pass goes through, oldest first. */
export interface Kept {
  readonly moments: readonly Moment[];
  /** The one before which states are left out: what happened between is not known. */
  readonly afterGap?: Moment | undefined;
}

/** A content of a path, and the moments it stood in. */
export interface Version {
  readonly key: string;
  /** The file as its first moment has it, and that moment's tree. */
  record: FileRecord;
  tree: FileTree;
  from: Moment;
  until: Moment;
  /** The first moment that does not have it any more; null: none is known. */
  ended: Moment | null;
  /** The states that follow are left out: nobody can say for how long it stood. */
  cut?: boolean;
  /** The path under which the same file stood in the state before. */
  movedFrom?: string;
  /** The path under which the same file stands in the first moment that does not have it here any more. */
  movedTo?: string | undefined;
}

/**
 * What became of a version: its path is missing later; it is, and is there again at the end; another content stands there; the file stands at another
 * path; the states behind a gap have it too; nothing, to the end.
 */
export type Became = "gone" | "missing" | "changed" | "moved" | "same" | "last";

/** Learns of what a walk meets. */
export interface VersionSink {
  /** A file was read. @param path where the client had it */
  saw(path: string, moment: Moment): void;
  /** A version of which all is known. One that is there now unchanged is not given: it needs no other copy than the volume's own. */
  give(path: string, version: Version, became: Became): void;
  /** A moment was read to its end. */
  ended(moment: Moment): void;
}

/** Walks through moments and finds the versions that stood in them. Yields after each file and each version, so that whoever drives it may pause. */
export type VersionWalk = (rules: VersionRules, kept: Kept, sink: VersionSink) => Generator<void, void, void>;

const isFile = ({ type, system, state }: FileRecord): boolean => type === "file" && !system && state === "live";

/** Of several paths from which one file came, the first by its letters, whatever the order in which they were met. */
function noteOrigin(version: Version, path: string): void {
  if (version.movedFrom === undefined || path < version.movedFrom) version.movedFrom = path;
}

/** The path at which a file arrived, by what identifies it; null: at several. */
function arrivals(rules: VersionRules, found: Iterable<readonly [path: string, record: FileRecord]>): Map<string, string | null> {
  const arrived = new Map<string, string | null>();
  for (const [path, record] of found) {
    const identity = rules.identityOf?.(record);
    if (identity) arrived.set(identity, arrived.has(identity) ? null : path);
  }
  return arrived;
}

/** The walk from the oldest moment to the newest. */
export function* oldestFirst(rules: VersionRules, { moments, afterGap }: Kept, sink: VersionSink): Generator<void, void, void> {
  const { present } = rules;
  const standing = new Map<string, Version>();
  /** Versions after which their path was missing: it may come back, as where a backup lost a folder in one state. */
  const gone: [path: string, Version][] = [];
  for (const moment of moments) {
    if (moment === afterGap) for (const version of standing.values()) version.cut = true;
    const came: [path: string, record: FileRecord][] = [];
    for (const { record, path } of moment.files()) {
      if (!isFile(record)) continue;
      sink.saw(path, moment);
      const before = standing.get(path);
      const key = rules.keyOf(record);
      if (before?.key === key && (!before.cut || moment === present)) before.until = moment;
      else {
        if (before) sink.give(path, { ...before, ended: moment }, before.key === key ? "same" : "changed");
        else if (rules.identityOf) came.push([path, record]);
        standing.set(path, { record, tree: moment.tree, key, from: moment, until: moment, ended: null });
      }
      yield;
    }
    if (moment.complete) {
      const arrived = arrivals(rules, came);
      for (const [path, version] of standing) {
        if (version.until === moment) continue;
        standing.delete(path);
        const movedTo = arrived.get(rules.identityOf?.(version.record) ?? "") ?? undefined;
        const there = movedTo === undefined ? undefined : standing.get(movedTo);
        if (there) noteOrigin(there, path);
        gone.push([path, { ...version, ended: moment, movedTo }]);
      }
    }
    sink.ended(moment);
    yield;
  }
  for (const [path, version] of gone) {
    sink.give(path, version, version.movedTo !== undefined ? "moved" : standing.has(path) ? "missing" : "gone");
    yield;
  }
  for (const [path, version] of standing) {
    if (version.until === present) continue;
    sink.give(path, version, "last");
    yield;
  }
}

/** The walk from the newest moment to the oldest: it finds the same versions, the last ones first. */
export function* newestFirst(rules: VersionRules, { moments, afterGap }: Kept, sink: VersionSink): Generator<void, void, void> {
  const { present } = rules;
  const standing = new Map<string, Version & { became: Became }>();
  /** Paths that stand in the end. */
  const last = new Set<string>();
  /** The oldest complete moment of those that were read. */
  let next: Moment | null = null;
  /** Versions that stood there no more in it: where they went is not known before the next complete moment. */
  const leftFor = new Map<Version & { became: Became }, string>();
  /** Those of them that another content stood before. */
  let waiting: [path: string, version: Version & { became: Became }][] = [];

  /** Settles who moved where between two moments, of which the later one is `next`. @param first versions of which nothing older is to come */
  const settle = (first: readonly (readonly [path: string, version: Version & { became: Became }])[]) => {
    const came = first.filter(([, { from }]) => from === next).map(([path, { record }]) => [path, record] as const);
    const arrived = rules.identityOf ? arrivals(rules, came) : new Map<string, string | null>();
    const byPath = new Map(first);
    if (arrived.size > 0)
      for (const [version, path] of leftFor) {
        const movedTo = arrived.get(rules.identityOf?.(version.record) ?? "") ?? undefined;
        if (movedTo === undefined) continue;
        version.movedTo = movedTo;
        version.became = "moved";
        const there = byPath.get(movedTo);
        if (there) noteOrigin(there, path);
      }
    leftFor.clear();
    for (const [path, version] of waiting) give(path, version);
    waiting = [];
  };
  const give = (path: string, { became, ...version }: Version & { became: Became }) => {
    if (version.until !== present) sink.give(path, version, became);
  };

  for (const moment of [...moments].reverse()) {
    for (const { record, path } of moment.files()) {
      if (!isFile(record)) continue;
      sink.saw(path, moment);
      const after = standing.get(path);
      const key = rules.keyOf(record);
      const isBehindGap = after !== undefined && after.from === afterGap && moment !== afterGap;
      if (after?.key === key && (!isBehindGap || afterGap === present)) {
        after.from = moment;
        after.record = record;
        after.tree = moment.tree;
      } else {
        const ended: Moment | null = after ? after.from : next;
        const became: Became = after
          ? after.key === key
            ? "same"
            : "changed"
          : next === null
            ? "last"
            : last.has(path)
              ? "missing"
              : "gone";
        if (became === "last") last.add(path);
        const cut = ended !== null && ended === afterGap;
        const version = { record, tree: moment.tree, key, from: moment, until: moment, ended, became, ...(cut && { cut }) };
        if (after && leftFor.has(after)) waiting.push([path, after]);
        else if (after) give(path, after);
        else if (next !== null) leftFor.set(version, path);
        standing.set(path, version);
      }
      yield;
    }
    if (moment.complete) {
      const first = [...standing].filter(([, version]) => version.from !== moment);
      settle(first);
      for (const [path, version] of first) {
        standing.delete(path);
        give(path, version);
        yield;
      }
      next = moment;
    }
    sink.ended(moment);
    yield;
  }
  settle([...standing]);
  for (const [path, version] of standing) {
    give(path, version);
    yield;
  }
}
