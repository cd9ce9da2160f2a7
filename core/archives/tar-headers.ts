import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { UNKNOWN } from "../bytes/inflate-behind";
import { type TarEntry, tarEntry } from "../formats/archives";

const RECORD = 512;
/** POSIX.1-2017, pax, "ustar Interchange Format": where the mark stands in a header. */
const MARK = { at: 257, text: "ustar" } as const;
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

export interface TarHeader extends TarEntry {
  /** Bytes of it could not be known, and were taken from the header before. */
  readonly completed: boolean;
}

/** Finds headers where some are damaged, or stand behind bytes that are gone. */
export class TarHeaders {
  readonly #reader: BlockReader;
  /** The last header of which all bytes are known. */
  #template: Uint8Array | null = null;
  /** Headers may have a mark at other places than whole records. */
  #anywhere: boolean;
  readonly #unknown: boolean;
  /** Before this place all was looked at that could be completed. */
  #lookedTo = 0;
  /** Bytes that may still be looked at one by one. */
  #left = MOST_LOOKED;
  /** The last header that was looked for by its mark, and from where. */
  #seen = { from: 0, at: 0 };

  constructor(source: ByteSource, everyByte: boolean) {
    this.#reader = new BlockReader(source);
    this.#unknown = (source.doubts?.length ?? 0) > 0;
    // Behind bytes that are gone they stand anywhere.
    this.#anywhere = everyByte || this.#unknown || (source.seams?.length ?? 0) > 0;
  }

  /** The header at a place; null: none is there. */
  at(at: number): TarHeader | null {
    const found = tarEntry(this.#reader, at);
    if (found) {
      this.#template = this.#reader.bytes(at, RECORD).slice();
      return { ...found, completed: false };
    }
    const completed = this.#completed(at);
    return completed && { ...completed, dataAt: at + RECORD, completed: true };
  }

  /** Where the next header stands behind a place that has none. */
  behind(from: number): number {
    const known = this.#anywhere ? this.#marked(from) : null;
    const completed = this.#unknown ? this.#nextCompleted(from, known) : null;
    // Without a mark anywhere, older headers may stand at whole records.
    this.#anywhere = known !== null || completed !== null;
    return completed ?? known ?? from + RECORD;
  }

  /** The next header with a mark, at any byte. */
  #marked(from: number): number | null {
    if (from < this.#seen.from || from >= this.#seen.at) this.#seen = { from, at: this.#nextMarked(from) ?? Number.POSITIVE_INFINITY };
    return Number.isFinite(this.#seen.at) ? this.#seen.at : null;
  }

  #nextMarked(from: number): number | null {
    const reader = this.#reader;
    for (let mark = reader.find(MARK.text, from + 1); mark >= 0; mark = reader.find(MARK.text, mark + 1)) {
      const at = mark - MARK.at;
      if (at > from && tarEntry(reader, at)) return at;
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
