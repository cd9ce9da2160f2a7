import type { ByteSource } from "../bytes/byte-source";
import { type Checkpoint, numberCheckpoint } from "../bytes/checkpoint";
import { layoutOf } from "../bytes/layout";
import { type PackedFile, readView } from "../bytes/packed-file";
import { type Range, RangeSet } from "../bytes/range-set";
import { type FileRecord, type FileSystem, FileSystemError, type Placed, type RecordBatch } from "../filesystems/file-record";

/** Opens what a compressed file unpacks to, which is no archive, as a store of that one file. @param disk its plain bytes */
export function openPackedFile(disk: ByteSource, start: number, length: number, view: string | null): FileSystem {
  if (start !== 0 || length !== disk.size) throw new FileSystemError("A compressed file begins with its source's first byte.");
  const file = readView(view);
  if (!file) throw new FileSystemError("It is not known which file this is. Open the compressed file again.");
  return new PackedFileStore(disk, file);
}

/** Pieces behind damage that are listed. */
const MOST_PIECES = 1_000;
const DAMAGED = "The compressed file is damaged or cut off: what it had behind the end of this is missing.";
const UNVOUCHED = "The compressed file has no checksum that is known here: nothing vouches for this but that it could be unpacked.";
const BEHIND = "It stands behind damage in the compressed file: what came before it is missing.";

class PackedFileStore implements FileSystem {
  readonly clusterSize = 512;
  readonly label = null;
  readonly allocation = null;
  readonly allocationStart = 0;
  readonly notes: readonly string[] = [];

  constructor(
    private readonly disk: ByteSource,
    private readonly file: PackedFile,
  ) {}

  *readRecords(from: Checkpoint | null): Generator<RecordBatch, void, void> {
    yield { records: from ? [] : this.#records(), resume: numberCheckpoint(1), done: 1, total: 1 };
  }

  /** Thorough is the same: all of it was unpacked, and its checksums compared, when it was opened. */
  *readThorough(
    from: Checkpoint | null,
    _step: number,
    part: Range = { start: 0, end: this.disk.size },
  ): Generator<RecordBatch, void, void> {
    const total = part.end - part.start;
    yield { records: from ? [] : this.#records(), resume: numberCheckpoint(1), done: total, total };
  }

  /** The file; where it is damaged, what comes before the first damage, and each piece behind. */
  #records(): FileRecord[] {
    const seams = (this.disk.seams ?? []).slice(0, MOST_PIECES).filter((at) => at > 0 && at < this.disk.size);
    const starts = [0, ...seams];
    return starts.map((at, index) => this.#toRecord(at, (starts[index + 1] ?? this.disk.size) - at, index));
  }

  #toRecord(at: number, size: number, index: number): FileRecord {
    const name = index === 0 ? this.file.name : behindDamage(this.file.name, index);
    const isSound = this.file.isSound && (this.disk.seams ?? []).length === 0;
    const doubts = RangeSet.from(this.disk.doubts ?? []).within(at, at + size);
    const inDoubt = doubts.reduce((sum, { start, end }) => sum + end - start, 0);
    const likeliest: Placed = {
      layout: layoutOf([{ kind: "disk", at, length: size }], size),
      evidence: { usedByOthers: 0, takenLater: 0, lost: 0, ...(!isSound && { inDoubt: Math.max(inDoubt, 1) }) },
      sure: isSound,
      ...(this.file.isVouched && isSound ? { vouched: true } : { unlooked: true }),
    };
    return {
      reference: index === 0 ? "Compressed content" : `Compressed content from byte ${at} on`,
      state: "live",
      type: "file",
      path: `/${name}`,
      name,
      ...(index > 0 && { incompleteName: true as const }),
      rawName: new TextEncoder().encode(name),
      size,
      created: null,
      modified: this.file.modified,
      changed: null,
      localTimes: false,
      content: { kind: "placed", likeliest, others: [] },
      backup: { set: null, asOf: null },
      marks: 0,
      system: false,
      streams: [],
      links: 1,
      notes: isSound ? (this.file.isVouched ? [] : [UNVOUCHED]) : [index === 0 ? DAMAGED : BEHIND],
    };
  }
}

/** What a piece behind damage is called: it keeps the extension. */
function behindDamage(name: string, index: number): string {
  const dot = name.lastIndexOf(".");
  const [stem, extension] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, ""];
  return `${stem} (behind damage ${index})${extension}`;
}
