import { Cursor } from "../../bytes/cursor";
import { decodeUtf16be } from "../../bytes/text";
import {
  type CatalogEntry,
  type FileEntry,
  type FolderEntry,
  isPlausible,
  keyLength,
  readEntry,
  readKey,
  shownName,
} from "./catalog-record";
import { CATALOG_KEY, CNID, FILE_RECORD, FOLDER_RECORD, MODE, PRIVATE_FILES, RECORD_TYPE, THREAD } from "./layout";

/** Remnants kept of one volume at most. */
const MOST_REMNANTS = 2_000_000;
/** Of the length of a key with the longest name. */
const HIGHEST_BYTE = (CATALOG_KEY.smallest + 510) >>> 8;
const NEARLY_ALL = 0.95;
/** Bytes of a block: what there may be, and what most volumes have. */
const BLOCK_SIZES = [512, 1024, 2048, 4096, 8192, 16_384, 32_768, 65_536];
const USUAL_BLOCK = 4096;
/** Names that one file has had, at most. */
const MOST_NAMES = 4;
/** Characters of a name of which the beginning is gone, at most. */
const MOST_TAIL = 64;

/** A place in a folder, as a key or a thread record gives it. */
export interface NamedPlace {
  readonly parent: number;
  readonly rawName: Uint8Array;
}

/** A file or folder of which only remnants of records are left. */
export interface Remnant {
  readonly cnid: number;
  readonly entry: FileEntry | FolderEntry;
  /** null: the key is gone. */
  place: NamedPlace | null;
  /** Where other remnants of the same file have it: it was renamed or moved. */
  others: readonly NamedPlace[];
  /** The end of the name, where its beginning was written over. */
  readonly tail: string | null;
  /** Where the record's data stand: disk byte offset. */
  readonly at: number;
}

interface Measures {
  readonly totalBlocks: number;
  readonly blockSize: number;
  readonly nextCatalogID: number;
}

/** Knows what the catalog says. */
interface Current {
  /** Whether a record, whose data begin at `at` and end before `to`, says what the catalog says of its number. @param parent the number in its key */
  isCurrent(cursor: Cursor, at: number, to: number, parent: number): boolean;
}

interface FoundRecord {
  readonly key: NamedPlace | null;
  readonly entry: CatalogEntry;
  /** Where its data begin in the bytes. */
  readonly at: number;
  readonly tail: string | null;
}

/** Looks for catalog records at every even place of a stretch in which none need be. */
function* recordsIn(
  bytes: Uint8Array,
  from: number,
  to: number,
  measures: Measures,
  current: Current | null,
): Generator<FoundRecord, void, void> {
  const cursor = new Cursor(bytes);
  const end = Math.min(to, bytes.length);
  for (let at = from + (from % 2); at + 2 <= end; ) {
    // Most words of a stretch are none of a key's length or a record's type: they are passed by without more ado.
    const high = bytes[at] as number;
    const word = high * 256 + (bytes[at + 1] as number);
    if (word === 0 || high > HIGHEST_BYTE) {
      at += 2;
      continue;
    }
    // A key's length is that of its name and of what stands before it. Behind the end nothing is read: such a word is no number.
    const units = (bytes[at + CATALOG_KEY.nameLength] as number) * 256 + (bytes[at + CATALOG_KEY.nameLength + 1] as number);
    const isKey = word === CATALOG_KEY.smallest + 2 * units;
    const passed = current && isKey ? currentRecord(cursor, at, end, current) : 0;
    if (passed > 0) {
      at = passed;
      continue;
    }
    const keyed = isKey ? keyedRecord(cursor, at, end, measures) : null;
    const found = keyed ?? (word === RECORD_TYPE.file || word === RECORD_TYPE.folder ? bareRecord(cursor, at, from, end, measures) : null);
    if (found) yield found;
    at = found ? found.at + lengthOf(found.entry) : at + 2;
  }
}

/** The byte behind a record, with its key, that says what the catalog says; 0: there is none at the place. */
function currentRecord(cursor: Cursor, at: number, to: number, current: Current): number {
  const key = keyLength(cursor, at, to);
  const data = at + key;
  if (key === 0 || !current.isCurrent(cursor, data, to, cursor.u32be(at + CATALOG_KEY.parentID))) return 0;
  const type = cursor.u16be(data);
  return data + (type === RECORD_TYPE.file ? FILE_RECORD.size : type === RECORD_TYPE.folder ? FOLDER_RECORD.size : THREAD.name);
}

const lengthOf = (entry: CatalogEntry) =>
  entry.kind === "file" ? FILE_RECORD.size : entry.kind === "folder" ? FOLDER_RECORD.size : THREAD.name + entry.rawName.length;

function keyedRecord(cursor: Cursor, at: number, to: number, measures: Measures): FoundRecord | null {
  const key = readKey(cursor, at, to);
  if (!key || key.parent === 0) return null;
  const entry = readEntry(cursor, at + key.length, to);
  if (!entry || (entry.kind === "thread") !== (key.rawName.length === 0) || !isPlausible(entry, measures)) return null;
  return { key, entry, at: at + key.length, tail: null };
}

/** A record whose key was written over; a part of its name may still stand before it. */
function bareRecord(cursor: Cursor, at: number, from: number, to: number, measures: Measures): FoundRecord | null {
  const entry = readEntry(cursor, at, to);
  if (!entry || entry.kind === "thread" || !isPlausible(entry, measures) || !isStrict(entry, measures)) return null;
  let begin = at;
  for (let count = 0; count < MOST_TAIL && begin - 2 >= from; count += 1) {
    const unit = cursor.u16be(begin - 2);
    if (unit < 0x20 || unit === 0x7f || unit >= 0xfff0) break;
    begin -= 2;
  }
  return { key: null, entry, at, tail: begin < at ? shownName(cursor.slice(begin, at - begin)) : null };
}

/** Without a key to bear it out, all that a record says has to fit. */
function isStrict(entry: FileEntry | FolderEntry, { nextCatalogID }: Measures): boolean {
  const { facts } = entry;
  const number = entry.kind === "file" ? entry.facts.fileID : entry.facts.folderID;
  const kind = facts.fileMode & MODE.mask;
  const kinds: readonly number[] = entry.kind === "file" ? [0, MODE.file, MODE.link] : [0, MODE.folder];
  return number < nextCatalogID && facts.createDate !== 0 && facts.contentModDate !== 0 && kinds.includes(kind);
}

/** Collects what is left of records that are no longer part of the catalog; several remnants of one file count as one. */
export class Remnants {
  /** By number and date of creation: a volume formatted again gives the same numbers to other files. */
  readonly #found = new Map<string, Remnant>();
  readonly #threads = new Map<number, NamedPlace & { readonly folder: boolean }>();
  readonly #folders = new Map<number, NamedPlace>();
  #privateFiles: number | null | undefined;
  /** Linked files by the number their links have. */
  #linked: Map<number, FileEntry> | undefined;

  /** @param current passes by what says what the catalog says: most remnants do, left where nodes were split */
  constructor(
    private readonly measures: Measures,
    private readonly current: Current | null = null,
  ) {}

  /** @param diskAt disk byte offset of the first of the bytes */
  take(bytes: Uint8Array, from: number, to: number, diskAt: number): void {
    if (isEmpty(bytes.subarray(from, to))) return;
    for (const { key, entry, at, tail } of recordsIn(bytes, from, to, this.measures, this.current)) {
      if (this.#found.size + this.#threads.size >= MOST_REMNANTS) return;
      if (entry.kind === "thread") {
        const cnid = (key as NamedPlace).parent;
        if (!this.#threads.has(cnid))
          this.#threads.set(cnid, { parent: entry.parent, rawName: entry.rawName.slice(), folder: entry.folder });
        continue;
      }
      const cnid = entry.kind === "file" ? entry.facts.fileID : entry.facts.folderID;
      const place = key && { parent: key.parent, rawName: key.rawName.slice() };
      this.#add({
        cnid,
        entry: kept(entry),
        place,
        others: [],
        tail,
        at: diskAt + at,
      });
    }
  }

  #add(remnant: Remnant): void {
    const key = `${remnant.cnid} ${remnant.entry.facts.createDate}`;
    const known = this.#found.get(key);
    const better = !known || rank(remnant) > rank(known);
    const one = better ? remnant : known;
    const places = [one.place, known?.place, remnant.place, ...(known?.others ?? [])].filter(
      (place) => place !== null && place !== undefined,
    );
    one.place = places[0] ?? null;
    one.others = distinct(places).slice(1, MOST_NAMES);
    if (better) this.#found.set(key, one);
    if (remnant.entry.kind === "folder" && remnant.place) this.#folders.set(remnant.cnid, remnant.place);
  }

  /** Where a folder that is gone had stood, as far as any remnant says. */
  folder(cnid: number): NamedPlace | null {
    return this.#folders.get(cnid) ?? this.#threads.get(cnid) ?? null;
  }

  /** The number of the folder in which the content of linked files stood, once all is found; null: no remnant tells of it. */
  privateFiles(): number | null {
    if (this.#privateFiles !== undefined) return this.#privateFiles;
    const isIt = ({ parent, rawName }: NamedPlace) => parent === CNID.root && decodeUtf16be(rawName) === PRIVATE_FILES.folder;
    this.#privateFiles = [...this.#folders].find(([, place]) => isIt(place))?.[0] ?? null;
    return this.#privateFiles;
  }

  /** The record of a linked file by the number that its links have; null: there is none. */
  linked(number: number): FileEntry | null {
    if (!this.#linked) {
      this.#linked = new Map();
      const folder = this.privateFiles();
      for (const { entry, place } of this.#found.values()) {
        const own = entry.kind === "file" && place?.parent === folder ? /^iNode(\d+)$/.exec(decodeUtf16be(place.rawName))?.[1] : undefined;
        if (own) this.#linked.set(Number(own), entry as FileEntry);
      }
    }
    return this.#linked.get(number) ?? null;
  }

  /** All of them, in the order of their places on the disk, with names that other remnants know. */
  list(): Remnant[] {
    const all = [...this.#found.values()].sort((a, b) => a.at - b.at);
    for (const remnant of all) remnant.place ??= this.#threads.get(remnant.cnid) ?? null;
    return all;
  }

  /**
   * The size of blocks in which the files were counted: of those that are enough for nearly all of them the one by which most have as many as they
   * need; of several the volume's own (null: it has none), or the usual one.
   */
  blockSize(own: number | null): number {
    const forks = [...this.#found.values()].flatMap(({ entry }) => (entry.kind === "file" && entry.data.size > 0 ? [entry.data] : []));
    const usual = own ?? USUAL_BLOCK;
    let best = { size: usual, exact: -1 };
    for (const size of [usual, ...BLOCK_SIZES]) {
      if (forks.filter((fork) => fork.size <= fork.blocks * size).length < forks.length * NEARLY_ALL) continue;
      const exact = forks.filter((fork) => Math.ceil(fork.size / size) === fork.blocks).length;
      if (exact > best.exact) best = { size, exact };
    }
    return best.size;
  }

  /** Names of files of which nothing else is left. */
  *namesOnly(): Generator<{ readonly cnid: number; readonly place: NamedPlace; readonly folder: boolean }, void, void> {
    const known = new Set([...this.#found.values()].map(({ cnid }) => cnid));
    for (const [cnid, { folder, ...place }] of this.#threads)
      if (!known.has(cnid) && cnid >= CNID.firstUser && decodeUtf16be(place.rawName) !== "") yield { cnid, place, folder };
  }
}

/** A record that no longer needs the bytes it was read from. */
function kept(entry: FileEntry | FolderEntry): FileEntry | FolderEntry {
  if (entry.kind === "folder") return entry;
  const { cursor, at } = entry.stored;
  return { ...entry, stored: { cursor: new Cursor(cursor.slice(at, FILE_RECORD.size).slice()), at: 0 } };
}

/** Each place once, in the order in which they come first. */
function distinct(places: readonly NamedPlace[]): NamedPlace[] {
  const same = (one: NamedPlace, other: NamedPlace) => one.parent === other.parent && Buffer.compare(one.rawName, other.rawName) === 0;
  return places.filter((place, index) => places.findIndex((each) => same(each, place)) === index);
}

const ZEROS = Buffer.alloc(32_768);
const isEmpty = (bytes: Uint8Array) => bytes.length <= ZEROS.length && ZEROS.compare(bytes, 0, bytes.length, 0, bytes.length) === 0;

/** The latest state of a file says most, but one from before it was emptied more; of two as late, the one whose name stands with it. */
const rank = ({ entry, place }: Remnant) =>
  (entry.kind === "file" && entry.data.size > 0 ? 2 ** 34 : 0) +
  Math.max(entry.facts.attributeModDate, entry.facts.contentModDate) * 2 +
  (place ? 1 : 0);
