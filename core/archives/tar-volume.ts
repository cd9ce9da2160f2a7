import type { ByteSource } from "../bytes/byte-source";
import { WindowSource } from "../bytes/byte-source";
import { type Checkpoint, readTextCheckpoint, textCheckpoint } from "../bytes/checkpoint";
import { layoutOf, type Segment } from "../bytes/layout";
import type { Range } from "../bytes/range-set";
import {
  absent,
  type Content,
  type FileRecord,
  type FileSystem,
  FileSystemError,
  type Finding,
  type Placed,
  type RecordBatch,
} from "../filesystems/file-record";
import { type ArchiveEntry, ownPath } from "./archive";
import { endsArchive } from "./tar-headers";
import { walkTar } from "./tar-links";
import type { TarWalk, TarWalkFrom } from "./tar-walk";

const RECORD = 512;

/** Opens a TAR archive as a store of files. @throws FileSystemError when it does not begin with the source */
export function openTar(disk: ByteSource, start: number, length: number): FileSystem {
  if (start !== 0 || length !== disk.size) throw new FileSystemError("An archive begins with its source's first byte.");
  return new TarVolume(disk);
}

/** Bytes that are gone through, and members, for what does not add up. */
const MOST_FOR_FINDINGS = { bytes: 2 ** 37, members: 400_000 } as const;

class TarVolume implements FileSystem {
  readonly clusterSize = RECORD;
  readonly label = null;
  readonly notes: readonly string[] = [];
  readonly allocation = null;
  readonly allocationStart = 0;
  /** What a reading of all of it found damaged; null: there was none yet. */
  #damage: Damage | null = null;

  constructor(private readonly disk: ByteSource) {}

  /** Light: from header to header, where one is damaged to the next right one; no content is looked at. Units of work are records of 512 bytes. */
  readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    return this.#read(from, step, { start: 0, end: this.disk.size }, false);
  }

  /** Thorough: members that others claim are looked for in all data, too, and contents are looked at. Units of work are bytes. */
  readThorough(from: Checkpoint | null, step: number, part?: Range): Generator<RecordBatch, void, void> {
    return this.#read(from, step, part ?? { start: 0, end: this.disk.size }, true);
  }

  *#read(from: Checkpoint | null, step: number, part: Range, look: boolean): Generator<RecordBatch, void, void> {
    const isWhole = part.start === 0 && part.end >= this.disk.size;
    const began = from === null ? null : (readTextCheckpoint(from) as TarWalkFrom);
    const walk = walkTar(isWhole ? this.disk : partOf(this.disk, part), look, began);
    const unit = (bytes: number) => (look ? bytes : Math.floor(bytes / RECORD));
    const total = Math.max(1, unit(part.end - part.start));
    let records: FileRecord[] = [];
    const batch = (done: number): RecordBatch => ({ records, resume: textCheckpoint(walk.checkpoint()), done, total });
    for (const found of walk.entries()) {
      if (found) records.push(...toRecord(found.entry, walk.count, part.start, look));
      if (found && records.length < step) continue;
      yield batch(Math.min(total, unit(walk.at)));
      records = [];
    }
    if (isWhole) this.#damage = damageOf(walk, this.disk.size);
    yield batch(total);
  }

  findings(): Finding[] {
    const { count, examples, until } = this.#damage ?? this.#lookForDamage();
    const found: Finding[] = [];
    if (count > 0) found.push({ what: DAMAGED, count, examples: examples.map((at) => `byte ${at}`) });
    if (until < this.disk.size) found.push({ what: UNFINISHED, count: 1, examples: [`byte ${until}`] });
    if (!endsArchive(this.disk)) found.push({ what: ENDLESS, count: 1, examples: [`byte ${this.disk.size}`] });
    return found;
  }

  #lookForDamage(): Damage {
    const walk = walkTar(this.disk, false);
    for (const _ of walk.entries())
      if (walk.at > MOST_FOR_FINDINGS.bytes || walk.count > MOST_FOR_FINDINGS.members) return damageOf(walk, walk.at);
    return damageOf(walk, this.disk.size);
  }
}

const DAMAGED = "Headers of files in the archive are damaged: what stood there is not listed";
const ENDLESS = "The archive ends without the zeros that end one: it may be cut off, or go on in another part";
const UNFINISHED = "The archive was gone through for damage only up to a place: behind it there may be more";

interface Damage {
  readonly count: number;
  /** Some of the places. */
  readonly examples: readonly number[];
  /** Up to where the archive was gone through. */
  readonly until: number;
}

const damageOf = ({ damaged, examples }: TarWalk, until: number): Damage => ({ count: damaged, examples, until });

/** A stretch of an archive, with what is known of it. */
function partOf(disk: ByteSource, { start, end }: Range): ByteSource {
  const seams = disk.seams?.filter((each) => each > start && each < end).map((each) => each - start);
  const doubts = disk.doubts?.map((each) => ({ start: each.start - start, end: each.end - start }));
  return Object.assign(new WindowSource(disk, start, end - start), { ...(seams && { seams }), ...(doubts && { doubts }) });
}

/** @param index tells entries of the same path apart @param shift where the part begins in which it was found */
function toRecord(entry: ArchiveEntry, index: number, shift: number, look: boolean): FileRecord[] {
  const path = ownPath(entry.path);
  if (path === null) return [];
  const name = path.slice(path.lastIndexOf("/") + 1);
  const at = entry.stored ? entry.stored.at + shift : null;
  return [
    {
      reference: at === null ? `Entry ${index}` : `Entry with its data at ${at}`,
      state: "live",
      type: entry.type === "folder" ? "folder" : "file",
      path: `/${path}`,
      name,
      rawName: new TextEncoder().encode(name),
      size: entry.type === "folder" ? 0 : entry.size,
      created: null,
      modified: entry.modified,
      changed: null,
      localTimes: entry.localTime,
      content: entry.type === "folder" ? { kind: "none" } : contentOf(entry, at, shift, look),
      backup: { set: null, asOf: null },
      marks: entry.marks,
      system: false,
      streams: [],
      links: 1,
      notes: entry.note === null ? [] : [entry.note],
    },
  ];
}

function contentOf({ size, present, standing, layout: pieces }: ArchiveEntry, at: number | null, shift: number, look: boolean): Content {
  if (standing === "not-followed" || at === null) return absent("not-followed", "");
  const segments: readonly Segment[] = pieces?.segments.map((each) => (each.kind === "disk" ? { ...each, at: each.at + shift } : each)) ?? [
    { kind: "disk", at, length: present },
    { kind: "lost", length: size - present },
  ];
  const layout = layoutOf(segments, size);
  const lost = layout.segments.reduce((sum, { kind, length }) => sum + (kind === "lost" ? length : 0), 0);
  const evidence = { usedByOthers: 0, takenLater: 0, lost, ...(standing === "damaged" && { inDoubt: present }) };
  // The format keeps no checksum of contents: only what they are can speak for them.
  const likeliest: Placed = {
    layout,
    evidence,
    sure: standing === "sound",
    ...(look ? { unguarded: true as const } : { unlooked: true as const }),
  };
  return { kind: "placed", likeliest, others: [] };
}
