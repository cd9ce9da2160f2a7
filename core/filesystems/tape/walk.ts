import { Cursor } from "../../bytes/cursor";
import type { Range } from "../../bytes/range-set";
import { type Block, decodeText, type MediumReader, readBlock, readDamagedBlock, readStreamHeader, type Stream, textIn } from "./block";
import { type Context, type Entry, type FileEntry, STEP, type TapeFolder, type TapeSet, type TapeVolume, type WalkFrom } from "./entries";
import { CONTINUATION, DIRB, FILE, FILE_BITS, idOf, LOGICAL_BLOCKS, STREAM_ALIGNMENT, STRINGS } from "./layout";
import { mediumEnd } from "./medium-end";
import { type Anchor, blocksBefore, findAnchor, findBlock } from "./search";
import { toSet, toVolume } from "./set-blocks";

/** Bytes after a break that the light reading looks through for the next block. */
export const LIGHT_REACH = 1 << 24;
/** Bytes before a part that are looked through for the folders its first files are in. */
const BACK_REACH = 1 << 24;
const MOST_STREAMS = 65_536;
/** Folders kept in mind, for files that do not follow theirs. */
const MOST_FOLDERS = 1 << 20;
/** Bytes by which all that was slipped in or lost in a set may have moved what stands behind it. */
const SLIPS = 1 << 16;
/** Bytes of a name kept in a stream. */
const MOST_NAME = 1 << 16;

const [SPAD, STAN, PNAM, FNAM, CSUM, ADAT, SPAR] = ["SPAD", "STAN", "PNAM", "FNAM", "CSUM", "ADAT", "SPAR"].map(idOf) as [
  number,
  number,
  number,
  number,
  number,
  number,
  number,
];

interface StreamsRead {
  readonly streams: Stream[];
  /** Where the next block must stand, or where the chain broke. */
  readonly end: number;
  readonly standing: "sound" | "broken" | "cut";
}

/**
 * Goes through a medium of the tape format from block to block.
 * Light, a break is passed over to the next block at a whole logical block; thorough, the next block or stream is looked for at every byte,
 * and content without its headers is given too.
 */
export class TapeWalk {
  #stoppedAt: number | null = null;
  readonly reader: MediumReader;
  /** Bytes of a format logical block. */
  readonly logicalBlock: number;
  #set: TapeSet | null = null;
  #volume: TapeVolume | null = null;
  #folder: TapeFolder | null = null;
  #folders = new Map<number, TapeFolder>();
  #last: Block | null = null;
  /** Where the set's first block would stand by the logical address of the last block. */
  #base: number | null = null;
  #lookedBack = false;
  #at: number;
  readonly #start: number;
  /** Where a medium ends: its contents, and all of it. */
  readonly #ends: readonly { readonly dataEnd: number; readonly end: number }[];
  #blocks: { set: number | null; volume: number | null; folder: number | null } = { set: null, volume: null, folder: null };

  constructor(
    reader: MediumReader,
    logicalBlock: number,
    private readonly thorough: boolean,
    private readonly part: Range,
    from: WalkFrom | null = null,
  ) {
    this.reader = reader;
    this.logicalBlock = logicalBlock;
    this.#start = from?.at ?? part.start;
    this.#at = this.#start;
    const { source } = reader;
    const starts = [0, ...(source.seams ?? [])];
    this.#ends = starts.map((start, index) => {
      const end = starts[index + 1] ?? source.size;
      return { dataEnd: mediumEnd(source, start, end).dataEnd, end };
    });
    if (from) this.#goOn(from);
  }

  /** Where it is: everything before this place has been given out. Bytes of the medium. */
  get at(): number {
    return this.#at;
  }

  /** Where a light walk ended with more behind it than it looks through; null: it came to the end. Bytes of the medium. */
  get stoppedAt(): number | null {
    return this.#stoppedAt;
  }

  /** What another walk needs to go on from here. */
  checkpoint(): WalkFrom {
    return { at: this.#at, ...this.#blocks };
  }

  #goOn({ set, volume, folder }: WalkFrom): void {
    const block = (at: number | null) => (at === null ? null : (readBlock(this.reader, at) ?? readDamagedBlock(this.reader, at)));
    const [first, second, third] = [block(set), block(volume), block(folder)];
    if (first?.type === "SSET") this.#begin(toSet(first));
    if (second?.type === "VOLB") this.#setVolume(second);
    const known = third?.type === "DIRB" ? this.#toFolder(third, this.#readStreams(third.at, third.firstStream).streams) : null;
    if (known && third) this.#setFolder(known, third);
    this.#last = third ?? second ?? first;
    this.#base = this.#last && this.#baseOf(this.#last);
  }

  *entries(): Generator<Entry, void, void> {
    const end = Math.min(this.part.end, this.reader.size);
    let at = this.#start;
    // The first byte of a part is seldom one of a block: it lies in a file, or in what can be followed from the next block on.
    if (at > 0 && !readBlock(this.reader, at)) {
      const around = this.#beforePart(at);
      at = around ? yield* this.#take(around) : yield* this.#resume(at, at, end);
    }
    while (at < end) {
      this.#at = at;
      yield STEP;
      const block = readBlock(this.reader, at) ?? (this.thorough ? this.#expected(at) : null);
      const next: number = block ? yield* this.#take(block) : yield* this.#resume(at, at, end);
      // Whatever the blocks say, it goes forward.
      at = Math.max(at + 1, next);
    }
    this.#at = end;
    yield STEP;
  }

  /** The file that a part begins in; null: none is known. */
  #beforePart(at: number): Block | null {
    for (const block of blocksBefore(this.reader, at, "FILE", BACK_REACH)) {
      const { end, standing } = this.#readStreams(block.at, block.firstStream);
      return standing === "sound" && end > at ? block : null;
    }
    return null;
  }

  /** A block with a wrong checksum, where the one before says that one must stand. */
  #expected(at: number): Block | null {
    return this.#last ? readDamagedBlock(this.reader, at) : null;
  }

  /** Passes over what cannot be followed. @param gap where that begins @param from where it is looked from @returns where to go on */
  *#resume(gap: number, from: number, end: number): Generator<Entry, number, void> {
    const anchor = this.#next(from, end);
    const until = anchor?.at ?? end;
    if (until > gap) yield { kind: "gap", start: gap, end: until };
    if (!anchor) return end;
    if (anchor.block) return anchor.at;
    return yield* this.#orphan(anchor.at, anchor.stream, gap);
  }

  #next(from: number, end: number): Anchor | null {
    if (this.thorough) return findAnchor(this.reader, from, end);
    const phase = this.#last ? this.#last.at % LOGICAL_BLOCKS[0] : 0;
    const first = from + ((phase - (from % LOGICAL_BLOCKS[0]) + LOGICAL_BLOCKS[0]) % LOGICAL_BLOCKS[0]);
    const reach = Math.min(end, first + LIGHT_REACH);
    const block = findBlock(this.reader, first, reach);
    if (!block && reach < end) this.#stoppedAt = from;
    return block && { at: block.at, block, stream: null };
  }

  /** Streams whose block is lost. @returns where to go on */
  *#orphan(at: number, first: Stream, gap: number): Generator<Entry, number, void> {
    const read = this.#readStreams(at, at);
    const hasContent = read.streams.some(({ id }) => id === STAN || id === SPAR);
    // The end of a file whose beginning is lost: what stands before it is a part of its content.
    const bare =
      hasContent || (first.id !== SPAD && first.id !== CSUM && first.id !== ADAT) ? null : { start: this.#afterZeros(gap, at), end: at };
    if (hasContent || (bare && bare.end > bare.start) || (bare === null && first.id !== SPAD && !isOfSet(first)))
      yield this.#file(null, read, { bare, trouble: null });
    if (read.standing !== "broken") return read.end;
    return yield* this.#resume(read.end, Math.min(read.end, (read.streams.at(-1)?.dataAt ?? at) + 1), this.reader.size);
  }

  /** Where the zeros end that a stretch may begin with. */
  #afterZeros(start: number, end: number): number {
    let at = start;
    for (; at < end; ) {
      const bytes = this.reader.view(at, Math.min(4096, end - at));
      const inside = bytes.findIndex((byte) => byte !== 0);
      if (inside >= 0) return at + inside;
      at += Math.max(1, bytes.length);
    }
    return end;
  }

  *#take(block: Block): Generator<Entry, number, void> {
    this.#belongs(block);
    const damagedHeader = readBlock(this.reader, block.at) === null;
    this.#last = block;
    if (block.type === "SFMB") return this.#afterFilemark(block.at);
    const read = this.#readStreams(block.at, block.firstStream);
    if (block.type === "SSET") {
      this.#begin(toSet(block));
      yield { kind: "set", set: this.#set as TapeSet, continues: (block.common.attributes & CONTINUATION) !== 0 };
    } else if (block.type === "VOLB") this.#setVolume(block);
    else if (block.type === "DIRB") {
      const folder = this.#toFolder(block, read.streams);
      if (folder) {
        this.#setFolder(folder, block);
        yield { kind: "folder", block, folder, damagedHeader, context: this.#context() };
      }
    } else if (block.type === "FILE") return yield* this.#takeFile(block, read, damagedHeader);
    if (read.standing !== "broken") return read.end;
    return yield* this.#resume(read.end, this.thorough ? Math.min(read.end, block.firstStream) : read.end, this.reader.size);
  }

  *#takeFile(block: Block, read: StreamsRead, damagedHeader: boolean): Generator<Entry, number, void> {
    if (read.standing !== "broken") {
      yield this.#file(block, read, { damagedHeader });
      return read.end;
    }
    const content = read.streams.some(({ id }) => id === STAN || id === SPAR);
    const size = block.common.displayableSize;
    // The header of its content may be all that is damaged: then what follows stands where its size says.
    if (!content && size > 0) {
      const start = read.end + 22;
      const after = this.#align(block.at, start + size);
      if (readStreamHeader(this.reader, after)) {
        const rest = this.#readStreams(block.at, after);
        yield this.#file(
          block,
          { ...rest, streams: [...read.streams, ...rest.streams] },
          { damagedHeader, bare: { start, end: start + size } },
        );
        if (rest.standing !== "broken") return rest.end;
        return yield* this.#resume(rest.end, rest.end, this.reader.size);
      }
    }
    // In content that is shorter than it should be, the next header stands before its place.
    const from = this.thorough ? (read.streams.at(-1)?.dataAt ?? block.firstStream) : read.end;
    const anchor = this.#next(from, this.reader.size);
    const until = anchor?.at ?? this.reader.size;
    const own =
      anchor?.stream && this.#isOwn(block, anchor.stream) ? this.#readStreams(block.at + this.#shift(block, anchor.at), anchor.at) : null;
    const follower = anchor?.block ?? (own && own.standing === "sound" ? readBlock(this.reader, own.end) : null);
    const slip = follower ? this.#slipBetween(block, follower) : null;
    const all = { standing: read.standing, end: read.end, streams: [...read.streams, ...(own?.streams ?? [])] };
    const bare = content || size === 0 || !own || slip !== 0 ? null : this.#bareBefore(block, size, until, read.end);
    yield this.#file(block, all, { damagedHeader, bare, trouble: { slip, until } });
    if (until > read.end) yield { kind: "gap", start: read.end, end: until };
    else if (slip !== null && slip < 0) yield { kind: "gap", start: until, end: until };
    if (!anchor) return this.reader.size;
    if (anchor.block) return anchor.at;
    if (!own) return yield* this.#orphan(anchor.at, anchor.stream, read.end);
    if (own.standing !== "broken") return own.end;
    return yield* this.#resume(own.end, own.end, this.reader.size);
  }

  /** By how much a place is off the alignment of streams that belong to a block. */
  #shift(block: Block, at: number): number {
    return (at - block.at) % STREAM_ALIGNMENT;
  }

  /** Whether a stream after a break goes on with the same file: what ends it does, unless another file's content comes before. */
  #isOwn(block: Block, stream: Stream): boolean {
    if (stream.id === STAN && block.common.displayableSize !== stream.length) return false;
    if (stream.id !== SPAD) return stream.id === CSUM || stream.id === ADAT || stream.id === SPAR || stream.id === STAN;
    const next = readBlock(this.reader, stream.dataAt + stream.length);
    // One block a file: the next one's address says how many there are between.
    return next !== null && this.#isNextAfter(block, next);
  }

  /** Whether no other block can stand between two, by their numbers. */
  #isNextAfter(block: Block, next: Block): boolean {
    const [one, other] = [block.common.controlBlockId, next.common.controlBlockId];
    return one === 0 || other === 0 || other === one + 1;
  }

  /** Content of a known size that ends where the next stream begins. */
  #bareBefore(block: Block, size: number, until: number, lowest: number): Range | null {
    for (let end = until; end > until - STREAM_ALIGNMENT; end -= 1) {
      const start = end - size;
      if (start >= lowest + 22 - STREAM_ALIGNMENT && (start - block.at) % STREAM_ALIGNMENT === 2) return { start, end };
    }
    return null;
  }

  /** Bytes that stand between two blocks beyond what their logical addresses say; null: they say nothing. */
  #slipBetween(one: Block, other: Block): number | null {
    const blocks = other.common.formatLogicalAddress - one.common.formatLogicalAddress;
    if (!(blocks > 0)) return null;
    return other.at - one.at - blocks * this.logicalBlock;
  }

  #file(block: Block | null, read: StreamsRead, more: Partial<Pick<FileEntry, "damagedHeader" | "bare" | "trouble">>): FileEntry {
    const values = block ? FILE.read(new Cursor(block.bytes), 0) : null;
    const folderId = values?.directoryId ?? null;
    return {
      kind: "file",
      block,
      damagedHeader: false,
      name: block && values ? this.#nameOf(block, values, read.streams) : null,
      folder: folderId === null ? (block ? null : this.#folder) : this.#folderOf(folderId, block as Block),
      folderId,
      context: this.#context(),
      streams: read.streams,
      bare: null,
      trouble: null,
      cut: read.standing === "cut",
      dataEnd: this.#dataEnd(block?.at ?? read.streams[0]?.at ?? 0),
      beforePart: block !== null && block.at < this.part.start,
      continues: block !== null && (block.common.attributes & CONTINUATION) !== 0,
      ...more,
    };
  }

  #nameOf(block: Block, values: ReturnType<typeof FILE.read>, streams: readonly Stream[]): FileEntry["name"] {
    if (values.attributes & FILE_BITS.nameInStream) {
      const raw = this.#dataOf(streams.find(({ id }) => id === FNAM));
      if (raw) return { text: decodeText(raw, block.common.stringType || STRINGS.unicode).replace(/\0+$/, ""), raw };
    }
    const found = textIn(block, values.nameSize, values.nameAt);
    return found && { text: found.text.replace(/\0+$/, ""), raw: found.raw };
  }

  #dataOf(stream: Stream | undefined): Uint8Array | null {
    if (!stream || stream.length > MOST_NAME) return null;
    const bytes = this.reader.view(stream.dataAt, stream.length).slice();
    return bytes.length === stream.length ? bytes : null;
  }

  #folderOf(id: number, block: Block): TapeFolder | null {
    if (this.#folder?.id === id) return this.#folder;
    const known = this.#folders.get(id);
    if (known || this.#start === 0 || this.#lookedBack) return known ?? null;
    // Of a part of the medium: its first files lie in a folder whose block stands before it.
    this.#lookedBack = true;
    const base = this.#baseOf(block);
    for (const found of blocksBefore(this.reader, this.#start, "DIRB", BACK_REACH)) {
      if (this.#baseOf(found) !== base) break;
      const folder = this.#toFolder(found, this.#readStreams(found.at, found.firstStream).streams);
      if (folder && !this.#folders.has(folder.id)) this.#folders.set(folder.id, folder);
      if (folder?.id === id) return folder;
    }
    return null;
  }

  #toFolder(block: Block, streams: readonly Stream[]): TapeFolder | null {
    const { directoryId: id, nameSize, nameAt } = DIRB.read(new Cursor(block.bytes), 0);
    const raw = this.#dataOf(streams.find((stream) => stream.id === PNAM)) ?? textIn(block, nameSize, nameAt)?.raw;
    if (!raw) return null;
    const text = decodeText(raw, block.common.stringType || STRINGS.unicode);
    // Parts end with a zero each; backslashes are met in practice too.
    return { id, parts: text.split(/[\0\\]/).filter((part) => part !== "") };
  }

  #context(): Context {
    return { set: this.#set, volume: this.#volume };
  }

  #setVolume(block: Block): void {
    this.#volume = toVolume(block);
    this.#blocks.volume = block.at;
  }

  #setFolder(folder: TapeFolder, block: Block): void {
    this.#folder = folder;
    this.#blocks.folder = block.at;
    if (this.#folders.size < MOST_FOLDERS) this.#folders.set(folder.id, folder);
  }

  #begin(set: TapeSet | null): void {
    this.#set = set;
    this.#blocks = { set: set?.at ?? null, volume: null, folder: null };
    this.#volume = null;
    this.#folder = null;
    this.#folders = new Map();
  }

  #baseOf({ at, common }: Block): number {
    return at - common.formatLogicalAddress * this.logicalBlock;
  }

  /** Sees whether a block is still of the set that was read last: its logical address says where that set begins. */
  #belongs(block: Block): void {
    if (block.type === "SSET" || block.type === "TAPE" || block.type === "SFMB" || block.type === "EOTM") return;
    const base = this.#baseOf(block);
    const before = this.#base;
    this.#base = base;
    if (base === before && this.#set) return;
    if (this.#set && base === this.#set.at) return;
    const first = this.#setNear(base, block.at);
    if (first) {
      if (this.#set?.at === first.at) return;
      this.#begin(toSet(first));
      const next = this.#readStreams(first.at, first.firstStream);
      const volume = next.standing === "sound" ? readBlock(this.reader, next.end) : null;
      if (volume?.type === "VOLB") this.#setVolume(volume);
      return;
    }
    // A set that begins behind all that was read is another one, whose own block is lost.
    if (this.#last && base > this.#last.at) this.#begin(null);
  }

  /** The first block of a set that begins at a place, or near it: bytes that were slipped in or lost since move everything behind them. */
  #setNear(base: number, before: number): Block | null {
    const exact = base >= 0 && base < before ? readBlock(this.reader, base) : null;
    if (exact?.type === "SSET") return exact;
    const end = Math.min(before, base + SLIPS);
    if (this.#set || end <= 0) return null;
    for (const found of blocksBefore(this.reader, end, "SSET", end - Math.max(0, base - SLIPS))) return found;
    return null;
  }

  #align(base: number, at: number): number {
    return base + Math.ceil((at - base) / STREAM_ALIGNMENT) * STREAM_ALIGNMENT;
  }

  /** Where the contents of the medium end that a place is on. */
  #dataEnd(at: number): number {
    const medium = this.#ends.find(({ end }) => at < end);
    return medium === undefined ? this.reader.size : at < medium.dataEnd ? medium.dataEnd : medium.end;
  }

  /** Reads the streams that belong to a block, from a place on. @param base the block, from which alignment counts */
  #readStreams(base: number, from: number): StreamsRead {
    const streams: Stream[] = [];
    const limit = this.#dataEnd(base);
    let at = this.#align(base, from);
    while (streams.length < MOST_STREAMS) {
      if (at >= limit) return { streams, end: limit, standing: "cut" };
      const stream = readStreamHeader(this.reader, at);
      if (!stream) {
        const next = (at - base) % this.logicalBlock === 0 && at > base ? readBlock(this.reader, at) : null;
        return { streams, end: at, standing: next ? "sound" : "broken" };
      }
      streams.push(stream);
      const end = stream.dataAt + stream.length;
      if (end > limit) return { streams, end: limit, standing: "cut" };
      if (stream.id === SPAD) return { streams, end, standing: "sound" };
      at = this.#align(base, end);
    }
    return { streams, end: at, standing: "broken" };
  }

  /** Filemarks have a size of their own, which stands in the first block of the medium; the next block is seen without it. */
  #afterFilemark(at: number): number {
    for (let next = at + 512; next <= at + 65_536 && next < this.reader.size; next += 512) if (readBlock(this.reader, next)) return next;
    return at + this.logicalBlock;
  }
}

/** Streams of sets and catalogues: no file's. */
const OF_SETS = new Set(["TSMP", "TFDD"].map(idOf));
const isOfSet = ({ id }: Stream) => OF_SETS.has(id);
