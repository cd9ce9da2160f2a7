import type { ArchiveEntry, ArchiveReading } from "../archives/archive";
import { readTarArchive } from "../archives/tar-archive";
import { unpackArchive } from "../archives/unpack";
import { readZipArchive } from "../archives/zip-archive";
import { type ByteSource, readBytes } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import { type Layout, layoutOf, type Segment } from "../bytes/layout";
import { lostPart } from "../bytes/lost-part";
import type { FileRecord } from "../filesystems/file-record";
import type { FileTree, OpenedFile } from "../places/file-tree";
import { ArchiveChain, type ArchiveEdges } from "./archive-edges";
import { ARCHIVE, type Archive, archivesOf, filesOf, missingNumbers, missingParts, type Part, sizeOfParts } from "./archive-parts";
import { recordOf, runsOf, segmentsOf } from "./archive-records";
import {
  asStanding,
  type BackupSet,
  byTime,
  type PlaceInTree,
  parentOf,
  type SetFinder,
  type SetState,
  type StandingFile,
} from "./backup-set";
import { aheadOfUtc } from "./clock";
import { dateInName, type NamedDate, readDates, withoutDates } from "./named-dates";
import { placeOverFiles, shifted } from "./over-files";
import { readStampedName } from "./stamps";

const MOST_ARCHIVES = 100_000;
/** Archives that stay open, so that the files of one need not lead to its being read anew for each. */
const MOST_OPEN = 4;
const MOST_UNPACKED_AT_ONCE = 32 << 20;
const DAY = 24 * 3_600_000;

/** What one run wrote. */
interface Run extends SetState {
  readonly archives: readonly Archive[];
}

/**
 * Finds sets of archives: numbered ones in folders named by the moments of their runs, below one folder; or archives of one name
 * beside each other that differ by a date in it. The layouts are common practice, no published source.
 */
export class ArchiveSetsFinder implements SetFinder {
  readonly #folders = new Map<string, FileRecord[]>();
  #count = 0;

  note(record: FileRecord): void {
    if (record.type !== "file" || record.state !== "live" || record.system || !ARCHIVE.test(record.name) || this.#count >= MOST_ARCHIVES)
      return;
    // An archive that is a dated copy is a version of a file.
    if (readStampedName(record.name)) return;
    this.#count += 1;
    const folder = parentOf(record.path);
    const found = this.#folders.get(folder);
    if (found) found.push(record);
    else this.#folders.set(folder, [record]);
  }

  found(tree: FileTree): BackupSet[] {
    const runs = new Map<string, { folder: string; files: FileRecord[] }[]>();
    /** By the folder in which they, or the dated folders around them, lie. */
    const dated = new Map<string, DatedArchive[]>();
    for (const [folder, files] of this.#folders) {
      const name = folder.slice(folder.lastIndexOf("/") + 1);
      const date = dateInName(name);
      const above = date ? parentOf(folder) : folder;
      if (date?.precise && files.every(isNumbered)) runs.set(above, [...(runs.get(above) ?? []), { folder, files }]);
      else dated.set(above, [...(dated.get(above) ?? []), ...datedIn(date ? name : null, files, tree)]);
    }
    const sets = [...dated].flatMap(([above, archives]) => datedArchives(above, archives));
    for (const [root, folders] of runs) sets.push(new ArchiveSet("archive-sets", root, machineOf(root), runsIn(root, folders, tree)));
    return sets.filter((set) => (set as ArchiveSet).isReadable(tree));
  }
}

/** The folder above one that is named by a date is called after the computer. */
function machineOf(root: string): string | null {
  const parts = root.split("/").filter((part) => part !== "");
  const last = parts.at(-1);
  return (last !== undefined && dateInName(last) ? parts.at(-2) : last) ?? null;
}

function runsIn(root: string, folders: readonly { folder: string; files: FileRecord[] }[], tree: FileTree): Run[] {
  const named = folders.map(({ folder, files }) => {
    const at = dateInName(folder.slice(folder.lastIndexOf("/") + 1))?.at ?? 0;
    // The first archive of a run is written to last soon after the folder was named.
    const written = files.flatMap(({ modified }) => (modified === null ? [] : [modified]));
    return { folder, files, at, modified: written.length > 0 ? Math.min(...written) : null };
  });
  const zoneOf = aheadOfUtc(named);
  return named
    .map(({ folder, files, at, modified }): Run => {
      const ahead = zoneOf({ at, modified });
      const archives = archivesOf(files, tree);
      const missing = missingNumbers(archives);
      return {
        key: folder.slice(root.length + 1),
        label: folder.slice(root.length + 1),
        asOf: at - (ahead ?? 0),
        unfinished: false,
        notes: [
          ...(ahead === null ? ["Its name is a local time, and nothing says of which zone."] : []),
          ...missing.map(
            (name) =>
              `The archive “${name}” of this run is missing: what only it held is not listed, and what it had anew stands here as it was before.`,
          ),
          ...archives.flatMap(missingParts),
        ],
        archives,
      };
    })
    .sort(byTime);
}

const KIND_WORDS = /(?<![a-z])(full|incr?|incremental|diff|differential|base|level\d)(?![a-z])/gi;

/** An archive whose own name has a date, or that lies in a folder of its date. */
interface DatedArchive {
  readonly archive: Archive;
  /** Its file, or the last of its parts. */
  readonly file: FileRecord;
  /** The name that has the date. */
  readonly dated: string;
  /** The folder of its date, with a slash behind it; "": its own name has the date. */
  readonly folder: string;
}

const datedIn = (folder: string | null, files: readonly FileRecord[], tree: FileTree): DatedArchive[] =>
  archivesOf(files, tree).flatMap((archive): DatedArchive[] => {
    const file = filesOf(archive).at(-1);
    if (!file) return [];
    const own = bareName(file);
    if (dateInName(own)) return [{ archive, file, dated: own, folder: folder === null ? "" : `${folder}/` }];
    return folder === null ? [] : [{ archive, file, dated: folder, folder: `${folder}/` }];
  });

/** Archives beside each other, or in dated folders beside each other, that are called alike but for a date. */
function datedArchives(above: string, archives: readonly DatedArchive[]): BackupSet[] {
  const byName = new Map<string, DatedArchive[]>();
  for (const each of archives) {
    const name = stemOf(each.file);
    byName.set(name, [...(byName.get(name) ?? []), each]);
  }
  return [...byName].flatMap(([name, found]) => {
    // One archive in one dated folder is no set yet.
    if (found.length === 1 && found[0]?.dated !== bareName(found[0]?.file as FileRecord)) return [];
    const dates = readDates(
      found.map(({ dated, file }) => ({ name: dated, known: file.modified })),
      age,
    );
    const runs = found.flatMap((each, index) => {
      const date = dates[index]?.date;
      return date ? [toRun(each, date)] : [];
    });
    return [new ArchiveSet("dated-archives", `${above}/${name}`, null, runs.sort(byTime))];
  });
}

/** An archive is written on the day its name tells, and may be copied later. */
const age = ({ at }: NamedDate, written: number): number => (at > written + DAY ? Number.POSITIVE_INFINITY : Math.max(0, written - at));

/** Archives of one run of a program that writes several are numbered. */
const isNumbered = (file: FileRecord): boolean => /\d$/.test(bareName(file));

const bareName = ({ name }: FileRecord): string => name.replace(ARCHIVE, "");

/** A name without its date, what kind of run it was, a number of a copy, and its end. */
const stemOf = (file: FileRecord): string =>
  withoutDates(bareName(file))
    .replace(KIND_WORDS, "")
    .replace(/\(\d+\)/g, "")
    .replace(/^[-._\s]+|[-._\s]+$/g, "")
    .toLowerCase();

function toRun({ archive, file: { name, modified }, folder }: DatedArchive, { at, end }: NamedDate): Run {
  // The file itself knows the hour, where it was not copied since.
  const own = end > at && modified !== null && modified >= at - DAY / 2 && modified <= end + DAY / 2 ? modified : end;
  return { key: folder + name, label: folder + name, asOf: own, unfinished: false, notes: missingParts(archive), archives: [archive] };
}

/** Where a file of a state comes from: an entry of an archive, or several that are pieces of it. */
interface Origin {
  readonly archive: Archive;
  readonly index: number;
}

class ArchiveSet implements BackupSet {
  readonly user = null;
  readonly notes: readonly string[];
  readonly #origins = new WeakMap<FileRecord, readonly Origin[]>();
  readonly #places = new WeakMap<Archive, Layout | null>();
  readonly #open = new Map<Archive, { reading: ArchiveReading; close(): void }>();

  constructor(
    readonly kind: "archive-sets" | "dated-archives",
    readonly root: string,
    readonly machine: string | null,
    readonly states: readonly Run[],
  ) {
    const missing = states.filter(({ notes }) => notes.some((note) => /(?:is|are) missing: /.test(note))).length;
    this.notes = missing > 0 ? [`Archives of ${missing === 1 ? "one run" : `${missing} runs`}, or parts of them, are missing.`] : [];
  }

  /** Whether anything in it is an archive that can be read. */
  isReadable(tree: FileTree): boolean {
    return this.states.some(({ archives }) => archives.some((archive) => looksLikeArchive(tree, archive)));
  }

  *standingIn({ key }: SetState, tree: FileTree): Generator<StandingFile, void, void> {
    const last = this.states.findIndex((state) => state.key === key);
    const standing = new Map<string, readonly Origin[]>();
    const chains = new Map<Archive, ArchiveChain>();
    const folders = new Map<string, Origin>();
    const first = last - this.#runsBefore(last, tree);
    for (const run of this.states.slice(first, last + 1)) {
      const inRun = new Map<string, readonly Origin[]>();
      const edges: ArchiveEdges[] = [];
      for (const archive of run.archives) {
        const { entries, listings, isAll } = this.#read(tree, archive);
        const files = entries.filter(({ type }) => type !== "folder");
        edges.push({
          name: archive.name,
          first: files[0]?.path ?? null,
          last: files.at(-1)?.path ?? null,
          isOpenEnded: !isAll || files.length === 0,
        });
        for (const [folder, names] of listings) removeUnlisted(standing, folder, names);
        entries.forEach(({ type, path, restFrom }, index) => {
          const origin = { archive, index };
          if (type === "folder") folders.set(path, origin);
          else {
            const before = inRun.get(path);
            // Each of both is as large as the whole file, and says what of it is missing.
            if (before && restFrom !== undefined) return;
            // The same file again in a later archive of the run: it goes on there.
            inRun.set(path, before && before[0]?.archive !== archive ? [...before, origin] : [origin]);
          }
        });
      }
      for (const [path, origins] of inRun) standing.set(path, origins);
      if (this.kind === "archive-sets") {
        const chain = new ArchiveChain(edges);
        for (const archive of run.archives) chains.set(archive, chain);
      }
    }
    for (const [path, origin] of folders) yield asStanding(recordOf(path, this.#entriesOf([origin], tree)));
    // Archive by archive, so that each is opened once.
    const order = new Map(this.states.flatMap(({ archives }) => archives).map((archive, index) => [archive, index]));
    const placeOf = ([origin]: readonly Origin[]) => (origin ? (order.get(origin.archive) ?? 0) : 0);
    for (const [path, origins] of [...standing].sort(([, a], [, b]) => placeOf(a) - placeOf(b))) {
      const [origin] = origins;
      const chain = origin && chains.get(origin.archive);
      const within = origins.map(({ archive }) => archive.name);
      const record = recordOf(path, this.#entriesOf(origins, tree), {
        hasGaps: origins.some(({ archive }) => archive.missing.length > 0),
        mayLack: chain?.mayStandIn(path, within) ?? [],
      });
      this.#origins.set(record, origins);
      yield asStanding(record);
    }
  }

  #entriesOf(origins: readonly Origin[], tree: FileTree): ArchiveEntry[] {
    return origins.flatMap(({ archive, index }) => {
      const entry = this.#read(tree, archive).entries[index];
      return entry ? [entry] : [];
    });
  }

  notesOf({ key }: SetState, tree: FileTree): string[] {
    const run = this.states.find((state) => state.key === key);
    return (run?.archives ?? []).flatMap((archive) => {
      // What is compressed as a whole would be unpacked for it.
      if (sizeOfParts(archive) > MOST_UNPACKED_AT_ONCE && !/\.(?:zip|tar)$/i.test(filesOf(archive).at(-1)?.name ?? "")) return [];
      const named = (run?.archives.length ?? 0) > 1;
      return this.#read(tree, archive).notes.map((note) => (named ? `${archive.name}: ${note}` : note));
    });
  }

  open(record: FileRecord, tree: FileTree): OpenedFile | null {
    const origins = this.#origins.get(record);
    if (!origins) return null;
    const pieces = this.#entriesOf(origins, tree).map((entry) => entry.open());
    return { content: pieces.length === 1 && pieces[0] ? pieces[0] : new ConcatSource(pieces), close: () => undefined };
  }

  placeOf(record: FileRecord, tree: FileTree): PlaceInTree | null {
    const origins = this.#origins.get(record) ?? [];
    const [holder] = origins[0] ? filesOf(origins[0].archive) : [];
    if (!holder) return null;
    const segments: Segment[] = [];
    /** Of a folder: the parts of the archives, one behind the other. */
    const parts: Part[] = [];
    let [size, begin] = [0, 0];
    for (const { archive, index } of origins) {
      const { entries, packed } = this.#read(tree, archive);
      const entry = entries[index];
      const found = entry && segmentsOf(entry, this.#placeOfArchive(archive), packed ?? null);
      if (!found) return null;
      segments.push(...(holder.file ? shifted(found, begin) : found));
      size += entry.size;
      parts.push(...archive.parts);
      begin += sizeOfParts(archive);
    }
    return holder.file ? placeOverFiles(segments, size, parts) : { layout: layoutOf(segments, size), holder, further: [] };
  }

  #placeOfArchive(archive: Archive): Layout | null {
    const known = this.#places.get(archive);
    if (known !== undefined) return known;
    const place = runsOf(archive.parts);
    this.#places.set(archive, place);
    return place;
  }

  close(): void {
    for (const { close } of this.#open.values()) close();
    this.#open.clear();
  }

  /** How many runs before one it builds on: of numbered archives all, of dated ones those back to the last full one. */
  #runsBefore(at: number, tree: FileTree): number {
    if (this.kind === "archive-sets") return at;
    let before = 0;
    while (before < at && this.#isIncremental(this.states[at - before], tree)) before += 1;
    return before;
  }

  /** An archive that lists folders with more than it holds goes with the one before it. */
  #isIncremental(run: Run | undefined, tree: FileTree): boolean {
    const [archive] = run?.archives ?? [];
    if (!archive) return false;
    const { entries, listings } = this.#read(tree, archive);
    const held = new Set(entries.map(({ path }) => path));
    return [...listings].some(([folder, names]) => [...names].some((name) => !held.has(`${folder}/${name}`)));
  }

  #read(tree: FileTree, archive: Archive): ArchiveReading {
    const kept = this.#open.get(archive);
    if (kept) return kept.reading;
    const opened = archive.parts.map(({ file }) => file && tree.open(file));
    // What is missing keeps the places of what stands behind it.
    const sources = opened.map((each, index) => each?.content ?? lostPart(archive.parts[index]?.size ?? 0));
    const reading = opened.every((each) => each === null) ? NOTHING_THERE : readArchive(sources);
    const [oldest] = this.#open;
    if (oldest && this.#open.size >= MOST_OPEN) {
      this.#open.delete(oldest[0]);
      oldest[1].close();
    }
    this.#open.set(archive, { reading, close: () => closeAll(opened) });
    return reading;
  }
}

const NOTHING_THERE: ArchiveReading = { entries: [], listings: new Map(), notes: [], isAll: false };

function closeAll(opened: readonly (OpenedFile | null)[]): void {
  for (const each of opened) each?.close();
}

const isZip = (source: ByteSource) => {
  const head = readBytes(source, 0, Math.min(4, source.size));
  return head[0] === 0x50 && head[1] === 0x4b;
};

function looksLikeArchive(tree: FileTree, archive: Archive): boolean {
  const [first] = filesOf(archive);
  const opened = first ? tree.open(first) : null;
  if (!opened) return false;
  try {
    const { content } = opened;
    const head = readBytes(content, 0, Math.min(512, content.size));
    const compressed =
      (head[0] === 0x1f && head[1] === 0x8b) || (head[0] === 0x42 && head[1] === 0x5a) || (head[0] === 0xfd && head[1] === 0x37);
    const tar = String.fromCharCode(...head.subarray(257, 262)) === "ustar";
    // One that begins with damage is an archive by its name.
    return isZip(content) || compressed || tar || archive.parts.length > 1 || /\.(?:tar|zip)$/i.test(first?.name ?? "");
  } finally {
    opened.close();
  }
}

function readArchive(sources: readonly ByteSource[]): ArchiveReading {
  const [first] = sources;
  if (!first || isZip(first) || sources.length > 1) return readZipArchive(sources);
  const unpacked = unpackArchive(first);
  const reading = readTarArchive(unpacked?.content ?? first);
  if (reading.entries.length === 0 && !unpacked) return readZipArchive(sources);
  if (!unpacked) return reading;
  const isAll = reading.isAll && unpacked.notes.length === 0;
  return { ...reading, notes: [...unpacked.notes, ...reading.notes], isAll, packed: unpacked.isPlain ? "plain" : "mended" };
}

/** Takes out what a folder does not name any more: it was deleted or called otherwise. */
function removeUnlisted(standing: Map<string, readonly Origin[]>, folder: string, names: ReadonlySet<string>): void {
  for (const path of standing.keys()) {
    if (!path.startsWith(`${folder}/`)) continue;
    const [name] = path.slice(folder.length + 1).split("/");
    if (name !== undefined && !names.has(name)) standing.delete(path);
  }
}
