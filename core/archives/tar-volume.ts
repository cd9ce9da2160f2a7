import type { ByteSource } from "../bytes/byte-source";
import { WindowSource } from "../bytes/byte-source";
import { type Checkpoint, numberCheckpoint, readNumberCheckpoint } from "../bytes/checkpoint";
import { layoutOf, type Segment } from "../bytes/layout";
import type { Range } from "../bytes/range-set";
import {
  absent,
  type Content,
  type FileRecord,
  type FileSystem,
  FileSystemError,
  type Placed,
  type RecordBatch,
} from "../filesystems/file-record";
import { type ArchiveEntry, type ArchiveReading, ownPath } from "./archive";
import { readTarArchive } from "./tar-archive";

/** Opens a TAR archive as a store of files. @throws FileSystemError when it does not begin with the source */
export function openTar(disk: ByteSource, start: number, length: number): FileSystem {
  if (start !== 0 || length !== disk.size) throw new FileSystemError("An archive begins with its source's first byte.");
  return new TarVolume(disk);
}

class TarVolume implements FileSystem {
  readonly clusterSize = 512;
  readonly label = null;
  readonly allocation = null;
  readonly allocationStart = 0;
  #light: ArchiveReading | undefined;

  constructor(private readonly disk: ByteSource) {}

  get notes(): readonly string[] {
    return this.#readLightly().notes;
  }

  /** Reads from header to header once: of a compressed archive that takes as long as unpacking it. */
  #readLightly(): ArchiveReading {
    this.#light ??= readTarArchive(this.disk);
    return this.#light;
  }

  /** Light: from header to header, where one is damaged to the next right one; no content is looked at. Units of work are entries. */
  readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    return this.#read(from, step, { start: 0, end: this.disk.size }, false);
  }

  /** Thorough: members that others claim are looked for in all data, too, and contents are looked at. */
  readThorough(from: Checkpoint | null, step: number, part?: Range): Generator<RecordBatch, void, void> {
    return this.#read(from, step, part ?? { start: 0, end: this.disk.size }, true);
  }

  *#read(from: Checkpoint | null, step: number, part: Range, look: boolean): Generator<RecordBatch, void, void> {
    const isWhole = part.start === 0 && part.end >= this.disk.size;
    const { entries } = look ? readTarArchive(isWhole ? this.disk : partOf(this.disk, part), true) : this.#readLightly();
    const first = readNumberCheckpoint(from);
    for (let at = first; at < entries.length || at === first; at += step) {
      const records = entries.slice(at, at + step).flatMap((entry, index) => toRecord(entry, at + index + 1, part.start, look));
      const done = Math.min(entries.length, at + step);
      const total = look ? part.end - part.start : Math.max(1, entries.length);
      // A thorough reading counts bytes: those up to the last entry given.
      const reached = done === entries.length ? total : (entries[done]?.stored?.at ?? 0);
      yield { records, resume: numberCheckpoint(done), done: look ? reached : done, total };
    }
  }
}

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
