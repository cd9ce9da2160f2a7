import { type ByteSource, WindowSource } from "../../bytes/byte-source";
import { type Checkpoint, readTextCheckpoint, textCheckpoint } from "../../bytes/checkpoint";
import { Cursor } from "../../bytes/cursor";
import type { Range } from "../../bytes/range-set";
import { GapMap, type UsedMap } from "../allocation-map";
import { type FileRecord, type FileSystem, FileSystemError, type Finding, type RecordBatch, type StateOfVolume } from "../file-record";
import { MediumReader, readBlock, textIn } from "./block";
import type { Entry, FileEntry, TapeSet, WalkFrom } from "./entries";
import { TAPE } from "./layout";
import { firstBlock, logicalBlockOf } from "./medium-start";
import { asOfSet, setKey, toFileRecord, toFolderRecord } from "./records";
import { LIGHT_REACH, TapeWalk } from "./walk";

/** Bytes at the beginning in which the first block must stand. */
export const FIRST_REACH = 1 << 26;
/** Sets that are listed as states. */
const MOST_SETS = 4096;
/** Bytes of a medium that are searched at every byte, where it is damaged, for a map of what can be followed. */
const MOST_SEARCHED = 2 ** 30;
/** Blocks gone through for a list of sets, or of what is damaged. */
const MOST_STEPS = 400_000;
const MOST_GAPS = 10_000;
const GAPS_SHOWN = 20;

/** Opens a backup file of the tape format. @param view one set alone, as `states` gives it @throws FileSystemError when no block of it stands there */
export function openTape(disk: ByteSource, start: number, length: number, view: string | null = null): FileSystem {
  const medium = start === 0 && length === disk.size ? disk : new WindowSource(disk, start, length);
  if (start !== 0) throw new FileSystemError("A backup file of the tape format begins with its source's first byte.");
  const reader = new MediumReader(medium);
  const first = firstBlock(reader, FIRST_REACH);
  if (!first) throw new FileSystemError("No block of the tape format stands in it.");
  return new TapeVolume(medium, reader, logicalBlockOf(reader, first.at), view);
}

class TapeVolume implements FileSystem {
  readonly clusterSize: number;
  readonly label: string | null;
  readonly notes: readonly string[] = [];
  readonly localTimes = true;
  readonly allocationStart = 0;
  #map: UsedMap | null | undefined;

  constructor(
    private readonly medium: ByteSource,
    private readonly reader: MediumReader,
    logicalBlock: number,
    private readonly view: string | null,
  ) {
    this.clusterSize = logicalBlock;
    const first = readBlock(reader, 0);
    this.label = first?.type === "TAPE" ? mediaName(first) : null;
  }

  /** What can be followed; null: too much is damaged to say. */
  get allocation(): UsedMap | null {
    if (this.#map !== undefined) return this.#map;
    const { gaps, until } = this.#gapsOf(this.medium.size <= MOST_SEARCHED);
    const block = this.clusterSize;
    const inBlocks = gaps.map(({ start, end }) => ({ start: Math.floor(start / block), end: Math.ceil(end / block) }));
    this.#map = until < this.medium.size ? null : new GapMap(Math.ceil(this.medium.size / block), inBlocks);
    return this.#map;
  }

  /** Stretches that cannot be followed, up to as many blocks as are gone through at once. Bytes of the medium. */
  #gapsOf(thorough: boolean): { readonly gaps: Range[]; readonly until: number; readonly stoppedAt: number | null } {
    const gaps: Range[] = [];
    const whole = { start: 0, end: this.medium.size };
    const walk = new TapeWalk(this.reader, this.clusterSize, thorough, whole);
    let steps = 0;
    for (const entry of walk.entries()) {
      steps += 1;
      if (entry.kind === "gap") gaps.push({ start: entry.start, end: entry.end });
      if (steps > MOST_STEPS || gaps.length >= MOST_GAPS) return { gaps, until: walk.at, stoppedAt: null };
    }
    return { gaps, until: this.medium.size, stoppedAt: walk.stoppedAt };
  }

  /** Light: from block to block by what each says of the next. Units of work are logical blocks. */
  readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    return this.#read(from, step, { start: 0, end: this.medium.size }, false);
  }

  /** Thorough (units of work are bytes): the whole medium or a part of it, at every byte where the chain breaks; contents are looked at. */
  readThorough(from: Checkpoint | null, step: number, part?: Range): Generator<RecordBatch, void, void> {
    return this.#read(from, step, part ?? { start: 0, end: this.medium.size }, true);
  }

  *#read(from: Checkpoint | null, step: number, part: Range, thorough: boolean): Generator<RecordBatch, void, void> {
    const chosen = this.view === null ? null : this.#setOf(this.view);
    const began = from === null ? null : (readTextCheckpoint(from) as WalkFrom);
    const walk = new TapeWalk(this.reader, this.clusterSize, thorough, chosen ? { start: chosen.at, end: part.end } : part, began);
    const judging = { source: this.medium, look: thorough };
    let records: FileRecord[] = [];
    const unit = (bytes: number) => (thorough ? bytes : Math.floor(bytes / this.clusterSize));
    const batch = (): RecordBatch => ({
      records,
      resume: textCheckpoint(walk.checkpoint()),
      done: unit(walk.at - part.start),
      total: Math.max(1, unit(part.end - part.start)),
    });
    let steps = 0;
    /** The last file of a medium, until the next one goes on with it or does not. */
    let pending: FileEntry | null = null;
    const settle = () => {
      if (pending) records.push(toFileRecord(pending, judging));
      pending = null;
    };
    for (const entry of walk.entries()) {
      // A set that goes on with the next medium is no other one.
      if (chosen && entry.kind === "set" && entry.set.at !== chosen.at && !entry.continues) break;
      if (entry.kind === "file" && entry.cut && this.medium.seams) {
        settle();
        pending = entry;
        continue;
      }
      if (entry.kind === "file" && pending) {
        if (entry.continues && isSameFile(pending, entry)) {
          records.push(toFileRecord(entry, judging, pending));
          pending = null;
          continue;
        }
        settle();
      }
      this.#take(entry, records, judging);
      if (pending) continue;
      if (entry.kind === "step") steps += 1;
      if (entry.kind === "step" && (records.length >= step || steps >= step * 8)) {
        yield batch();
        records = [];
        steps = 0;
      }
    }
    settle();
    yield batch();
  }

  #take(entry: Entry, records: FileRecord[], judging: Parameters<typeof toFileRecord>[1]): void {
    if (entry.kind === "folder" && entry.folder.parts.length > 0) records.push(toFolderRecord(entry));
    else if (entry.kind === "file") records.push(toFileRecord(entry, judging));
  }

  #setOf(view: string): TapeSet {
    const found = this.#sets(true).sets.find((set) => setKey(set) === view);
    if (!found) throw new FileSystemError("The backup file has no such set.");
    return found;
  }

  /** The sets of the medium, and up to which byte of it they were looked for. */
  #sets(thorough: boolean): { readonly sets: TapeSet[]; readonly until: number } {
    const sets: TapeSet[] = [];
    const search = thorough || this.medium.size <= MOST_SEARCHED;
    let steps = 0;
    const walk = new TapeWalk(this.reader, this.clusterSize, search, { start: 0, end: this.medium.size });
    for (const entry of walk.entries()) {
      if (entry.kind === "set" && !(entry.continues && sets.length > 0)) sets.push(entry.set);
      steps += 1;
      if (steps > MOST_STEPS || sets.length >= MOST_SETS) return { sets, until: walk.at };
    }
    return { sets, until: walk.stoppedAt ?? this.medium.size };
  }

  states(thorough = false): StateOfVolume[] {
    if (this.view !== null) return [];
    return this.#sets(thorough).sets.map((set) => ({
      view: setKey(set),
      kind: "set",
      label: set.name ?? `Set ${set.number ?? "?"}`,
      asOf: asOfSet(set),
      notes: [
        ...(set.encrypted ? ["It was encrypted by the program that made it."] : []),
        ...(set.date !== null && set.timeZone === null
          ? ["It does not say how far its clock was from UTC: its date is taken as it stands."]
          : []),
      ],
    }));
  }

  findings(): Finding[] {
    const { gaps, until } = this.#gapsOf(true);
    const unread =
      until < this.medium.size
        ? [
            {
              what: "The backup file was gone through for damage only up to a place: behind it there may be more",
              count: 1,
              examples: [`byte ${until}`],
            },
          ]
        : [];
    const { stoppedAt } = this.#gapsOf(false);
    const { until: listed } = this.#sets(false);
    const stopped =
      stoppedAt === null
        ? []
        : [
            {
              what: `The light reading of the backup file ends at a place: nothing it could go on with stands in the ${LIGHT_REACH >> 20} MiB behind it; only a thorough reading looks at the rest`,
              count: 1,
              examples: [`byte ${stoppedAt}`],
            },
          ];
    const unlisted =
      listed < this.medium.size
        ? [
            {
              what: "The sets of the backup file are listed only up to a place: behind it there may be more",
              count: 1,
              examples: [`byte ${listed}`],
            },
          ]
        : [];
    const short = [...unread, ...stopped, ...unlisted];
    if (gaps.length === 0) return short;
    return [
      ...short,
      {
        what: "Stretches of the backup file are damaged: what stood there is lost, or stands there without its headers",
        count: gaps.length,
        examples: gaps
          .slice(0, GAPS_SHOWN)
          .map(({ start, end }) => (start === end ? `bytes are missing before ${end}` : `bytes ${start} to ${end}`)),
      },
    ];
  }
}

const isSameFile = (one: FileEntry, other: FileEntry) =>
  one.folderId === other.folderId &&
  one.name?.text === other.name?.text &&
  one.block?.common.displayableSize === other.block?.common.displayableSize;

function mediaName(block: NonNullable<ReturnType<typeof readBlock>>): string | null {
  const { nameSize, nameAt } = TAPE.read(new Cursor(block.bytes), 0);
  return textIn(block, nameSize, nameAt)?.text.replace(/\0+$/, "") || null;
}
