import { crc32 } from "node:zlib";
import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { unpackBzip2 } from "../bytes/bzip2";
import { InflateError, inflate, TooMuch } from "../bytes/inflate";
import { LzmaDecoder } from "../bytes/lzma";
import { lzma2Dictionary, unpackLzma2 } from "../bytes/lzma2";
import { PastEnd } from "../bytes/past-end";
import { following } from "./following";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, type Verdict } from "./format";

/**
 * 7z, after the published format description ("7zFormat", from memory; held by the archives of an independent writer in the tests): a header of
 * 32 bytes, packed streams, and a list of contents that may be packed itself.
 */
const HEADER = { crc: 8, start: 12, listAt: 12, listLength: 20, listCrc: 28, size: 32 } as const;
/** Kinds of property in the list of contents. */
const ID = {
  end: 0x00,
  header: 0x01,
  archiveProperties: 0x02,
  mainStreams: 0x04,
  files: 0x05,
  pack: 0x06,
  unpack: 0x07,
  subStreams: 0x08,
  size: 0x09,
  crc: 0x0a,
  folder: 0x0b,
  unpackSize: 0x0c,
  streamsEach: 0x0d,
  packedHeader: 0x17,
} as const;
/** Codings that are unpacked here, by their ids in hexadecimal digits. */
const CODING = { copy: "00", lzma: "030101", lzma2: "21", deflate: "040108", bzip2: "040202" } as const;
const ENCRYPTED = "06f10701";

/** Bounds of what a list may claim, and of what is unpacked to compare it. */
const MOST_LIST = 1 << 24;
const MOST_FOLDERS = 100_000;
const MOST_STREAMS = 1_000_000;
const MOST_CODERS = 16;
const MOST_UNPACKED = 1 << 26;

const BREAKS_OFF = "the archive breaks off before its end";
const LIST_DAMAGED = "the archive's list of contents is damaged";

/** The list does not follow its own rules, or claims more than is read. */
class BadList extends Error {}

interface Coder {
  readonly id: string;
  readonly properties: Uint8Array;
}

/** Streams that are packed together: how, into how many bytes, and what is in them. */
interface Folder {
  /** In the order in which they were applied; more than one: filters, or several streams. */
  readonly coders: readonly Coder[];
  readonly packedStreams: number;
  readonly outs: number;
  /** Bytes that the last coder gives. */
  size: number;
  crc: number | null;
  /** The files in it, one after the other; those without a checksum: null. */
  streams: { readonly size: number; readonly crc: number | null }[];
}

interface Streams {
  /** Where the list of contents stands packed; not given: it is not. */
  readonly packedList?: { readonly at: number; readonly end: number };
  /** Where the packed streams begin, behind the header of the archive. */
  readonly packAt: number;
  readonly packSizes: readonly number[];
  readonly folders: readonly Folder[];
}

/** Reads the parts of a list of contents. */
class ListReader {
  at = 0;

  constructor(private readonly reader: BlockReader) {}

  byte(): number {
    this.at += 1;
    return this.reader.u8(this.at - 1);
  }

  /** A number whose first byte says by its highest bits how many follow. */
  number(most = Number.MAX_SAFE_INTEGER): number {
    const first = this.byte();
    let value = 0;
    for (let i = 0, mask = 0x80; i < 8; i += 1, mask >>= 1) {
      if ((first & mask) === 0) {
        value += (first & (mask - 1)) * 2 ** (8 * i);
        break;
      }
      value += this.byte() * 2 ** (8 * i);
    }
    if (value > most) throw new BadList();
    return value;
  }

  bytes(length: number): Uint8Array {
    this.at += length;
    return this.reader.bytes(this.at - length, length).slice();
  }

  expect(id: number): void {
    if (this.byte() !== id) throw new BadList();
  }

  /** Checksums of so many streams; null where one has none. */
  checksums(count: number): (number | null)[] {
    const defined: boolean[] = [];
    if (this.byte() !== 0) for (let i = 0; i < count; i += 1) defined.push(true);
    else
      for (let i = 0, bits = 0; i < count; i += 1) {
        if (i % 8 === 0) bits = this.byte();
        defined.push((bits & (0x80 >> (i % 8))) !== 0);
      }
    return defined.map((each) => {
      if (!each) return null;
      this.at += 4;
      return this.reader.u32(this.at - 4);
    });
  }

  streams(): Streams {
    let packAt = 0;
    let packSizes: number[] = [];
    let folders: Folder[] = [];
    for (let id = this.byte(); id !== ID.end; id = this.byte()) {
      if (id === ID.pack) ({ packAt, packSizes } = this.#pack());
      else if (id === ID.unpack) folders = this.#unpack();
      else if (id === ID.subStreams) this.#subStreams(folders);
      else throw new BadList();
    }
    return { packAt, packSizes, folders };
  }

  #pack(): { packAt: number; packSizes: number[] } {
    const packAt = this.number();
    const count = this.number(MOST_FOLDERS);
    let packSizes: number[] = [];
    for (let id = this.byte(); id !== ID.end; id = this.byte()) {
      if (id === ID.size) packSizes = Array.from({ length: count }, () => this.number());
      else if (id === ID.crc) this.checksums(count);
      else throw new BadList();
    }
    return { packAt, packSizes };
  }

  #unpack(): Folder[] {
    this.expect(ID.folder);
    const count = this.number(MOST_FOLDERS);
    // Kept elsewhere: no writer does.
    if (this.byte() !== 0) throw new BadList();
    const folders = Array.from({ length: count }, () => this.#folder());
    this.expect(ID.unpackSize);
    for (const folder of folders) for (let i = 0; i < folder.outs; i += 1) folder.size = this.number();
    for (let id = this.byte(); id !== ID.end; id = this.byte()) {
      if (id !== ID.crc) throw new BadList();
      this.checksums(count).forEach((crc, index) => {
        (folders[index] as Folder).crc = crc;
      });
    }
    for (const folder of folders) folder.streams = [{ size: folder.size, crc: folder.crc }];
    return folders;
  }

  #folder(): Folder {
    const coders: Coder[] = [];
    let [ins, outs] = [0, 0];
    const count = this.number(MOST_CODERS);
    for (let i = 0; i < count; i += 1) {
      const flags = this.byte();
      const id = Buffer.from(this.bytes(flags & 15)).toString("hex");
      ins += flags & 0x10 ? this.number(MOST_CODERS) : 1;
      outs += flags & 0x10 ? this.number(MOST_CODERS) : 1;
      coders.push({ id, properties: flags & 0x20 ? this.bytes(this.number(1 << 16)) : new Uint8Array(0) });
    }
    if (outs < 1 || ins < outs - 1) throw new BadList();
    for (let bound = 0; bound < 2 * (outs - 1); bound += 1) this.number(MOST_CODERS * MOST_CODERS);
    const packedStreams = ins - (outs - 1);
    if (packedStreams > 1) for (let i = 0; i < packedStreams; i += 1) this.number(MOST_CODERS * MOST_CODERS);
    return { coders, packedStreams, outs, size: 0, crc: null, streams: [] };
  }

  #subStreams(folders: readonly Folder[]): void {
    let id = this.byte();
    const counts = folders.map(() => 1);
    if (id === ID.streamsEach) {
      for (let i = 0, all = 0; i < folders.length; i += 1) {
        const count = this.number(MOST_STREAMS);
        counts[i] = count;
        all += count;
        if (all > MOST_STREAMS) throw new BadList();
      }
      id = this.byte();
    }
    const sizes = folders.map(({ size }, index) => {
      const count = counts[index] as number;
      const own: number[] = [];
      let left = size;
      for (let i = 0; i + 1 < count && id === ID.size; i += 1) {
        own.push(this.number(left));
        left -= own.at(-1) as number;
      }
      if (count > 0) own.push(left);
      return own;
    });
    if (id === ID.size) id = this.byte();
    // A folder with one stream that has its own checksum needs none here.
    const known = folders.map(({ crc }, index) => counts[index] === 1 && crc !== null);
    const wanted = sizes.reduce((sum, own, index) => sum + (known[index] ? 0 : own.length), 0);
    let crcs: (number | null)[] = [];
    for (; id !== ID.end; id = this.byte()) {
      if (id !== ID.crc) throw new BadList();
      crcs = this.checksums(wanted);
    }
    let next = 0;
    folders.forEach((folder, index) => {
      folder.streams = (sizes[index] as number[]).map((size) => {
        if (known[index]) return { size, crc: folder.crc };
        next += 1;
        return { size, crc: crcs[next - 1] ?? null };
      });
    });
  }
}

/** Unpacks a folder. @throws InflateError, TooMuch, PastEnd; @returns false: its coding is not followed here */
function unpackFolder(reader: BlockReader, { coders, size }: Folder, at: number, end: number, take: (plain: Uint8Array) => void): boolean {
  const [coder] = coders;
  if (!coder || coders.length > 1) return false;
  const { id, properties } = coder;
  if (size > MOST_UNPACKED) throw new TooMuch();
  if (id === CODING.copy) {
    if (end - at < size) throw new InflateError(end, 0, "the packed data break off");
    for (const { bytes } of reader.blocks(at, at + size)) take(bytes);
  } else if (id === CODING.lzma && properties.length === 5) {
    // A window larger than the content is never filled.
    const window = Math.min(new DataView(properties.buffer).getUint32(1, true), Math.max(4096, size));
    const decoder = new LzmaDecoder(reader, window, take, size);
    if (!decoder.setProperties(properties[0] as number)) throw new InflateError(at, 0, "the packed data are damaged");
    try {
      decoder.decode(at, end, size);
    } finally {
      decoder.flush();
    }
  } else if (id === CODING.lzma2 && properties.length === 1) {
    const window = Math.min(lzma2Dictionary(properties[0] as number), Math.max(4096, size));
    unpackLzma2(reader, at, end, window, take, size);
  } else if (id === CODING.deflate) inflate(reader, at, end, take, size);
  else if (id === CODING.bzip2) unpackBzip2(reader, at, size, take);
  else return false;
  return true;
}

/** Compares what a folder unpacks to with the checksums of its streams. @returns null: all of it agrees */
function checkFolder(reader: BlockReader, folder: Folder, at: number, end: number): Verdict | null {
  let stream = 0;
  let crc = 0;
  let left = folder.streams[0]?.size ?? 0;
  let wrong = false;
  const settle = () => {
    while (left === 0 && stream < folder.streams.length) {
      wrong ||= crc !== (folder.streams[stream]?.crc ?? 0);
      stream += 1;
      crc = 0;
      left = folder.streams[stream]?.size ?? 0;
    }
  };
  const take = (plain: Uint8Array) => {
    for (let from = 0; from < plain.length && stream < folder.streams.length; ) {
      const part = plain.subarray(from, from + left);
      crc = crc32(part, crc);
      from += part.length;
      left -= part.length;
      settle();
    }
  };
  settle();
  try {
    if (!unpackFolder(reader, folder, at, end, take)) return cannotTell(notFollowed(folder));
  } catch (error) {
    if (error instanceof TooMuch) return cannotTell("the archive unpacks to more than is checked");
    if (!(error instanceof InflateError) && !(error instanceof PastEnd)) throw error;
    return damaged(error instanceof InflateError ? Math.min(error.at, end) : at, "a file in it cannot be unpacked", end);
  }
  if (wrong || stream < folder.streams.length) return damaged(at, "a file in it has the wrong checksum", end);
  return folder.streams.some((each) => each.crc === null && each.size > 0) ? cannotTell("a file in it has no checksum") : null;
}

const notFollowed = ({ coders }: Folder) =>
  coders.some(({ id }) => id === ENCRYPTED) ? "the archive is protected by a password" : "the archive's own packing is not followed";

/** Reads a list of contents, which may be packed itself. @returns null: it lists no streams @throws BadList */
function readStreams(list: BlockReader, archive: BlockReader, nested = false): Streams | null {
  const reader = new ListReader(list);
  const id = reader.byte();
  if (id === ID.packedHeader && !nested) {
    const { packAt, packSizes, folders } = reader.streams();
    const [folder] = folders;
    const [packed] = packSizes;
    if (!folder || packed === undefined || folder.size > MOST_LIST) throw new BadList();
    if (folder.coders.some((coder) => coder.id === ENCRYPTED)) return { packAt, packSizes, folders };
    const parts: Buffer[] = [];
    const at = HEADER.size + packAt;
    try {
      if (!unpackFolder(archive, folder, at, at + packed, (plain) => parts.push(Buffer.from(plain)))) throw new BadList();
    } catch (error) {
      if (error instanceof InflateError || error instanceof TooMuch) throw new BadList();
      throw error;
    }
    const plain = Buffer.concat(parts);
    if (folder.crc !== null && crc32(plain) !== folder.crc) throw new BadList();
    const streams = readStreams(new BlockReader(new MemorySource(plain)), archive, true);
    return { ...(streams ?? NO_STREAMS), packedList: { at, end: at + packed } };
  }
  if (id !== ID.header) throw new BadList();
  const part = reader.byte();
  if (part === ID.mainStreams) return reader.streams();
  // Properties of the whole archive and further streams are not read: no known writer leaves any.
  if (part !== ID.files && part !== ID.end) throw new BadList();
  return null;
}
const NO_STREAMS: Streams = { packAt: 0, packSizes: [], folders: [] };

const UNLISTED = cannotTell("something stands in it that its list does not name");

/** Says what the packed streams of an archive come to. @param listAt where the list of contents stands */
function checkStreams(reader: BlockReader, listAt: number, listLength: number): Verdict | null {
  if (listLength === 0) return listAt === HEADER.size ? null : UNLISTED;
  if (listLength > MOST_LIST) return cannotTell("the archive's list of contents is longer than is read");
  const list = new BlockReader(new MemorySource(reader.bytes(listAt, listLength).slice()));
  let streams: Streams | null;
  try {
    streams = readStreams(list, reader);
  } catch (error) {
    if (error instanceof PastEnd) return damaged(listAt, LIST_DAMAGED);
    if (!(error instanceof BadList)) throw error;
    return cannotTell("the archive's list of contents is not followed");
  }
  const { packAt, packSizes, folders, packedList = { at: listAt, end: listAt } } = streams ?? NO_STREAMS;
  let at = HEADER.size + packAt;
  let pack = 0;
  let left = MOST_UNPACKED;
  let doubt: Verdict | null = null;
  for (const folder of folders) {
    const packed = packSizes.slice(pack, pack + folder.packedStreams).reduce((sum, size) => sum + size, 0);
    pack += folder.packedStreams;
    const end = at + packed;
    if (end > listAt) return damaged(listAt, LIST_DAMAGED);
    left -= folder.size;
    const found = left < 0 ? cannotTell("the archive unpacks to more than is checked") : checkFolder(reader, folder, at, end);
    if (found?.verdict === "damaged") return found;
    doubt ??= found;
    at = end;
  }
  const isListed = packAt === 0 && pack === packSizes.length && at === packedList.at && packedList.end === listAt;
  return doubt ?? (isListed ? null : UNLISTED);
}

export const sevenZip: Format = {
  id: "7z",
  kind: "archives",
  title: "7z archive",
  extensions: ["7z"],
  signatures: [{ at: 0, mark: "7z\xbc\xaf\x27\x1c" }],
  recognise: (head) => hasAscii(head, 0, "7z\xbc\xaf\x27\x1c"),
  follow: (source: ByteSource): Extent | null =>
    following(source, BREAKS_OFF, (reader) => {
      if (crc32(reader.bytes(HEADER.start, 20)) !== reader.u32(HEADER.crc)) return breaksAt(HEADER.crc, "the archive's header is damaged");
      const at = HEADER.size + reader.u64(HEADER.listAt);
      const length = reader.u64(HEADER.listLength);
      if (at + length > source.size) return breaksAt(source.size, BREAKS_OFF, at + length);
      let crc = 0;
      for (const { bytes } of reader.blocks(at, at + length)) crc = crc32(bytes, crc);
      const size = at + length;
      if (crc !== reader.u32(HEADER.listCrc)) return { size, closed: true, verdict: damaged(at, LIST_DAMAGED) };
      return endsAt(size, checkStreams(reader, at, length) ?? undefined);
    }),
};
