import type { FileRecord } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import { ARCHIVE } from "./archive-parts";
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
import { datesInName, type NamedDate, readDates } from "./named-dates";
import { readStateFolder } from "./stamps";

const DAY = 24 * 3_600_000;
const MOST_COPIES = 4096;
/** Files kept in mind of one tree: far more than a person copies by hand. */
const MOST_FILES = 1_000_000;
/** A copy shares at least so many of its files, and so large a part of them, with what it is a copy of. */
const FEWEST_SHARED = 2;
const SHARED_PART = 0.3;
/** So large a part of what is shared is as long in both: pictures of a camera have the same names in every folder, and are others. */
const EQUAL_PART = 0.1;
/** Folders in which a name is looked up. */
const MOST_ALIKE = 64;

/** What people call a copy, in some languages. Common practice, no published source. */
const COPY_WORDS =
  /(?<!\p{L})(copy|copies|backups?|back-up|snapshots?|(?:hourly|daily|weekly|monthly)[.-]\d+|bak|old|older|archive|save|saved|before|kopie|kopien|kopi|sicherung|alt|alte|archiv|vorher|copie|sauvegarde|ancien|avant|copia|respaldo|viejo|antiguo|salvataggio|vecchio|kopia|zaloha|záloha|varmuuskopio|säkerhetskopia|sikkerhedskopi|sikkerhetskopi|yedek|копия|бэкап)(?!\p{L})|バックアップ|コピー|备份|備份|副本|백업|복사본/iu;

interface Candidate {
  readonly folder: string;
  /** Its files by their paths below it, without archives that lie in a folder of their date: these are states of an archive set. */
  readonly files: Map<string, { size: number; modified: number | null }>;
  newest: number;
}

/**
 * Finds folders that a person copied: named by a date or called a copy, and sharing files with another folder. What they are copies of
 * shows where the client had them.
 */
export class FolderCopiesFinder implements SetFinder {
  readonly #candidates = new Map<string, Candidate>();
  /** Paths of all other files, by the last part of the path. */
  readonly #others = new Map<string, { path: string; size: number }[]>();
  readonly #folders = new Map<string, string | null>();
  #count = 0;

  note(record: FileRecord): void {
    if (record.state !== "live" || record.system) return;
    if (record.type === "folder") {
      if (isCopyName(record.name) && this.#around(record.path) !== OF_A_SET && this.#candidates.size < MOST_COPIES)
        this.#candidateOf(record.path);
      return;
    }
    const folder = this.#around(record.path.slice(0, -record.name.length - 1));
    if (folder === OF_A_SET || this.#count >= MOST_FILES) return;
    this.#count += 1;
    if (folder === null) {
      const others = this.#others.get(record.name) ?? [];
      if (others.length < MOST_ALIKE) others.push({ path: record.path, size: record.size });
      this.#others.set(record.name, others);
      return;
    }
    const candidate = this.#candidateOf(folder);
    if (candidate && !isDatedArchive(record, folder))
      candidate.files.set(record.path.slice(folder.length), { size: record.size, modified: record.modified });
    if (candidate) candidate.newest = Math.max(candidate.newest, record.modified ?? 0);
  }

  /** The copied folder around the files of a folder; null: there is none. Asked once for each folder. */
  #around(folder: string): string | null {
    const known = this.#folders.get(folder);
    if (known !== undefined) return known;
    const found = copyAround(folder);
    if (this.#folders.size < MOST_FOLDERS) this.#folders.set(folder, found);
    return found;
  }

  #candidateOf(folder: string): Candidate | null {
    const known = this.#candidates.get(folder);
    if (known || this.#candidates.size >= MOST_COPIES) return known ?? null;
    const made: Candidate = { folder, files: new Map(), newest: 0 };
    this.#candidates.set(folder, made);
    return made;
  }

  found(): BackupSet[] {
    const candidates = [...this.#candidates.values()].filter(({ files }) => files.size >= FEWEST_SHARED);
    const folders = candidates.map(({ folder }) => folder);
    const byOriginal = new Map<string, Candidate[]>();
    const loose: Candidate[] = [];
    for (const candidate of candidates) {
      const original = this.#originalOf(candidate);
      if (original === null) loose.push(candidate);
      else byOriginal.set(original, [...(byOriginal.get(original) ?? []), candidate]);
    }
    // Of copies without an original, those of one folder share files with each other.
    for (const group of likeOnes(loose)) if (group.length > 1) byOriginal.set(`?${group[0]?.folder}`, group);
    return [...byOriginal].map(([original, copies]) => new FolderCopies(original.startsWith("?") ? null : original, copies, folders));
  }

  /** The folder whose files stand at the same places below it; null: there is none. */
  #originalOf({ files }: Candidate): string | null {
    const votes = new Map<string, Alike>();
    for (const [path, { size }] of files)
      for (const other of this.#others.get(path.slice(path.lastIndexOf("/") + 1)) ?? [])
        if (other.path.endsWith(path)) vote(votes, other.path.slice(0, -path.length), size === other.size);
    const [best] = [...votes].sort(([a, x], [b, y]) => y.shared - x.shared || a.length - b.length);
    return best && areCopies(best[1], files.size) ? best[0] : null;
  }
}

/** How many files two folders share, and how many of these are as long in both. */
interface Alike {
  shared: number;
  equal: number;
}

function vote<Key>(votes: Map<Key, Alike>, key: Key, equal: boolean): void {
  const found = votes.get(key) ?? { shared: 0, equal: 0 };
  votes.set(key, found);
  found.shared += 1;
  if (equal) found.equal += 1;
}

const areCopies = ({ shared, equal }: Alike, files: number): boolean =>
  shared >= Math.max(FEWEST_SHARED, files * SHARED_PART) && equal >= Math.max(1, shared * EQUAL_PART);

/** Whether an archive lies in a folder that is named by its date. */
const isDatedArchive = ({ name, path }: FileRecord, folder: string) =>
  path.length === folder.length + 1 + name.length &&
  ARCHIVE.test(name) &&
  datesInName(folder.slice(folder.lastIndexOf("/") + 1)).length > 0;

const isCopyName = (name: string) => datesInName(name).length > 0 || COPY_WORDS.test(name);

/** What a state of dated trees holds is no copy made by hand. */
const OF_A_SET = "";
const MOST_FOLDERS = 500_000;

/** The innermost folder of these that is called a copy; null: there is none. */
function copyAround(folder: string): string | null {
  const parts = folder.split("/");
  if (parts.some((part) => readStateFolder(part) !== null)) return OF_A_SET;
  for (let index = parts.length - 1; index >= 1; index -= 1)
    if (isCopyName(parts[index] as string)) return parts.slice(0, index + 1).join("/");
  return null;
}

/** Copies that share files with the first of a group. */
function likeOnes(candidates: readonly Candidate[]): Candidate[][] {
  const groups: Candidate[][] = [];
  /** By the path of a file: the groups whose first copy has it. */
  const having = new Map<string, { group: Candidate[]; size: number }[]>();
  for (const candidate of candidates) {
    const votes = new Map<Candidate[], Alike>();
    for (const [path, { size }] of candidate.files) for (const each of having.get(path) ?? []) vote(votes, each.group, each.size === size);
    const [best] = [...votes].sort(([, a], [, b]) => b.shared - a.shared);
    if (best && areCopies(best[1], candidate.files.size)) {
      best[0].push(candidate);
      continue;
    }
    const group = [candidate];
    groups.push(group);
    for (const [path, { size }] of candidate.files) {
      const known = having.get(path) ?? [];
      if (known.length < MOST_ALIKE) known.push({ group, size });
      having.set(path, known);
    }
  }
  return groups;
}

interface FolderCopy extends SetState {
  readonly folder: string;
}

class FolderCopies implements BackupSet {
  readonly kind = "folder-copies";
  readonly machine = null;
  readonly user = null;
  readonly root: string;
  readonly states: readonly FolderCopy[];
  readonly notes: readonly string[];

  /**
   * @param original the folder they are copies of, as it is now; null: it is not there
   * @param all the folders of all copies, of this set and of others
   */
  constructor(
    private readonly original: string | null,
    copies: readonly Candidate[],
    private readonly all: readonly string[],
  ) {
    this.root = original ?? parentOf(copies[0]?.folder ?? "");
    this.states = toStates(copies).sort(byTime);
    this.notes = original === null ? ["What these are copies of is not here: paths begin at the copied folder."] : [];
  }

  *standingIn(state: SetState, tree: FileTree): Generator<StandingFile, void, void> {
    const copy = this.states.find(({ key }) => key === state.key);
    if (!copy) return;
    const inner = this.all.filter((folder) => folder !== copy.folder && below(folder, copy.folder) !== null);
    for (const record of recordsBelow(tree, copy.folder)) {
      if (record.state !== "live") continue;
      const own = below(record.path, copy.folder);
      // A copy that lies inside another one is one of its own.
      if (!own || inner.some((folder) => below(record.path, folder) !== null)) continue;
      yield { record: unvouched(record), path: `${this.original ?? ""}${own}` };
    }
  }
}

/** A copy was made after its newest file was written, and mostly soon after. */
const wait = ({ end }: NamedDate, newest: number): number => (newest > end + DAY ? Number.POSITIVE_INFINITY : Math.max(0, end - newest));

function toStates(copies: readonly Candidate[]): FolderCopy[] {
  const names = copies.map(({ folder, newest }) => ({ name: folder.slice(folder.lastIndexOf("/") + 1), known: newest || null }));
  const dates = readDates(names, wait);
  return copies.map((copy, index) => toState(copy, dates[index]?.date ?? null, dates[index]?.others ?? []));
}

const dayText = ({ at }: NamedDate): string => new Date(at).toISOString().slice(0, 10);

function toState({ folder, newest }: Candidate, named: NamedDate | null, others: readonly NamedDate[]): FolderCopy {
  const later = named !== null && newest > named.end + DAY;
  return {
    key: folder.slice(1),
    label: folder.slice(1),
    asOf: named && !later ? named.end : newest || null,
    unfinished: false,
    notes: [
      ...(later
        ? [
            "Files in it were written after the date in its name: that name was probably copied along. The time given is that of its newest file.",
          ]
        : []),
      ...(named && !later && others.length > 0
        ? [
            `The date in its name can mean ${[named, ...others].map(dayText).join(" or ")}: it is taken for ${dayText(named)}, which goes best with the dates of its files and the names beside it.`,
          ]
        : []),
      ...(named === null ? ["Its name tells no date: the time given is that of its newest file."] : []),
    ],
    folder,
  };
}
