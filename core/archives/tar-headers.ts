import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource, readBytes } from "../bytes/byte-source";
import { UNKNOWN } from "../bytes/inflate-behind";
import { type TarEntry, tarEntry } from "../formats/archives";

const RECORD = 512;
/** POSIX.1-2017, pax, "ustar Interchange Format": where the mark stands in a header. */
const MARK = { at: 257, text: "ustar" } as const;
/** The same: its checksum. */
const SUM = { at: 148, digits: 6 } as const;
const hasMark = (header: Uint8Array) => Buffer.from(header.buffer, header.byteOffset, header.length).includes(MARK.text, MARK.at);
/** Bytes that are searched at once. */
const SLICE = 1 << 26;
/** Bytes behind a place that are looked at one by one where nothing says at which of them records begin, and in all. */
const MOST_SEARCHED = 1 << 16;
const MOST_LOOKED = 1 << 25;

/** Where the headers of an archive end in something else than zeros; null: they do not, or it is none. */
export function brokenTarAt(source: ByteSource): number | null {
  const reader = new BlockReader(source);
  let at = 0;
  for (let entry = tarEntry(reader, at); entry; entry = tarEntry(reader, at)) at = entry.next;
  if (at === 0 || at + RECORD > reader.size) return null;
  return reader.bytes(at, RECORD).some((byte) => byte !== 0) ? at : null;
}

/** Whether a source ends with a record of zeros, as an archive does (POSIX.1-2017, pax, "ustar Interchange Format": two at least). */
export function endsArchive(source: ByteSource): boolean {
  const length = Math.min(RECORD, source.size);
  return readBytes(source, source.size - length, length).every((byte) => byte === 0);
}

/** The next header with a mark, at any byte from one place up to another; null: there is none. */
export function nextMarked(reader: BlockReader, from: number, end: number): number | null {
  const find = (at: number) => reader.find(MARK.text, at, Math.min(reader.size, end + MARK.at + MARK.text.length));
  for (let mark = find(from); mark >= 0; mark = find(mark + 1)) {
    const at = mark - MARK.at;
    if (at >= from && at < end && tarEntry(reader, at)) return at;
  }
  return null;
}

/** The same by its checksum alone, as that is commonly written: six digits and a zero. */
export function nextSummed(reader: BlockReader, from: number, end: number): number | null {
  let digits = 0;
  for (const { at: start, bytes: view } of reader.blocks(from + SUM.at, Math.min(reader.size, end + SUM.at + SUM.digits + 1))) {
    // Reading a header takes the view's room.
    const bytes = view.slice();
    for (let i = 0; i < bytes.length; i += 1) {
      const byte = bytes[i] as number;
      if (byte === 0 && digits >= SUM.digits) {
        const at = start + i - SUM.digits - SUM.at;
        if (at >= from && at < end && tarEntry(reader, at)) return at;
      }
      digits = byte >= 0x30 && byte <= 0x37 ? digits + 1 : 0;
    }
  }
  return null;
}

export interface TarHeader extends TarEntry {
  /** Bytes of it could not be known, and were taken from the header before. */
  readonly completed: boolean;
}

/** What `TarHeaders` knows of the headers before a place, to go on from there. */
export interface HeadersBefore {
  /** Where the last header stands of which all bytes are known; null: there was none. */
  readonly template: number | null;
  readonly anywhere: boolean;
  readonly lookedTo: number;
  readonly left: number;
  /** The last search for a mark: none stands from one place up to the other. */
  readonly searched: { readonly from: number; readonly to: number };
}

/**
 * Finds headers where some are damaged, or stand behind bytes that are gone. What may search through much data is a generator, which yields
 * after each `SLICE` of it.
 */
export class TarHeaders {
  readonly #reader: BlockReader;
  /** The last header of which all bytes are known, and where it stands. */
  #template: Uint8Array | null = null;
  #templateAt: number | null = null;
  /** Headers may have a mark at other places than whole records. */
  #anywhere = true;
  readonly #unknown: boolean;
  /** Before this place all was looked at that could be completed. */
  #lookedTo = 0;
  /** Bytes that may still be looked at one by one. */
  #left = MOST_LOOKED;
  /** The last header that was looked for by its mark, and from where; `found` is null while that goes on, and infinite where there is none. */
  #seen: { from: number; to: number; found: number | null } = { from: 0, to: 0, found: 0 };

  /** @param before what an earlier reading knew at the place from which this one goes on */
  constructor(
    source: ByteSource,
    private readonly thorough: boolean,
    before: HeadersBefore | null = null,
  ) {
    this.#reader = new BlockReader(source);
    this.#unknown = (source.doubts?.length ?? 0) > 0;
    if (!before) return;
    this.#anywhere = before.anywhere;
    this.#lookedTo = before.lookedTo;
    this.#left = before.left;
    this.#seen = { ...before.searched, found: null };
    if (before.template !== null) this.#know(before.template);
  }

  before(): HeadersBefore {
    const { from, to } = this.#seen;
    return {
      template: this.#templateAt,
      anywhere: this.#anywhere,
      lookedTo: this.#lookedTo,
      left: this.#left,
      searched: { from, to },
    };
  }

  #know(at: number): void {
    const header = this.#reader.bytes(at, RECORD);
    if (this.#template) this.#template.set(header);
    else this.#template = header.slice();
    this.#templateAt = at;
  }

  /** The entry whose header stands at a place; null: none is there. A mark a few bytes off is that of a header which begins as many off: its checksum can be right for either. */
  #entry(at: number): TarEntry | null {
    const entry = tarEntry(this.#reader, at);
    if (!entry || this.#reader.has(at + MARK.at, MARK.text)) return entry;
    const near = this.#reader.bytes(at + MARK.at - MARK.text.length, 3 * MARK.text.length);
    return Buffer.from(near.buffer, near.byteOffset, near.length).includes(MARK.text) ? null : entry;
  }

  /** The header at a place; null: none is there. */
  at(at: number): TarHeader | null {
    const found = this.#entry(at);
    if (found) {
      this.#know(at);
      return { ...found, completed: false };
    }
    const completed = this.#completed(at);
    return completed && { ...completed, dataAt: at + RECORD, completed: true };
  }

  /**
   * Where the header of the next member stands in what a member says are its data: bytes of these are missing then. It is looked for where no header, and no end, stands
   * behind the data; and of a thorough reading also where one does, if the hidden member leads there, or over the end.
   * @param end where the data end by the member's size, in whole records @returns null: nothing says that any are missing
   */
  *hiddenIn({ dataAt }: TarEntry, end: number): Generator<void, number | null, void> {
    if (end === dataAt) return null;
    const behind = this.#whatIsAt(end);
    if (!this.thorough && (behind !== "other" || end > this.#reader.size)) return null;
    const own = this.#chainEnd(dataAt, end);
    if (behind === "header" && own > dataAt) return null;
    const last = Math.min(end, this.#reader.size, this.thorough ? end : dataAt + MOST_LOOKED);
    let reached = own;
    for (let at = yield* this.#nextMarked(own - 1, last); at !== null; at = yield* this.#nextMarked(reached - 1, last)) {
      reached = this.#chainEnd(at, end);
      const leads = behind === "other" || reached === end || (behind === "zeros" && this.#entry(reached) !== null);
      if (leads) return at;
      reached = Math.max(reached, at + 1);
    }
    return null;
  }

  /** What stands at a place: a header, be it damaged; what may be the end of the archive; something else. */
  #whatIsAt(at: number): "header" | "zeros" | "other" {
    const { size } = this.#reader;
    if (at + RECORD > size) return at <= size ? "zeros" : "other";
    if (this.#reader.has(at + MARK.at, MARK.text) || this.#entry(at)) return "header";
    return this.#reader.bytes(at, Math.min(2 * RECORD, size - at)).every((byte) => byte === 0) ? "zeros" : "other";
  }

  /** Where members end that follow one another from a place, the last one before the end of something that holds them; the place itself: there is none. */
  #chainEnd(start: number, end: number): number {
    let at = start;
    for (let entry = this.#entry(at); entry && entry.next <= end; entry = this.#entry(at)) at = entry.next;
    return at;
  }

  /** Where the next header stands behind a place that has none. */
  *behind(from: number): Generator<void, number, void> {
    const known = this.#anywhere ? yield* this.#marked(from) : null;
    const completed = this.#unknown ? this.#nextCompleted(from, known) : null;
    // Without a mark anywhere, older headers may stand at whole records.
    this.#anywhere = known !== null || completed !== null;
    return completed ?? known ?? from + RECORD;
  }

  /** The next header with a mark, at any byte. */
  *#marked(from: number): Generator<void, number | null, void> {
    const seen = this.#seen;
    const isIn = from >= seen.from && from < (seen.found ?? seen.to);
    if (!isIn || seen.found === null) {
      this.#seen = { from, to: isIn ? seen.to : from + 1, found: null };
      const found = yield* this.#nextMarked(from, this.#reader.size, this.#seen);
      this.#seen.found = found ?? Number.POSITIVE_INFINITY;
    }
    const { found } = this.#seen;
    return found !== null && Number.isFinite(found) ? found : null;
  }

  /** @param end before which it begins @param searched up to where there is none by its mark, kept up to date */
  *#nextMarked(from: number, end = this.#reader.size, searched = { to: from + 1 }): Generator<void, number | null, void> {
    // Older archives have no mark in their headers.
    const isOlder = this.#template !== null && !hasMark(this.#template);
    while (!isOlder && searched.to < end) {
      const to = Math.min(end, searched.to + SLICE);
      const marked = nextMarked(this.#reader, searched.to, to);
      if (marked !== null) return marked;
      searched.to = to;
      if (to < end) yield;
    }
    if (this.#template !== null && !isOlder) return null;
    for (let at = from + 1; at < end; at += SLICE) {
      const summed = nextSummed(this.#reader, at, Math.min(end, at + SLICE));
      if (summed !== null) return summed;
      if (at + SLICE < end) yield;
    }
    return null;
  }

  /** The next header with unknown bytes, before a known one: at whole records from that one back, or else anywhere near. */
  #nextCompleted(from: number, known: number | null): number | null {
    const step = known === null ? 1 : RECORD;
    const first = known === null ? from + 1 : from + RECORD - ((from - (known % RECORD) + RECORD) % RECORD);
    const end = known ?? Math.min(this.#reader.size, from + Math.min(MOST_SEARCHED, this.#left));
    if (known === null) this.#left -= Math.max(0, end - Math.max(from, this.#lookedTo));
    for (let at = first; at < end; at += step) if (at > from && at >= this.#lookedTo && this.#completed(at)) return at;
    this.#lookedTo = Math.max(this.#lookedTo, end);
    return null;
  }

  /**
   * Headers are much alike, and in packed data mostly repeat what stands in the one before: what cannot be known of one is taken from the last
   * that is known, if its checksum then is right.
   */
  #completed(at: number): TarEntry | null {
    const template = this.#template;
    const reader = this.#reader;
    if (!this.#unknown || !template || at + RECORD > reader.size) return null;
    const bytes = reader.bytes(at, RECORD);
    for (let i = 0; i < MARK.text.length; i += 1) {
      const byte = bytes[MARK.at + i];
      if (byte !== MARK.text.charCodeAt(i) && byte !== UNKNOWN) return null;
    }
    if (!bytes.includes(UNKNOWN)) return null;
    const header = bytes.map((byte, i) => (byte === UNKNOWN ? (template[i] as number) : byte));
    // One that comes out the same is only the one before again.
    if (header.every((byte, i) => byte === template[i])) return null;
    return tarEntry(new BlockReader(new MemorySource(header)), 0);
  }
}
