import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, WindowSource } from "../bytes/byte-source";
import { LayoutSource, layoutOf, type Segment } from "../bytes/layout";
import { PastEnd } from "../bytes/past-end";
import { codePageDecoder } from "./code-pages";
import {
  breaksAt,
  cannotTell,
  damaged,
  type Extent,
  endsAt,
  type Format,
  hasAscii,
  type Kind,
  SOUND,
  type Summary,
  type Verdict,
} from "./format";
import { jpeg } from "./jpeg/jpeg";
import { png } from "./png";
import { defined } from "./tiff-directory";

/** Compound files: [MS-CFB], 2.2 (header), 2.3 to 2.5 (allocation tables), 2.6 (directory). */
const MARK = "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1";
const FREE = 0xffff_ffff;
const END_OF_CHAIN = 0xffff_fffe;
const TABLE_SECTOR = 0xffff_fffd;
const MOST_SECTORS = 1 << 25;
const MOST_ENTRIES = 100_000;

interface Entry {
  readonly name: string;
  readonly type: number;
  readonly start: number;
  readonly size: number;
}

/** A compound file taken apart. Throws `PastEnd` or `Broken` where it does not hold together. */
class Compound {
  readonly sectorSize: number;
  readonly #table: number[] = [];
  #tableSectors: readonly number[] = [];
  readonly entries: Entry[] = [];
  readonly #smallCutoff: number;
  #smallTable: BlockReader | null = null;
  #smallData: BlockReader | null = null;

  constructor(readonly reader: BlockReader) {
    const shift = reader.u16(30);
    const version = reader.u16(26);
    if (reader.u16(28) !== 0xfffe || (shift !== 9 && shift !== 12) || version < 3 || version > 4)
      throw new Broken(26, "the header is damaged");
    this.sectorSize = 1 << shift;
    this.#smallCutoff = reader.u32(56);
    this.#readTable();
    this.#readDirectory(reader.u32(48), version);
  }

  place(sector: number): number {
    return (sector + 1) * this.sectorSize;
  }

  /** Bytes from the beginning to the end of the last sector in use. */
  get end(): number {
    const led = new Set(this.#table).add(this.reader.u32(48)).add(this.reader.u32(60));
    for (const { start } of this.entries) led.add(start);
    let last = this.#table.length - 1;
    // Some writers fill the table up with ends of chains that nothing leads to, instead of with free sectors.
    const isFree = (sector: number) => this.#table[sector] === FREE || (this.#table[sector] === END_OF_CHAIN && !led.has(sector));
    while (last >= 0 && isFree(last)) last -= 1;
    return this.place(last + 1);
  }

  #readTable(): void {
    const { reader } = this;
    const count = reader.u32(44);
    if (count === 0 || count * (this.sectorSize / 4) > MOST_SECTORS) throw new Broken(44, "the header is damaged");
    const sectors: number[] = [];
    for (let i = 0; i < Math.min(109, count); i += 1) sectors.push(reader.u32(76 + i * 4));
    for (let next = reader.u32(68), seen = 0; next < TABLE_SECTOR && sectors.length < count; seen += 1) {
      if (seen > count) throw new Broken(68, "the allocation table is damaged");
      const at = this.place(next);
      for (let i = 0; i < this.sectorSize / 4 - 1 && sectors.length < count; i += 1) sectors.push(reader.u32(at + i * 4));
      next = reader.u32(at + this.sectorSize - 4);
    }
    if (sectors.length < count) throw new Broken(68, "the allocation table is damaged");
    this.#tableSectors = sectors;
    for (const sector of sectors) {
      const at = this.place(sector);
      if (at + this.sectorSize > reader.size) throw new PastEnd(at, this.sectorSize, reader.size);
      for (let i = 0; i < this.sectorSize / 4; i += 1) this.#table.push(reader.u32(at + i * 4));
    }
    for (const sector of sectors)
      if (this.#table[sector] !== TABLE_SECTOR) throw new Broken(this.place(sector), "the allocation table is damaged");
  }

  /** The sectors of a chain in their order. */
  chain(start: number): number[] {
    const found: number[] = [];
    for (let sector = start; sector !== END_OF_CHAIN; sector = this.#table[sector] as number) {
      if (sector >= this.#table.length || found.length > this.#table.length)
        throw new Broken(this.#tablePlaceOf(found.at(-1) ?? start), "a chain of sectors leads nowhere");
      found.push(sector);
    }
    return found;
  }

  /** Where the part of the allocation table stands in which a sector has its entry. */
  #tablePlaceOf(sector: number): number {
    const part = this.#tableSectors[Math.floor(sector / (this.sectorSize / 4))] ?? this.#tableSectors[0];
    return part === undefined ? 44 : this.place(part);
  }

  #open(start: number, size: number): BlockReader {
    const segments: Segment[] = this.chain(start).map((sector) => ({ kind: "disk", at: this.place(sector), length: this.sectorSize }));
    return new BlockReader(
      new LayoutSource(this.reader.source, layoutOf(segments, Math.min(size, segments.length * this.sectorSize))),
      4096,
    );
  }

  #readDirectory(start: number, version: number): void {
    const directory = this.#open(start, Number.POSITIVE_INFINITY);
    for (let at = 0; at + 128 <= directory.size && this.entries.length < MOST_ENTRIES; at += 128) {
      const type = directory.u8(at + 66);
      const nameLength = directory.u16(at + 64);
      if (type > 5 || nameLength > 64) throw new Broken(this.place(start), "the directory is damaged");
      if (type === 0) continue;
      const name = new TextDecoder("utf-16le").decode(directory.bytes(at, Math.max(0, nameLength - 2)));
      const size = version === 3 ? directory.u32(at + 120) : directory.u64(at + 120);
      this.entries.push({ name, type, start: directory.u32(at + 116), size });
    }
    if (this.entries[0]?.type !== 5) throw new Broken(this.place(start), "the directory is damaged");
  }

  /** Where in the file a byte of a stream of its own stands. */
  placeIn({ start }: Entry, at: number): number {
    const sector = this.chain(start)[Math.floor(at / this.sectorSize)];
    return sector === undefined ? this.reader.size : this.place(sector) + (at % this.sectorSize);
  }

  /** A stream's bytes; small ones stand in a stream of their own. */
  stream(entry: Entry): BlockReader {
    if (entry.size >= this.#smallCutoff) {
      const opened = this.#open(entry.start, entry.size);
      if (opened.size < entry.size) throw new Broken(this.place(entry.start), `“${printable(entry.name)}” breaks off`);
      return opened;
    }
    const root = this.entries[0] as Entry;
    this.#smallTable ??= this.#open(this.reader.u32(60), Number.POSITIVE_INFINITY);
    this.#smallData ??= this.#open(root.start, root.size);
    const segments: Segment[] = [];
    for (let sector = entry.start; segments.length * 64 < entry.size; ) {
      if (sector >= 0xffff_fff0 || sector * 4 + 4 > this.#smallTable.size)
        throw new Broken(this.place(root.start), `“${printable(entry.name)}” breaks off`);
      segments.push({ kind: "disk", at: sector * 64, length: 64 });
      sector = this.#smallTable.u32(sector * 4);
    }
    return new BlockReader(new LayoutSource(this.#smallData.source, layoutOf(segments, entry.size)), 4096);
  }

  find(name: string): Entry | undefined {
    return this.entries.find((entry) => entry.name === name && entry.type === 2);
  }
}

const printable = (name: string) => name.replace(/[^\x20-\x7e]/g, "");

class Broken extends Error {
  constructor(
    readonly at: number,
    readonly reason: string,
  ) {
    super(reason);
  }
}

function follow(source: ByteSource): Extent | null {
  const reader = new BlockReader(source);
  try {
    const compound = new Compound(reader);
    const { end } = compound;
    if (end > source.size) {
      // The last sector may be cut short by the maker where nothing more stands in it.
      if (end - source.size >= compound.sectorSize) return breaksAt(source.size, "the file breaks off before its end");
      return endsAt(source.size, judge(compound));
    }
    return endsAt(end, judge(compound));
  } catch (error) {
    if (error instanceof Broken) return breaksAt(Math.min(error.at, source.size), error.reason);
    if (!(error instanceof PastEnd)) throw error;
    return breaksAt(source.size, "the file breaks off before its end");
  }
}

/** All streams must be there; workbooks and slides are records from end to end, whose lengths say whether they hold together. */
function judge(compound: Compound): Verdict {
  try {
    for (const entry of compound.entries) {
      if (entry.type !== 2 || entry.size === 0) continue;
      const stream = compound.stream(entry);
      const wrong = HOLDS_PICTURES.has(entry.name) ? brokenPicture(stream) : null;
      if (wrong !== null) return damaged(compound.placeIn(entry, wrong), "a picture in the document is damaged");
    }
    const book = compound.find("Workbook") ?? compound.find("Book");
    if (book) return bookRecords(compound, book);
    const slides = compound.find("PowerPoint Document");
    if (slides) return isProtected(compound) ? cannotTell("the slides are protected by a password") : slideRecords(compound, slides);
    const words = compound.find("WordDocument");
    if (words && compound.stream(words).u16(0) !== 0xa5ec)
      return damaged(compound.place(words.start), "the text does not begin as it must");
  } catch (error) {
    if (error instanceof Broken) return damaged(error.at, error.reason);
    if (!(error instanceof PastEnd)) throw error;
    return damaged(compound.reader.size, "a part of the file breaks off");
  }
  return cannotTell("what is in the parts of the file is not followed");
}

/** Streams in which pictures stand as they are ([MS-PPT], 2.1.3; [MS-DOC], 2.1.5). */
const HOLDS_PICTURES: ReadonlySet<string> = new Set(["Pictures", "Data"]);
const MOST_PICTURES = 512;

/** Where in a stream a picture breaks; null: those that are found in it are right. */
function brokenPicture(stream: BlockReader): number | null {
  let seen = 0;
  for (const [mark, format] of [
    ["\x89PNG\r\n\x1a\n", png],
    ["\xff\xd8\xff\xe0", jpeg],
  ] as const)
    for (let at = stream.find(mark, 0); at >= 0 && seen < MOST_PICTURES; at = stream.find(mark, at + mark.length), seen += 1) {
      const extent = format.follow?.(new WindowSource(stream.source, at, stream.size - at));
      if (extent?.verdict.verdict === "damaged") return at + extent.verdict.at;
    }
  return null;
}

const MOST_RECORDS = 10_000_000;
const NOT_TOGETHER = "the records of the document do not hold together";
/** The longest record of a workbook ([MS-XLS], 2.1.4); what is longer goes on in records of its own. Bytes, without its head. */
const LONGEST_RECORD = 8224;

/** [MS-XLS], 2.1.4: a kind and a length before each record. Workbooks of version 5 and before have shorter ones. */
function bookRecords(compound: Compound, entry: Entry): Verdict {
  const stream = compound.stream(entry);
  let at = 0;
  for (let seen = 0; at + 4 <= stream.size && seen < MOST_RECORDS; seen += 1) {
    const [kind, length] = [stream.u16(at), stream.u16(at + 2)];
    // Behind the last record the stream may be filled up with zeros, and with nothing else.
    if (kind === 0 && length === 0 && seen > 2) {
      const other = otherThanZero(stream, at);
      return other < 0 ? SOUND : damaged(compound.placeIn(entry, at), NOT_TOGETHER);
    }
    if (length > LONGEST_RECORD || at + 4 + length > stream.size || (seen === 0 && kind === 0))
      return damaged(compound.placeIn(entry, at), NOT_TOGETHER);
    at += 4 + length;
  }
  return SOUND;
}

/** Where a byte other than zero stands from `from` on; -1: nowhere. */
function otherThanZero(stream: BlockReader, from: number): number {
  for (const { at, bytes } of stream.blocks(from, stream.size)) {
    const index = bytes.findIndex((byte) => byte !== 0);
    if (index >= 0) return at + index;
  }
  return -1;
}

/** Whether slides are encrypted, so that none of their records can be read ([MS-PPT], 2.3.2: `headerToken` of the stream that names the last saving). */
function isProtected(compound: Compound): boolean {
  const user = compound.find("Current User");
  return user !== undefined && user.size >= 16 && compound.stream(user).u32(12) === ENCRYPTED;
}
const ENCRYPTED = 0xf3d1_c4df;

/** Records within one another that are followed, and the least kind there is ([MS-PPT], 2.13.24). */
const DEEPEST_RECORD = 64;
const LEAST_KIND = 0x03e8;
const CONTAINER = 0xf;

/** [MS-PPT], 2.3.1: a version, a kind and a length before each record; those of the version 0xF hold others, which fill them. */
function slideRecords(compound: Compound, entry: Entry): Verdict {
  const stream = compound.stream(entry);
  /** Where the records that are open end. */
  const ends = [stream.size];
  let at = 0;
  for (let seen = 0; seen < MOST_RECORDS; seen += 1) {
    while (ends.length > 1 && at === ends.at(-1)) ends.pop();
    const end = ends.at(-1) as number;
    if (ends.length === 1 && at + 8 > end) break;
    const kind = at + 8 <= end ? stream.u16(at + 2) : 0;
    const length = at + 8 <= end ? stream.u32(at + 4) : 0;
    if (at + 8 > end || kind < LEAST_KIND || length > end - at - 8) return damaged(compound.placeIn(entry, at), NOT_TOGETHER);
    const opens = (stream.u16(at) & CONTAINER) === CONTAINER && length > 0 && ends.length < DEEPEST_RECORD;
    if (opens) ends.push(at + 8 + length);
    at += opens ? 8 : 8 + length;
  }
  return SOUND;
}

/** What a compound file is, by its streams: [MS-DOC], [MS-XLS], [MS-PPT], [MS-OXMSG]; installers and drawings: common practice. */
const BY_STREAM: readonly (readonly [RegExp, string])[] = [
  [/^WordDocument$/, "doc"],
  [/^(Workbook|Book)$/, "xls"],
  [/^PowerPoint Document$/, "ppt"],
  [/^__properties_version1\.0$/, "msg"],
  [/^VisioDocument$/, "vsd"],
  // Tables of an installer's database have names in a code of their own.
  [/^[\u3800-\u4840]{2,}$/, "msi"],
];

function opened(source: ByteSource): Compound | null {
  try {
    return new Compound(new BlockReader(source));
  } catch (error) {
    if (!(error instanceof Broken || error instanceof PastEnd)) throw error;
    return null;
  }
}

function resolve(source: ByteSource): string | null {
  const names = opened(source)?.entries.map(({ name }) => name) ?? [];
  for (const [pattern, id] of BY_STREAM) if (names.some((name) => pattern.test(name))) return id;
  return null;
}

/** Properties of a document: [MS-OLEPS], 2.21 and 3.1.2 (by their numbers). */
const PROPERTY = { title: 2, author: 4, created: 12, saved: 13, pages: 14 } as const;
/** Hundreds of nanoseconds from 1601 ([MS-DTYP], 2.3.3), in milliseconds. */
const EPOCH_1601 = 11_644_473_600_000;

function summarise(source: ByteSource): Summary {
  const compound = opened(source);
  const entry = compound?.find("\x05SummaryInformation");
  if (!compound || !entry) return compound ? mailFacts(compound) : {};
  try {
    const stream = compound.stream(entry);
    const set = stream.u32(44);
    const values = new Map<number, number>();
    for (let i = 0; i < Math.min(64, stream.u32(set + 4)); i += 1)
      values.set(stream.u32(set + 8 + i * 8), set + stream.u32(set + 12 + i * 8));
    const codepage = values.has(1) ? stream.u16((values.get(1) as number) + 4) : 1252;
    const words = (id: number) => {
      const at = values.get(id);
      if (at === undefined || stream.u16(at) !== 30) return undefined;
      const bytes = stream.bytes(at + 8, Math.min(512, stream.u32(at + 4)));
      return codePageDecoder(codepage).decode(bytes).replace(/\0.*$/s, "").trim() || undefined;
    };
    const time = (id: number) => {
      const at = values.get(id);
      const ms = at === undefined || stream.u16(at) !== 64 ? 0 : stream.u64(at + 4) / 10_000 - EPOCH_1601;
      return ms > 0 ? Math.round(ms) : undefined;
    };
    const pages = values.get(PROPERTY.pages);
    return defined<Summary>({
      title: words(PROPERTY.title),
      author: words(PROPERTY.author),
      dated: time(PROPERTY.saved) ?? time(PROPERTY.created),
      pages: pages !== undefined && stream.u16(pages) === 3 ? stream.u32(pages + 4) || undefined : undefined,
    });
  } catch (error) {
    if (!(error instanceof Broken || error instanceof PastEnd)) throw error;
    return {};
  }
}

/** A mail message's subject and sender: [MS-OXMSG], 2.4 (streams named by property; 0x0037 and 0x0C1A of [MS-OXPROPS]). */
function mailFacts(compound: Compound): Summary {
  const words = (property: string) => {
    const entry = compound.entries.find(({ name }) => name === `__substg1.0_${property}001F`);
    if (!entry || entry.size > 2048) return undefined;
    const stream = compound.stream(entry);
    return new TextDecoder("utf-16le").decode(stream.bytes(0, stream.size)).trim() || undefined;
  };
  try {
    return defined<Summary>({ title: words("0037"), author: words("0C1A") });
  } catch (error) {
    if (!(error instanceof Broken || error instanceof PastEnd)) throw error;
    return {};
  }
}

const family = (id: string, kind: Kind, title: string, extensions: string[]): Format => ({
  id,
  kind,
  title,
  extensions,
  // Bytes inside a record or a text would go unnoticed.
  loose: true,
  recognise: (head) => hasAscii(head, 0, MARK),
  follow,
  summarise,
});

export const compoundFormats: readonly Format[] = [
  { ...family("compound", "documents", "compound document", ["cfb", "pub", "mpp"]), signatures: [{ at: 0, mark: MARK }], resolve },
  family("doc", "documents", "text document (before 2007)", ["doc", "dot"]),
  family("xls", "sheets", "sheet (before 2007)", ["xls", "xlt"]),
  family("ppt", "documents", "slides (before 2007)", ["ppt", "pps", "pot"]),
  family("msg", "mail", "mail message", ["msg"]),
  family("vsd", "drawings", "diagram", ["vsd"]),
  family("msi", "application-data", "installer", ["msi"]),
];
