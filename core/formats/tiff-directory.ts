import type { BlockReader } from "../bytes/block-reader";
import { TAG, TYPE_BYTES } from "./tiff-tags";

/** One entry of an image file directory: TIFF 6.0, section 2. */
export interface TiffEntry {
  readonly tag: number;
  readonly type: number;
  readonly count: number;
  /** Where its values stand. Bytes of the reader. */
  readonly at: number;
  readonly bytes: number;
}

export interface TiffDirectory {
  readonly at: number;
  readonly entries: ReadonlyMap<number, TiffEntry>;
  /** Offset of the directory after it, as the file has it; 0: none. */
  readonly next: number;
  readonly end: number;
}

const MOST_ENTRIES = 4096;
const MOST_VALUES = 1 << 20;

/** The directories of a TIFF structure that begins at `base` of the reader; all its offsets count from there. */
export class TiffReader {
  readonly little: boolean;
  readonly big: boolean;

  /** @throws PastEnd past the end; the caller has seen that a header stands at `base` */
  constructor(
    readonly reader: BlockReader,
    readonly base: number,
  ) {
    this.little = reader.u8(base) === 0x49;
    this.big = this.u16(base + 2) === 43;
  }

  u16(at: number): number {
    return this.little ? this.reader.u16(at) : this.reader.u16be(at);
  }
  u32(at: number): number {
    return this.little ? this.reader.u32(at) : this.reader.u32be(at);
  }
  word(at: number): number {
    if (!this.big) return this.u32(at);
    return this.little ? this.reader.u64(at) : this.reader.u64be(at);
  }

  get first(): number {
    return this.word(this.base + (this.big ? 8 : 4));
  }

  /** The directory at `offset`; null when none can stand there. */
  directory(offset: number): TiffDirectory | null {
    const at = this.base + offset;
    const [countBytes, entryBytes, wordBytes] = this.big ? [8, 20, 8] : [2, 12, 4];
    if (offset < 8 || at + countBytes > this.reader.size) return null;
    const count = this.big ? this.word(at) : this.u16(at);
    const end = at + countBytes + count * entryBytes + wordBytes;
    if (count === 0 || count > MOST_ENTRIES || end > this.reader.size) return null;
    const entries = new Map<number, TiffEntry>();
    let before = 0;
    for (let i = 0; i < count; i += 1) {
      const entry = at + countBytes + i * entryBytes;
      const tag = this.u16(entry);
      const type = this.u16(entry + 2);
      const values = this.word(entry + 4);
      const bytes = (TYPE_BYTES[type] ?? 0) * values;
      if (type === 0 || type > 18 || TYPE_BYTES[type] === 0) {
        // Unknown types are to be passed over (section 2); a directory that begins with one is none.
        if (i === 0) return null;
        continue;
      }
      if (tag < before && i < 2) return null;
      before = tag;
      const valueAt = bytes <= wordBytes ? entry + 4 + wordBytes : this.base + this.word(entry + 4 + wordBytes);
      entries.set(tag, { tag, type, count: values, at: valueAt, bytes });
    }
    return { at, entries, next: this.word(end - wordBytes), end };
  }

  /** The numbers of an entry, as far as they stand in the file. */
  numbers(entry: TiffEntry | undefined, most = MOST_VALUES): number[] {
    if (!entry) return [];
    const size = TYPE_BYTES[entry.type] ?? 1;
    const found: number[] = [];
    for (let i = 0; i < Math.min(entry.count, most); i += 1) {
      const at = entry.at + i * size;
      if (at + size > this.reader.size) break;
      if (size === 1) found.push(this.reader.u8(at));
      else if (size === 2) found.push(this.u16(at));
      else if (size === 8 && entry.type >= 16) found.push(this.word(at));
      else found.push(this.u32(at));
    }
    return found;
  }

  number(directory: TiffDirectory, tag: number): number | undefined {
    return this.numbers(directory.entries.get(tag), 1)[0];
  }

  text(directory: TiffDirectory, tag: number): string | undefined {
    const entry = directory.entries.get(tag);
    if (entry?.type !== 2 || entry.at + entry.bytes > this.reader.size) return undefined;
    const text = new TextDecoder().decode(this.reader.bytes(entry.at, Math.min(entry.bytes, 1024)));
    return text.replace(/\0.*$/s, "").trim() || undefined;
  }
}

/** "YYYY:MM:DD HH:MM:SS" (Exif 2.3, 4.6.4) as milliseconds, as if it were UTC. */
export function exifTime(text: string | undefined): number | undefined {
  const match = /^(\d{4}):(\d\d):(\d\d) (\d\d):(\d\d):(\d\d)/.exec(text ?? "");
  if (!match) return undefined;
  const [year, month, day, hour, minute, second] = match.slice(1).map(Number) as [number, number, number, number, number, number];
  if (year < 1980 || month < 1 || month > 12 || day < 1 || day > 31) return undefined;
  return Date.UTC(year, month - 1, day, hour, minute, second);
}

export interface ExifFacts {
  readonly taken?: number;
  readonly camera?: string;
  readonly author?: string;
  readonly title?: string;
  readonly width?: number;
  readonly height?: number;
  readonly thumbnail?: { readonly at: number; readonly length: number };
}

/** What a camera wrote about a picture. Places are offsets of the reader. */
export function exifFacts(tiff: TiffReader): ExifFacts {
  const main = tiff.directory(tiff.first);
  if (!main) return {};
  const exifAt = tiff.number(main, TAG.exifIfd);
  const exif = exifAt === undefined ? null : tiff.directory(exifAt);
  const second = main.next > 0 ? tiff.directory(main.next) : null;
  const make = tiff.text(main, TAG.make);
  const model = tiff.text(main, TAG.model);
  const small = second && tiff.number(second, TAG.jpegAt);
  const smallLength = second && tiff.number(second, TAG.jpegLength);
  return defined({
    taken: exifTime((exif && tiff.text(exif, TAG.dateTimeOriginal)) ?? undefined) ?? exifTime(tiff.text(main, TAG.dateTime)),
    camera: model ? (make && !model.startsWith(make) ? `${make} ${model}` : model) : make,
    author: tiff.text(main, TAG.artist),
    title: tiff.text(main, TAG.description),
    width: (exif && tiff.number(exif, TAG.pixelWidth)) ?? tiff.number(main, TAG.width),
    height: (exif && tiff.number(exif, TAG.pixelHeight)) ?? tiff.number(main, TAG.height),
    thumbnail: small && smallLength ? { at: tiff.base + small, length: smallLength } : undefined,
  });
}

/** The same without the fields that are not known. */
export function defined<T extends object>(fields: { [K in keyof T]: T[K] | undefined | null }): T {
  return Object.fromEntries(Object.entries(fields).filter(([, value]) => value !== undefined && value !== null)) as T;
}
