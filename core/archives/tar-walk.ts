import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { RangeSet } from "../bytes/range-set";
import { tarText } from "../formats/archives";
import { type ArchiveEntry, ownPath } from "./archive";
import { type Ahead, NOTHING, readFolderList, readPax } from "./tar-ahead";
import { doubted, type EarlierEntries, isFile, restOffset, toEntry } from "./tar-entries";
import { type HeadersBefore, type TarHeader, TarHeaders } from "./tar-headers";
import { readGnuMap, readPaxMap } from "./tar-sparse";

const RECORD = 512;
/** Bytes of a name, a list of names or extended headers that are read. */
const MOST_NAME = 1 << 20;
const MOST_LISTING = 1 << 24;
/** Places of damaged headers that are kept. */
const MOST_EXAMPLES = 20;

/** A place between two members of an archive, with what is known there: a walk goes on from it. */
export interface TarWalkFrom {
  readonly at: number;
  /** Entries before it. */
  readonly count: number;
  readonly damaged: number;
  readonly examples: readonly number[];
  readonly general: Partial<Ahead>;
  readonly headers: HeadersBefore;
}

export interface TarStep {
  readonly entry: ArchiveEntry;
  /** Where what is said of it begins: its header, or the first that stands before that and is about it. */
  readonly begins: number;
  /** Which names stood in a folder when the archive was made, where it lists them. */
  readonly listing: ReadonlySet<string> | null;
}

/** A further name of a file that stands before it. */
const LINK = "1";
/** What is said of the next file. */
const isAhead = (type: string) => "LKxg".includes(type);

/**
 * Goes through a TAR archive (POSIX.1-2017, pax; long names and folder lists after the GNU manual, "Basic Tar Format" and "Dumpdir") from header to
 * header. Where one is damaged the next right one is looked for. Memory does not grow with the number of entries, as long as none is a further
 * name of another.
 */
export class TarWalk {
  readonly #reader: BlockReader;
  readonly #headers: TarHeaders;
  readonly #doubts: RangeSet;
  /** What extended headers say of all entries that follow. */
  #general: Partial<Ahead> = {};
  #damaged = 0;
  readonly #examples: number[] = [];
  #at = 0;
  #count = 0;
  /** Where the next entry begins. */
  #begins = 0;
  /** An entry of which the next header will say whether it is as long as it should be. */
  #pending: TarStep | null = null;
  #resume: TarWalkFrom;

  /** @param thorough whether members that others claim are looked for in all data, too @param from a place that an earlier walk over the same bytes gave */
  constructor(
    private readonly source: ByteSource,
    thorough: boolean,
    from: TarWalkFrom | null,
    private readonly earlier: EarlierEntries,
  ) {
    this.#reader = new BlockReader(source);
    this.#doubts = RangeSet.from(source.doubts ?? []);
    this.#headers = new TarHeaders(source, thorough, from?.headers);
    if (from) {
      this.#at = from.at;
      this.#count = from.count;
      this.#damaged = from.damaged;
      this.#examples.push(...from.examples);
      this.#general = from.general;
      this.#begins = from.at;
    }
    this.#resume = this.#here();
  }

  /** Places at which a header is damaged, up to where the walk is. */
  get damaged(): number {
    return this.#damaged;
  }

  /** Some of these places, in bytes from the beginning. */
  get examples(): readonly number[] {
    return this.#examples;
  }

  #noteDamage(at: number): void {
    this.#damaged += 1;
    if (this.#examples.length < MOST_EXAMPLES) this.#examples.push(at);
  }

  /** Bytes that are behind the walk. */
  get at(): number {
    return Math.min(this.#at, this.#reader.size);
  }

  /** Entries that were given. */
  get count(): number {
    return this.#count - (this.#pending ? 1 : 0);
  }

  /** Where another walk goes on to give what this one has not given yet. */
  checkpoint(): TarWalkFrom {
    return { ...this.#resume, headers: { ...this.#resume.headers, searched: this.#headers.before().searched } };
  }

  #here(): TarWalkFrom {
    return {
      at: this.#at,
      count: this.#count,
      damaged: this.#damaged,
      examples: [...this.#examples],
      general: this.#general,
      headers: this.#headers.before(),
    };
  }

  /** The entries in their order; null after much work without any. */
  *entries(): Generator<TarStep | null, void, void> {
    let ahead: Ahead = { ...NOTHING };
    /** Where something stands that is no header. */
    let gap: number | null = null;
    const seams = [...(this.source.seams ?? [])];
    while (this.#at + RECORD <= this.#reader.size) {
      const at = this.#at;
      const found = this.#headers.at(at);
      if (!found) {
        // Zeros fill the end; anything else was a header, or data behind one that is gone.
        if (gap === null && this.#reader.bytes(at, RECORD).some((byte) => byte !== 0)) this.#noteDamage(at);
        // What was said of the file that stood here is not said of the next one.
        ahead = { ...NOTHING };
        gap ??= at;
        this.#at = yield* ticking(this.#headers.behind(at));
        this.#begins = this.#at;
        continue;
      }
      if (gap !== null && this.#count > 0 && this.#damaged === 0) this.#noteDamage(gap);
      // Members are whole records apart: bytes slipped in, or are missing, in the last one or behind it.
      const isSlipped = gap !== null && (at - gap) % RECORD !== 0;
      gap = null;
      yield* this.#settle(isSlipped);
      const data = (most: number) =>
        this.#reader.bytes(found.dataAt, Math.max(0, Math.min(found.size, most, this.#reader.size - found.dataAt))).slice();
      const size = ahead.size ?? found.size;
      const whole = found.dataAt + Math.ceil(size / RECORD) * RECORD;
      // Behind a seam other files stand.
      while (seams[0] !== undefined && seams[0] <= at) seams.shift();
      const hidden = yield* ticking(this.#headers.hiddenIn(found, whole));
      const seam = seams[0] !== undefined && seams[0] < (hidden ?? whole) ? seams[0] : hidden;
      if (hidden !== null) this.#noteDamage(hidden);
      const next = seam ?? whole;
      const isOver = !isAhead(found.type);
      if (hidden !== null && !isOver) ahead = { ...NOTHING };
      else if (found.type === "L") ahead.path = textOf(data(MOST_NAME));
      else if (found.type === "K") ahead.link = textOf(data(MOST_NAME));
      else if (found.type === "x") ahead = { ...ahead, ...readPax(data(MOST_NAME)) };
      else if (found.type === "g") this.#general = { ...this.#general, ...readPax(data(MOST_NAME)) };
      else {
        if (found.type === LINK) yield* ticking(this.earlier.advance(this.#begins));
        this.#pending = this.#stepOf(found, at, ahead, size, seam, hidden !== null);
        if (this.#pending) this.#count += 1;
        ahead = { ...NOTHING };
      }
      this.#at = seam === null ? Math.max(at + RECORD, next) : next;
      if (isOver) this.#begins = this.#at;
    }
    yield* this.#settle(false);
  }

  /** Gives the entry that waits. @param isSlipped the next header does not stand where it should */
  *#settle(isSlipped: boolean): Generator<TarStep, void, void> {
    const pending = this.#pending;
    this.#pending = null;
    if (!pending) return;
    this.#resume = this.#here();
    yield isSlipped ? { ...pending, entry: doubted(pending.entry) } : pending;
  }

  #stepOf(found: TarHeader, at: number, ahead: Ahead, size: number, seam: number | null, isShort: boolean): TarStep | null {
    const general = this.#general;
    const reader = this.#reader;
    const goesOn = found.type === "M" ? { name: found.name, offset: restOffset(reader, at) } : null;
    const rest = goesOn ?? (isFile(found.type) ? (general.rest ?? null) : null);
    const name = rest?.name || (ahead.sparse?.name ?? ahead.path ?? general.path ?? found.name);
    const path = ownPath(name);
    if (path === null) return null;
    const listing = found.type === "D" ? readFolderList(reader.bytes(found.dataAt, listed(found, reader.size)).slice()) : null;
    const sparse = isFile(found.type) && ahead.sparse ? readPaxMap(ahead.sparse, reader, found.dataAt, size) : undefined;
    const holes = found.type === "S" ? readGnuMap(reader, at) : sparse;
    const modified = ahead.modified ?? general.modified ?? (Number.isFinite(found.modified) ? found.modified : null);
    const { source } = this;
    const doubts = this.#doubts;
    const earlier = (target: string) => this.earlier.find(target);
    const entry = toEntry({ source, reader, found, path, size, modified, link: ahead.link, name, earlier, seam, doubts, holes, rest });
    if (rest) this.#general = { ...general, rest: null };
    return entry && { entry: isShort ? doubted(entry) : entry, begins: this.#begins, listing };
  }
}

const listed = ({ dataAt, size }: TarHeader, end: number) => Math.max(0, Math.min(size, MOST_LISTING, end - dataAt));
const textOf = (bytes: Uint8Array) => tarText(bytes, 0, bytes.length);

/** Tells of each stretch of work that one more was done. */
function* ticking<T>(work: Generator<void, T, void>): Generator<null, T, void> {
  for (;;) {
    const { done, value } = work.next();
    if (done) return value as T;
    yield null;
  }
}
