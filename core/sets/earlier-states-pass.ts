import { crc32 } from "node:zlib";
import { type Checkpoint, isNumberCheckpoint, readTextCheckpoint, textCheckpoint } from "../bytes/checkpoint";
import { firstByte } from "../bytes/layout";
import { Malformed } from "../bytes/malformed";
import type { Copy, HolderFile } from "../copies/copy";
import type { CopyBatch } from "../copies/file-records-pass";
import type { Place } from "../copies/vocabulary";
import { type FileRecord, type FileSystem, likeliest } from "../filesystems/file-record";
import { copyInTree } from "../places/copy-in-tree";
import type { FileTree } from "../places/file-tree";
import { asStanding, type BackupSet, type PlaceInTree, recordsOf, type SetState, type StandingFile } from "./backup-set";
import { findSets } from "./registry";
import { rememberedTree } from "./remembered-tree";
import { SetCounter, type SetFacts } from "./set-facts";
import {
  type Became,
  type Kept,
  type Moment,
  newestFirst,
  oldestFirst,
  type Version,
  type VersionRules,
  type VersionSink,
} from "./versions";

/** A volume opened as of one of its states. */
export interface OpenedState {
  readonly volume: FileSystem;
  readonly tree: FileTree;
  close(): void;
}

/** Where earlier states are looked for. */
export interface Around {
  readonly volume: FileSystem;
  readonly tree: FileTree;
  /** Opens the volume as of one of its own states. */
  openState(view: string): OpenedState;
}

/** The same folder at several moments, oldest first. */
interface Series extends VersionRules {
  readonly place: Extract<Place, "snapshot" | "backup">;
  /** Where the store has what the client had at a path. */
  pathOf(path: string): string;
  readonly moments: readonly Moment[];
  /** The copy as it is read again later, by itself; null: it cannot be. */
  standing?(record: FileRecord, copy: Copy): Copy | null;
  /** Says of each version where it stands. */
  readonly note: string;
  readonly counter: SetCounter;
}

/** A batch, with what is known so far of the sets it comes from. */
export interface EarlierBatch extends CopyBatch {
  readonly sets: readonly SetFacts[];
}

/** States to keep to, by their moments, both ends included. UTC milliseconds; null: no end. */
export interface Between {
  readonly from: number | null;
  readonly to: number | null;
}

const standsBetween = ({ asOf }: Pick<Moment, "asOf">, { from, to }: Between): boolean =>
  asOf !== null && asOf >= (from ?? asOf) && asOf <= (to ?? asOf);

/**
 * Keeps the moments between two, and the newest of all that is not broken off, which says what became of what stood then. The present volume says
 * that of its snapshots.
 * @returns none, where no state stands between them
 */
function keptMoments({ moments, present }: Series, between: Between): Kept {
  const states = moments.filter((moment) => moment !== present);
  const kept = states.filter((moment) => standsBetween(moment, between));
  const last = kept.at(-1);
  if (!last) return { moments: [] };
  const after = states.slice(states.indexOf(last) + 1);
  if (present) return { moments: [...kept, present], afterGap: after.length > 0 ? present : undefined };
  // What one that was broken off does not have says nothing.
  const newest = after.findLast(({ asOf, complete }) => asOf !== null && complete);
  return newest ? { moments: [...kept, newest], afterGap: newest === after[0] ? undefined : newest } : { moments: kept };
}

/** What a pass over earlier states may be asked. */
export interface EarlierStatesOptions {
  /** The states to keep to; not given: all. */
  readonly between?: Between | undefined;
  /** The newest state is read first. */
  readonly newestFirst?: boolean | undefined;
  /** From an earlier batch's `resume`, of a tree that cannot have changed since: sets that were read to their end are not read again. */
  readonly from?: Checkpoint | null | undefined;
}

/** What a checkpoint keeps: the sets that were read to their end, the files and states that were, and the version of its own form. */
interface ReadSets {
  readonly form: 1;
  readonly ended: readonly SetFacts[];
  readonly done: number;
  readonly read: number;
  /** The set it is at. */
  readonly within?: GivenOf;
}

/** What was given of a set. */
interface GivenOf {
  readonly id: string;
  /** Versions. */
  readonly count: number;
  /** A checksum over them, by which it is seen whether the same ones come again. */
  readonly sum: number;
}
const NONE_READ: ReadSets = { form: 1, ended: [], done: 0, read: 0 };

/** Checkpoints were a number once, and said nothing. */
function readSetsOf(from: Checkpoint | null): ReadSets {
  if (from === null || isNumberCheckpoint(from)) return NONE_READ;
  const found = readTextCheckpoint(from) as Partial<ReadSets> | null;
  if (found?.form !== 1 || !Array.isArray(found.ended)) throw new Malformed("This checkpoint is not of this reader.");
  return found as ReadSets;
}

/**
 * The pass "earlier states": each content a path had in the snapshots of a volume and in the backup sets that lie on it, once, with the
 * first and the last moment it stood in. Interrupted, it goes through the states of the set it was at again, because what a later state has too is the same version,
 * and gives what was not given; where other versions come than before, the tree has changed, and it gives all of that set: who stores them knows which it has.
 */
export function* earlierStatesPass(
  around: Around,
  step: number,
  { between, newestFirst: isNewestFirst = false, from = null }: EarlierStatesOptions = {},
): Generator<EarlierBatch, void, void> {
  const before = readSetsOf(from);
  let { done, read } = before;
  let copies: Copy[] = [];
  const now = Date.now();
  const ended: SetFacts[] = [...before.ended];
  let resume = textCheckpoint(before);
  let current: SetCounter | null = null;
  const batch = (total: number): EarlierBatch => {
    const given = copies;
    copies = [];
    return {
      copies: given,
      resume,
      done,
      total,
      sets: current ? [...ended, current.facts(now)] : ended,
    };
  };
  const tree = rememberedTree(around.tree);
  const sets = findSets(tree);
  const toRead = (states: readonly Pick<Moment, "asOf">[]) =>
    between ? states.filter((state) => standsBetween(state, between)).length : states.length;
  const all = sets.reduce((sum, { states }) => sum + toRead(states), 0) + toRead(around.volume.states?.() ?? []);
  /** Files to come are guessed from those there were. */
  const total = () => (read === 0 ? 0 : Math.max(done, Math.round((done / read) * all)));
  function* versionsOf(series: Series): Generator<EarlierBatch, void, void> {
    const { id } = series.counter;
    if (before.ended.some((each) => each.id === id)) return;
    const [doneBefore, readBefore] = [done, read];
    if (before.within?.id === id && (yield* walk(series, series.counter.anew(), before.within))) return;
    [done, read, copies] = [doneBefore, readBefore, []];
    yield* walk(series, series.counter, { id, count: 0, sum: 0 });
  }
  /** Goes through a series and gives its versions, but for the first ones. @returns whether those were the ones that were given before */
  function* walk(series: Series, counter: SetCounter, already: GivenOf): Generator<EarlierBatch, boolean, void> {
    current = counter;
    let [count, sum] = [0, 0];
    const atSet = { form: 1, ended: [...ended], done, read } satisfies ReadSets;
    /** A state was read to its end since the last batch. */
    let isNews = false;
    /** Other versions came than were given before. */
    let isOther = false;
    const sink: VersionSink = {
      saw: (path, moment) => {
        done += 1;
        if (moment !== series.present) counter.sawFile(path);
      },
      give: (path, version, became) => {
        const copy = toCopy(series, path, version, became);
        counter.sawVersion(copy);
        count += 1;
        if (count > already.count) copies.push(copy);
        sum = crc32(`${copy.path}\n${copy.sameAs}\n${copy.present?.from}`, sum);
        if (count === already.count) isOther = sum !== already.sum;
      },
      ended: (moment) => {
        read += 1;
        if (moment !== series.present) counter.sawState(moment.notes?.() ?? []);
        isNews = true;
      },
    };
    const kept: Kept = between ? keptMoments(series, between) : series;
    for (const _ of (isNewestFirst ? newestFirst : oldestFirst)(series, kept, sink)) {
      if (isOther) return false;
      if (!isNews && copies.length < step) continue;
      isNews = false;
      if (count > already.count) resume = textCheckpoint({ ...atSet, within: { id: counter.id, count, sum } } satisfies ReadSets);
      yield batch(total());
    }
    if (isOther || count < already.count) return false;
    ended.push(counter.facts(now));
    current = null;
    // All its versions go with this batch.
    resume = textCheckpoint({ form: 1, ended, done, read } satisfies ReadSets);
    yield batch(total());
    return true;
  }
  for (const set of sets)
    try {
      yield* versionsOf(seriesOfSet(set, tree));
    } finally {
      set.close?.();
    }
  yield* versionsOfSnapshots(around, versionsOf);
  yield batch(done);
}

function* versionsOfSnapshots(
  { volume, tree, openState }: Around,
  versionsOf: (series: Series) => Generator<EarlierBatch, void, void>,
): Generator<EarlierBatch, void, void> {
  // Some file systems' own records hold what only their snapshots know.
  if (volume.recordsCoverStates) return;
  const states = (volume.states?.() ?? []).filter(({ kind, asOf }) => kind === "snapshot" && asOf !== null);
  if (states.length === 0) return;
  const opened: OpenedState[] = [];
  const moments = states.map(({ view, asOf, label, notes = [] }): Moment => {
    const state = () => {
      const found = openState(view);
      opened.push(found);
      return found;
    };
    let at: OpenedState | undefined;
    const open = () => {
      at ??= state();
      return at;
    };
    return {
      asOf,
      complete: true,
      label,
      files: () => standingOn(open().volume),
      notes: () => notes,
      get tree() {
        return open().tree;
      },
    };
  });
  const present: Moment = { asOf: null, complete: true, label: "", files: () => standingOn(volume), tree };
  const series: Series = {
    place: "snapshot",
    moments: [...moments, present],
    present,
    keyOf: keyByRecord,
    identityOf: identityByRecord,
    pathOf: (path) => path,
    note: "Kept by a snapshot of the volume.",
    counter: new SetCounter(
      { kind: "snapshots", root: "", machine: states.find(({ machine }) => machine)?.machine ?? null, user: null },
      states.map(({ asOf }) => ({ asOf, unfinished: false })),
    ),
  };
  try {
    yield* versionsOf(series);
  } finally {
    for (const state of opened) state.close();
  }
}

/** The same record, written to last at the same moment. Where its bytes stand proves nothing: a snapshot keeps what lies beside them along. */
const keyByRecord = ({ reference, size, modified }: FileRecord): string => `${reference} ${size} ${modified}`;

/** The same record of a file that was made at the same moment: a record that was used again is of a file made later. */
const identityByRecord = ({ reference, created }: FileRecord): string | null => (created === null ? null : `${reference} ${created}`);

/** The same record with the same bytes at the same place is the same version. */
function keyByPlace(record: FileRecord): string {
  const place = likeliest(record);
  return [record.reference, record.size, record.modified, place ? firstByte(place.layout) : null].join(" ");
}

/** All that a volume has now, as a state of it. */
function* standingOn(volume: FileSystem): Generator<StandingFile, void, void> {
  for (const record of recordsOf(volume)) yield asStanding(record);
}

function seriesOfSet(set: BackupSet, tree: FileTree): Series {
  const ofSet = (state: SetState): Moment => ({
    asOf: state.asOf,
    complete: !state.unfinished,
    label: state.label,
    files: () => set.standingIn(state, tree),
    notes: () => [...state.notes, ...(set.notesOf?.(state, tree) ?? [])],
    tree: { ...tree, readRecords: tree.readRecords.bind(tree), open: (record) => set.open?.(record, tree) ?? tree.open(record) },
  });
  return {
    place: "backup",
    moments: set.states.map(ofSet),
    keyOf: KEYS[set.kind],
    ...(set.kind === "dated-trees" ? { identityOf: (record: FileRecord) => (record.size > 0 ? KEYS[set.kind](record) : null) } : {}),
    ...(set.open ? { standing: (record: FileRecord, copy: Copy) => inArchive(set.placeOf?.(record, tree) ?? null, copy) } : {}),
    // Copies of a folder that is here are versions of its files; of other sets the folder they stand in is that of a drive of the client's.
    pathOf: (path) => (set.kind === "folder-copies" ? path : `${set.root}${path.replace(/^\/([A-Z]):\//, "/$1/")}`),
    note:
      set.machine === null
        ? "Kept in a backup set."
        : `Kept in a backup set of the computer “${set.machine}”${set.user === null ? "" : `, user “${set.user}”`}.`,
    counter: SetCounter.ofSet(set),
  };
}

/** Archives that a copy names at most. */
const MOST_NAMED = 4;

const asHolder = ({ size, modified, created }: FileRecord): HolderFile => ({ size, modified, created });

/** A copy in an archive as what its archive holds; null: what is there of it does not stand there by itself. */
function inArchive(place: PlaceInTree | null, copy: Copy): Copy | null {
  if (copy.absent || copy.size === 0) return { ...copy, file: null };
  if (copy.condition === "name-only") return { ...copy, file: null, layout: null };
  if (!place) return null;
  const { layout, holder, further } = place;
  const names = [holder, ...further].map(({ name }) => `“${name}”`);
  return {
    ...copy,
    layout,
    file: holder.file ?? null,
    holder: {
      ...asHolder(holder),
      ...(further.length > 0 ? { further: further.map((file) => ({ path: file.file ?? "", ...asHolder(file) })) } : {}),
    },
    notes: [
      ...copy.notes,
      names.length > 1
        ? `It stands in the archives ${names.slice(0, MOST_NAMED).join(", ")}${names.length > MOST_NAMED ? " and further ones" : ""}: all of them are needed for it.`
        : layout.segments.some(({ kind }) => kind === "packed")
          ? `It stands in the archive ${names[0]}, which is compressed as a whole.`
          : `It stands in the archive ${names[0]}.`,
    ],
  };
}

const ONLY_TOGETHER = "It stands in its archive in a way that is taken out with the whole archive alone: use the command line for that.";

const bySizeAndDate = ({ size, modified }: FileRecord) => `${size} ${modified}`;
const KEYS: Readonly<Record<BackupSet["kind"], (record: FileRecord) => string>> = {
  // Each version lies under a name of its own.
  "dated-copies": ({ reference }) => reference,
  // Unchanged files are linked: the same file, not only one of the same date.
  "dated-trees": (record) => record.identity ?? keyByPlace(record),
  "archive-sets": bySizeAndDate,
  "dated-archives": bySizeAndDate,
  "folder-copies": bySizeAndDate,
  "phone-backups": bySizeAndDate,
};

/**
 * Until when nothing says otherwise: UTC milliseconds; null: nothing does. Between the last snapshot and now anything may have happened.
 */
const endOf = (until: Moment, ended: Moment | null): number | null =>
  ended === null ? null : ended.asOf === null ? until.asOf : ended.asOf - 1;

/** What is said of a version that does not stand to the end. @param moment the last state that has it @param next the next one that was read */
const AFTER = {
  gone: (moment: string, next: string) => `It stood there last in “${moment}”, and is not in ${next}.`,
  missing: (moment: string, next: string) => `It stood there last in “${moment}”, is not in ${next}, and is there again later.`,
  changed: (moment: string, next: string) => `It stood there last in “${moment}”; ${next} has other content.`,
  moved: (moment: string, next: string, to: string) => `It stood there last in “${moment}”; in ${next} the same file is “${to}”.`,
  same: (moment: string, next: string) => `It stood there in “${moment}”; ${next} has it too.`,
  last: () => null,
} as const satisfies Record<Became, (moment: string, next: string, to: string) => string | null>;
const NEXT = "the state after it";
const NOW = "the volume as it is now";
const NEWEST = "the newest state (those between are left out)";

function toCopy(
  { place, pathOf, note, standing, counter, present }: Series,
  clientPath: string,
  { record, tree, key, from, until, ended, cut, ...version }: Version,
  after: Became,
): Copy {
  const path = pathOf(clientPath);
  const movedFrom = version.movedFrom === undefined ? undefined : pathOf(version.movedFrom);
  const movedTo = version.movedTo === undefined ? undefined : pathOf(version.movedTo);
  const name = path.slice(path.lastIndexOf("/") + 1);
  const read = copyInTree({ ...tree, open: () => tree.open(record) }, { ...record, path, name });
  const copy = standing
    ? (standing(record, read) ?? {
        ...read,
        layout: null,
        file: null,
        absent: "not-followed" as const,
        condition: "not-checked" as const,
        survival: 0,
        notes: [...read.notes, ONLY_TOGETHER],
      })
    : read;
  const { asOf } = from;
  const next = cut ? NEWEST : ended !== null && ended === present ? NOW : NEXT;
  const words = [
    ...(movedFrom === undefined ? [] : [`In the state before, the same file was “${movedFrom}”.`]),
    ...(until.label === "" ? [] : [AFTER[after](until.label, next, movedTo ?? "")].filter((each) => each !== null)),
  ];
  return {
    ...copy,
    place,
    // What a later state does not have any more was deleted, though this copy of it is there.
    state: after === "gone" ? "deleted" : "live",
    reference: asOf === null ? copy.reference : `${copy.reference}, as of ${new Date(asOf).toISOString()}`,
    ...(asOf === null ? {} : { present: { from: asOf, until: cut ? until.asOf : endOf(until, ended) } }),
    set: counter.id,
    sameAs: key,
    ...(movedTo === undefined ? {} : { movedTo }),
    notes: [note, ...words, ...copy.notes],
  };
}
