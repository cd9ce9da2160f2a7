import { type ByteSource, readBytes } from "../../../bytes/byte-source";
import { type DiskRun, type Layout, layoutOf, type Segment } from "../../../bytes/layout";
import { type Range, RangeSet } from "../../../bytes/range-set";
import type { AllocationMap } from "../../allocation-map";
import type { FileRecord, Placed } from "../../file-record";
import { BLOCK } from "./layout";
import type { Piece, StateMap } from "./state-map";

/** What is known of the volume as it is now, for judging what stands there still. */
export interface PresentVolume {
  readonly allocation: AllocationMap | null;
  readonly clusterSize: number;
  /** The file that has the record now: what distinguishes it and its version; null: none has. Its layout counts in the disk as it is. */
  fileAt(record: number): { readonly sequence: number; readonly modified: number | null; readonly layout: Layout | null } | null;
}

/** A volume as it was in one of its snapshots, as bytes of the disk: what lies beside the volume is not part of it. */
export class PastDisk implements ByteSource {
  readonly size: number;

  constructor(
    private readonly disk: ByteSource,
    private readonly start: number,
    private readonly length: number,
    private readonly map: StateMap,
  ) {
    this.size = disk.size;
  }

  read(at: number, into: Uint8Array): void {
    into.fill(0);
    for (const { piece, done } of this.#pieces(at, into.length))
      this.disk.read(this.start + piece.at, into.subarray(done, done + piece.length));
  }

  unreadable(at: number, length: number): Range[] {
    const found: Range[] = [];
    for (const { piece, from, done } of this.#pieces(at, length))
      for (const range of this.disk.unreadable(this.start + piece.at, piece.length))
        found.push({ start: range.start - this.start - piece.at + from + done, end: range.end - this.start - piece.at + from + done });
    return found;
  }

  /** @returns where each piece begins in what is read (`done`), and where that begins on the disk (`from`) */
  *#pieces(at: number, length: number): Generator<{ piece: Piece; done: number; from: number }, void, void> {
    const from = Math.max(at, this.start);
    const end = Math.min(at + length, this.start + this.length);
    let done = from - at;
    for (const piece of this.map.pieces(from - this.start, Math.max(0, end - from))) {
      yield { piece, done, from: at };
      done += piece.length;
    }
  }
}

interface Relaid {
  readonly layout: Layout;
  /** Bytes of the content that may be of a later time. */
  readonly inDoubt: number;
  /** Whether only the content itself can prove a part of it. */
  readonly loose: boolean;
  /** Whether a part of it stands in blocks that nobody has now. */
  readonly unguarded: boolean;
  /** Disk byte ranges that other files have now. */
  readonly foreign: readonly Range[];
  /** Bytes of the content in these. */
  readonly foreignBytes: number;
  /** Bytes of the content that a store has as zeros: they were, or what was kept is gone. */
  readonly zeros: number;
}

/** Where the files of a state stand on the disk as it is now, and how much of that is known. */
export class PastRecords {
  constructor(
    private readonly disk: ByteSource,
    private readonly start: number,
    private readonly map: StateMap,
    private readonly present: PresentVolume,
  ) {}

  /**
   * Turns a record that was read in the state into one of the disk as it is.
   * @param recordAt where its file record stands in the state: disk byte offset
   */
  relay(file: FileRecord, number: number, sequence: number, recordAt: number, recordSize: number): FileRecord {
    const [record] = [...this.map.pieces(recordAt - this.start, recordSize)];
    const recordInDoubt = record?.trust === "later" || (record?.trust === "loose" && !this.#isSame(file, number, sequence));
    const { content } = file;
    const notes = recordInDoubt ? [...file.notes, RECORD_IN_DOUBT] : file.notes;
    const streams = file.streams.map((stream) => ({ ...stream, layout: stream.layout && this.#relayLayout(stream.layout, "gone").layout }));
    if (content.kind !== "placed") return { ...file, streams, notes };
    const standing = this.#standing(file, number, sequence);
    const place = (each: Placed): Placed => this.#relayPlace(each, standing, recordInDoubt ? file.size : 0);
    const likeliest = place(content.likeliest);
    return { ...file, streams, notes, content: { ...content, likeliest, others: content.others.map(place) } };
  }

  #relayPlace(place: Placed, standing: Standing, recordInDoubt: number): Placed {
    const relaid = this.#relayLayout(place.layout, standing);
    const { evidence } = place;
    const inDoubt = Math.max(relaid.inDoubt, Math.min(recordInDoubt, place.layout.size));
    const foreign = RangeSet.from([...relaid.foreign]);
    const note = relaid.zeros > 0 ? `${relaid.zeros} bytes of it are zeros in what the snapshot kept: they were, or are lost.` : place.note;
    return {
      layout: relaid.layout,
      sure: place.sure && !relaid.loose,
      ...(relaid.unguarded ? { unguarded: true } : {}),
      evidence: {
        ...evidence,
        usedByOthers: evidence.usedByOthers + relaid.foreignBytes,
        foreign: foreign.ranges,
        ...(inDoubt + relaid.zeros > 0 ? { inDoubt: Math.max(inDoubt, relaid.zeros) } : {}),
      },
      ...(note === undefined ? {} : { note }),
    };
  }

  #relayLayout(layout: Layout, standing: Standing): Relaid {
    let [inDoubt, zeros, foreignBytes, loose, unguarded] = [0, 0, 0, false, false];
    const foreign = new RangeSet();
    /** The pieces of a stretch of the disk; counts what is in doubt as `bytes` of the content, or each piece as its own. */
    const follow = (at: number, length: number): DiskRun[] => {
      // What was free in the state was not kept: only what stands there now can be said.
      const isGone = standing === "gone";
      const runs: DiskRun[] = [];
      for (const piece of this.map.pieces(at - this.start, length)) {
        const from = this.start + piece.at;
        runs.push({ at: from, length: piece.length });
        if (piece.trust === "later" || (piece.trust === "loose" && standing === "changed")) inDoubt += piece.length;
        else if (piece.trust === "freed" || (isGone && piece.trust !== "kept")) {
          if (isGone) loose = true;
          else unguarded = true;
          foreignBytes += this.#takeForeign(from, piece.length, foreign);
        }
        if ((piece.trust === "kept" || piece.trust === "freed") && this.#isZeros(from, piece.length)) zeros += piece.length;
      }
      return runs;
    };
    const segments = layout.segments.flatMap((segment): Segment[] => {
      if (segment.kind === "disk") return follow(segment.at, segment.length).map((run) => ({ ...segment, ...run }));
      if (segment.kind === "coded" && !segment.held) {
        const before = foreignBytes;
        const from = segment.from.flatMap((run) => follow(run.at, run.length));
        // One lost byte spoils all that is coded after it.
        if (foreignBytes > before) foreignBytes = before + segment.length;
        return [{ ...segment, from }];
      }
      return [segment];
    });
    return { layout: layoutOf(segments, layout.size), inDoubt, loose, unguarded, foreign: foreign.ranges, foreignBytes, zeros };
  }

  #takeForeign(at: number, length: number, into: RangeSet): number {
    const { allocation, clusterSize } = this.present;
    const first = Math.floor((at - this.start) / clusterSize);
    const count = Math.ceil((at - this.start + length) / clusterSize) - first;
    let bytes = 0;
    for (const used of allocation?.usedWithin(first, count) ?? []) {
      const from = Math.max(at, this.start + used.start * clusterSize);
      const to = Math.min(at + length, this.start + used.end * clusterSize);
      into.add(from, to);
      bytes += Math.max(0, to - from);
    }
    return bytes;
  }

  /** Looks at some places first: nearly no block is empty. */
  #isZeros(at: number, length: number): boolean {
    for (let part = 0; part < 4; part += 1) {
      const from = at + Math.floor((length * part) / 4);
      if (readBytes(this.disk, from, Math.min(16, at + length - from)).some((byte) => byte !== 0)) return false;
    }
    for (let from = at; from < at + length; from += BLOCK)
      if (readBytes(this.disk, from, Math.min(BLOCK, at + length - from)).some((byte) => byte !== 0)) return false;
    return true;
  }

  /** What became of the file since. */
  #standing(file: FileRecord, number: number, sequence: number): Standing {
    if (file.state === "deleted") return "gone";
    if (!this.map.isLoose || this.#isSame(file, number, sequence)) return "same";
    return this.present.fileAt(number)?.sequence === sequence ? "changed" : "gone";
  }

  #isSame(file: FileRecord, number: number, sequence: number): boolean {
    const now = this.present.fileAt(number);
    if (!now || now.sequence !== sequence || now.modified !== file.modified) return false;
    const layout = file.content.kind === "placed" ? file.content.likeliest.layout : null;
    return layout === null || (now.layout !== null && samePlaces(layout, now.layout));
  }
}

/** What became of a file of a state since: it is there unchanged; it was written to; it is no more. */
type Standing = "same" | "changed" | "gone";

const RECORD_IN_DOUBT = "Its file record may be of a later time: what the snapshot kept of the file table is lost there.";

function samePlaces(one: Layout, other: Layout): boolean {
  const key = ({ size, segments }: Layout) =>
    JSON.stringify([
      size,
      segments.map((segment) =>
        segment.kind === "disk"
          ? [segment.at, segment.length]
          : segment.kind === "coded"
            ? segment.from
            : segment.kind === "held"
              ? Buffer.from(segment.bytes).toString("latin1")
              : segment.length,
      ),
    ]);
  return key(one) === key(other);
}
