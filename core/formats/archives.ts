import { crc32 } from "node:zlib";
import { BlockReader } from "../bytes/block-reader";
import { PastEnd } from "../bytes/past-end";
import { following } from "./following";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, hasSignature, type Summary } from "./format";
import { sevenZip } from "./seven-zip";

const BREAKS_OFF = "the archive breaks off before its end";

const RECORD = 512;
const BLOCKING = 20 * RECORD;

export interface TarEntry {
  readonly name: string;
  readonly size: number;
  readonly type: string;
  readonly modified: number;
  /** Unix mode; 0: it cannot be read. */
  readonly mode: number;
  readonly dataAt: number;
  /** Where the next header stands. */
  readonly next: number;
}

/** Where a header of a file that is kept without its holes has their list (GNU tar manual, "Old GNU Format"), and the records behind it. */
export const SPARSE = {
  at: 386,
  count: 4,
  extended: 482,
  size: 483,
  countBehind: 21,
  extendedBehind: 504,
  entry: 24,
  number: 12,
  mostBehind: 4096,
} as const;

const decoder = new TextDecoder();

/** Reads a text of a header, which a zero ends if it is shorter than its field. */
export function tarText(header: Uint8Array, from: number, length: number): string {
  const zero = header.indexOf(0, from);
  const end = zero < 0 ? from + length : Math.min(zero, from + length);
  return decoder.decode(header.subarray(from, end));
}

/** Reads a number of a header: octal digits, or where the first bit is set the bytes as they are. NaN: it is none. */
export function tarNumber(header: Uint8Array, from: number, length: number): number {
  const isBinary = ((header[from] as number) & 0x80) !== 0;
  let value = 0;
  if (isBinary) {
    for (let i = 1; i < length; i += 1) value = value * 256 + (header[from + i] as number);
    return value;
  }
  const end = from + length;
  let at = from;
  while (at < end && header[at] === 0x20) at += 1;
  const digits = at;
  for (; at < end && (header[at] as number) >= 0x30 && (header[at] as number) <= 0x37; at += 1)
    value = value * 8 + (header[at] as number) - 0x30;
  const isEmpty = at === digits && (at === end || header[at] === 0);
  return at > digits || isEmpty ? value : Number.NaN;
}

/** The entry whose header stands at `at` (POSIX.1-2017, pax, "ustar Interchange Format"; large sizes in base 256); null: none. */
export function tarEntry(reader: BlockReader, at: number): TarEntry | null {
  if (at + RECORD > reader.size) return null;
  const header = reader.bytes(at, RECORD);
  const octal = (from: number, length: number) => tarNumber(header, from, length);
  let sum = 0;
  for (let i = 0; i < RECORD; i += 1) sum += i >= 148 && i < 156 ? 32 : (header[i] as number);
  if (octal(148, 8) !== sum || sum === 256) return null;
  const type = String.fromCharCode(header[156] as number);
  const size = octal(124, 12);
  const mode = octal(100, 8);
  if (!Number.isFinite(size) || size < 0) return null;
  const prefix = hasAscii(header, 257, "ustar\0") ? tarText(header, 345, 155) : "";
  const name = tarText(header, 0, 100);
  const modified = octal(136, 12) * 1000;
  // Links and folders carry a size now and then, but no data.
  const stored = /[1-6]/.test(type) ? 0 : size;
  const goesOn = type === "S" && header[SPARSE.extended] !== 0;
  let dataAt = at + RECORD;
  // Reading on takes the room of the header.
  if (goesOn)
    for (let more = 1; more !== 0 && dataAt + RECORD <= reader.size && dataAt < at + RECORD * SPARSE.mostBehind; dataAt += RECORD)
      more = reader.u8(dataAt + SPARSE.extendedBehind);
  return {
    name: prefix ? `${prefix}/${name}` : name,
    size: stored,
    type,
    modified,
    mode: Number.isInteger(mode) && mode > 0 && mode <= 0o7_777_777 ? mode : 0,
    dataAt,
    next: dataAt + Math.ceil(stored / RECORD) * RECORD,
  };
}

const isZeroRecord = (reader: BlockReader, at: number) =>
  at + RECORD <= reader.size && reader.bytes(at, RECORD).every((byte) => byte === 0);

/** Records behind a gap that are asked whether an entry begins there. */
const MOST_GAP = 4096;

function entryBehind(reader: BlockReader, from: number): boolean {
  for (let i = 0; i < MOST_GAP; i += 1)
    if (reader.has(from + i * RECORD + 257, "ustar") && tarEntry(reader, from + i * RECORD)) return true;
  return false;
}

const tar: Format = {
  id: "tar",
  kind: "archives",
  title: "TAR archive",
  extensions: ["tar"],
  signatures: [
    { at: 257, mark: "ustar\0" },
    { at: 257, mark: "ustar  \0" },
  ],
  loose: true,
  recognise: (head) => hasAscii(head, 257, "ustar"),
  follow: (source) =>
    following(source, BREAKS_OFF, (reader) => {
      let at = 0;
      /** Where the data of the last entry begin: what its header says has a checksum, they have none. */
      let proven = 0;
      const broken = (reason: string): Extent => ({ ...breaksAt(Math.min(at, source.size), reason, at + 2 * RECORD), proven });
      for (let entries = 0; ; entries += 1) {
        const entry = tarEntry(reader, at);
        if (!entry) {
          if (entries === 0) return null;
          if (at >= source.size) return broken(at > source.size ? BREAKS_OFF : "the archive ends without its end mark");
          if (!isZeroRecord(reader, at)) return broken("no entry begins where the next one should");
          break;
        }
        proven = entry.dataAt;
        at = entry.next;
      }
      // A single record of zeros is no end mark when entries come behind it: a header is gone.
      if (!isZeroRecord(reader, at + RECORD) && entryBehind(reader, at + RECORD)) return broken("the header of an entry is gone");
      if (!isZeroRecord(reader, at + RECORD))
        return { size: Math.min(source.size, at + RECORD), closed: true, verdict: { verdict: "sound" } };
      at += 2 * RECORD;
      // Writers fill up to a whole block of 20 records (the usual factor of pax, -b).
      const full = Math.ceil(at / BLOCKING) * BLOCKING;
      let zeros = at;
      while (zeros < full && isZeroRecord(reader, zeros)) zeros += RECORD;
      return endsAt(zeros === full ? full : at);
    }),
};

const RAR4 = "Rar!\x1a\x07\0";
const RAR5 = "Rar!\x1a\x07\x01\0";

/** RAR 4: common practice, no published source beyond the technical note of the archiver: blocks with a short checksum. */
function followRar4(reader: BlockReader): Extent {
  for (let at = 7; ; ) {
    const size = reader.u16(at + 5);
    const type = reader.u8(at + 2);
    if (size < 7 || type < 0x72 || type > 0x7b) return breaksAt(at, "no block begins where the next one should");
    const crc = crc32(reader.bytes(at + 2, size - 2)) & 0xffff;
    if (crc !== reader.u16(at)) return breaksAt(at, "the checksum of a block does not match");
    const flags = reader.u16(at + 3);
    const large = type === 0x74 || type === 0x7a;
    const added = flags & 0x8000 || large ? reader.u32(at + 7) + (large && flags & 0x100 ? reader.u32(at + 32) * 0x1_0000_0000 : 0) : 0;
    at += size + added;
    if (type === 0x7b) return endsAt(at, cannotTell("the archive's own packing is not followed"));
  }
}

/** RAR 5: the published technical note "RAR 5.0 archive format": headers with a checksum, numbers of 7 bits a byte. */
function followRar5(reader: BlockReader): Extent {
  const number = (at: number) => {
    let value = 0;
    for (let i = 0; i < 10; i += 1) {
      const byte = reader.u8(at + i);
      value += (byte & 127) * 2 ** (7 * i);
      if (byte < 128) return { value, next: at + i + 1 };
    }
    throw new PastEnd(at, 1, at);
  };
  for (let at = 8; ; ) {
    const size = number(at + 4);
    const end = size.next + size.value;
    if (size.value === 0 || size.value > 1 << 21) return breaksAt(at, "no block begins where the next one should");
    if (crc32(reader.bytes(at + 4, end - at - 4)) !== reader.u32(at)) return breaksAt(at, "the checksum of a block does not match");
    const type = number(size.next);
    const flags = number(type.next);
    let next = flags.next;
    if (flags.value & 1) ({ next } = number(next));
    at = end + (flags.value & 2 ? number(next).value : 0);
    if (type.value === 5) return endsAt(at, cannotTell("the archive's own packing is not followed"));
    if (type.value === 4) return { size: reader.size, closed: false, verdict: cannotTell("the archive is protected by a password") };
  }
}

const rar: Format = {
  id: "rar",
  kind: "archives",
  title: "RAR archive",
  extensions: ["rar"],
  signatures: [
    { at: 0, mark: RAR4 },
    { at: 0, mark: RAR5 },
  ],
  loose: true,
  recognise: (head) => hasAscii(head, 0, RAR4) || hasAscii(head, 0, RAR5),
  follow: (source) => following(source, BREAKS_OFF, (reader) => (reader.has(0, RAR5) ? followRar5(reader) : followRar4(reader))),
};

/** Cabinets: [MS-CAB], 2.1 to 2.4 and the checksum of 2.6: each block of data has one. */
const cabinet: Format = {
  id: "cab",
  kind: "archives",
  title: "cabinet archive",
  extensions: ["cab"],
  signatures: [{ at: 0, mark: "MSCF\0\0\0\0" }],
  recognise: (head) => hasAscii(head, 0, "MSCF\0\0\0\0"),
  follow: (source) =>
    following(source, BREAKS_OFF, (reader) => {
      const size = reader.u32(8);
      const [folders, flags] = [reader.u16(26), reader.u16(30)];
      if (size < 36 || reader.u8(25) !== 1 || folders === 0) return null;
      let at = 36;
      let [folderExtra, dataExtra] = [0, 0];
      if (flags & 4) {
        folderExtra = reader.u8(38);
        dataExtra = reader.u8(39);
        at += 4 + reader.u16(36);
      }
      for (const bit of [1, 1, 2, 2]) if (flags & bit) at = reader.find("\0", at) + 1;
      for (let folder = 0; folder < folders; folder += 1, at += 8 + folderExtra) {
        let data = reader.u32(at);
        for (let blocks = reader.u16(at + 4); blocks > 0; blocks -= 1) {
          const length = reader.u16(data + 4);
          const end = data + 8 + dataExtra + length;
          if (end > source.size) return breaksAt(source.size, BREAKS_OFF);
          const stated = reader.u32(data);
          if (stated !== 0 && cabChecksum(reader, data + 4, end) !== stated)
            return endsAt(size, damaged(data, "the checksum of a block does not match"));
          data = end;
        }
      }
      return size > source.size ? breaksAt(source.size, BREAKS_OFF) : endsAt(size);
    }),
};

/** Words of 32 bits, exclusive-or; the last bytes in the order the highest first ([MS-CAB], 3.1). The data come before the header. */
function cabChecksum(reader: BlockReader, headerAt: number, end: number): number {
  const sum = (from: number, to: number, seed: number) => {
    let value = seed;
    let at = from;
    for (; at + 4 <= to; at += 4) value ^= reader.u32(at);
    let rest = 0;
    for (; at < to; at += 1) rest = (rest << 8) | reader.u8(at);
    return (value ^ rest) >>> 0;
  };
  return sum(headerAt, headerAt + 4, sum(headerAt + 4, end, 0));
}

/** Disk images and what else is known by its beginning, and how long it is by its header. */
const shellLink: Format = {
  id: "link",
  kind: "application-data",
  title: "shell link",
  extensions: ["lnk"],
  signatures: [{ at: 0, mark: "L\0\0\0\x01\x14\x02\0\0\0\0\0\xc0\0\0\0\0\0\0F" }],
  loose: true,
  recognise: (head) => hasAscii(head, 0, "L\0\0\0\x01\x14\x02\0"),
  /** [MS-SHLLINK], 2.1 to 2.5: one structure after the other, as the flags say. */
  follow: (source) =>
    following(source, BREAKS_OFF, (reader) => {
      const flags = reader.u32(20);
      let at = 76;
      if (flags & 1) at += 2 + reader.u16(at);
      if (flags & 2) at += reader.u32(at);
      const wide = flags & 0x80 ? 2 : 1;
      for (const bit of [4, 8, 16, 32, 64]) if (flags & bit) at += 2 + wide * reader.u16(at);
      for (;;) {
        const block = reader.u32(at);
        if (block < 4) return endsAt(at + 4);
        if (block > 1 << 16) return breaksAt(at, "no block begins where the next one should");
        at += block;
      }
    }),
};

/** Registry hives: the published layout of the open-source hive library: a base block, then bins of whole 4 KiB. */
const hive: Format = {
  id: "registry",
  kind: "application-data",
  title: "registry hive",
  extensions: ["hve"],
  signatures: [{ at: 0, mark: "regf" }],
  recognise: (head) => hasAscii(head, 0, "regf"),
  follow: (source) =>
    following(source, BREAKS_OFF, (reader) => {
      let sum = 0;
      for (let at = 0; at < 508; at += 4) sum ^= reader.u32(at);
      sum = sum >>> 0 === 0xffff_ffff ? 0xffff_fffe : sum >>> 0 || 1;
      // Four letters by chance, with nothing of a hive behind them.
      if (sum !== reader.u32(508)) return reader.has(4096, "hbin") ? breaksAt(508, "the hive's header is damaged") : null;
      const end = 4096 + reader.u32(40);
      for (let at = 4096; at < end; ) {
        if (at >= source.size) return breaksAt(source.size, "the hive breaks off before its end");
        const length = reader.u32(at + 8);
        if (!reader.has(at, "hbin") || reader.u32(at + 4) !== at - 4096 || length === 0 || length % 4096 !== 0)
          return breaksAt(at, "no bin begins where the next one should");
        at += length;
      }
      return end > source.size ? breaksAt(source.size, "the hive breaks off before its end") : endsAt(end);
    }),
  summarise(source): Summary {
    const reader = new BlockReader(source);
    const path = new TextDecoder("utf-16le").decode(reader.bytes(48, 64)).replace(/\0.*$/s, "");
    const name = path.split("\\").pop();
    return name ? { title: name } : {};
  },
};

/** Mail stores: [MS-PST], 2.2.2.6: the header has a checksum and says how long the file is. */
const mailStore: Format = {
  id: "mailbox",
  kind: "mail",
  title: "mail store",
  extensions: ["pst", "ost"],
  signatures: [{ at: 0, mark: "!BDN" }],
  loose: true,
  recognise: (head) => hasAscii(head, 0, "!BDN"),
  follow: (source) =>
    following(source, BREAKS_OFF, (reader) => {
      if (!reader.has(8, "SM") && !reader.has(8, "SO")) return null;
      const wide = reader.u16(10) >= 23;
      if (pstCrc(reader.bytes(8, 471)) !== reader.u32(4)) return breaksAt(4, "the mail store's header is damaged");
      const end = wide ? reader.u64(184) : reader.u32(168);
      if (end < 564) return null;
      return end > source.size
        ? breaksAt(source.size, "the mail store breaks off before its end")
        : endsAt(end, cannotTell("the mails in it are not followed"));
    }),
};

/** [MS-PST], 5.3: CRC-32 without turning the first and the last value round. */
const pstCrc = (bytes: Uint8Array) => ~crc32(bytes, 0xffff_ffff) >>> 0;

/** SFNT fonts: OpenType 1.9, "Organization of an OpenType font": tables with checksums. */
const fontMarks = [
  { at: 0, mark: "\0\x01\0\0" },
  { at: 0, mark: "OTTO" },
  { at: 0, mark: "true" },
];
const font: Format = {
  id: "font",
  kind: "application-data",
  title: "font",
  extensions: ["ttf", "otf"],
  signatures: fontMarks,
  recognise: (head) =>
    hasSignature(head, fontMarks) &&
    head[4] === 0 &&
    (head[5] ?? 0) > 3 &&
    /^[\x20-\x7e]{4}$/.test(String.fromCharCode(...head.subarray(12, 16))),
  follow: (source) =>
    following(source, BREAKS_OFF, (reader) => {
      const count = reader.u16be(4);
      if (count < 4 || count > 64) return null;
      let end = 12 + 16 * count;
      for (let i = 0; i < count; i += 1) {
        const entry = 12 + 16 * i;
        const [at, length] = [reader.u32be(entry + 8), reader.u32be(entry + 12)];
        if (at < 12 + 16 * count || !/^[\x20-\x7e]{4}$/.test(reader.ascii(entry, 4))) return null;
        if (at + length > source.size) return breaksAt(source.size, "the font breaks off before its end");
        end = Math.max(end, at + length);
      }
      // Tables are filled up to whole words, the last one mostly too.
      let padded = end;
      while (padded % 4 !== 0 && padded < source.size && reader.u8(padded) === 0) padded += 1;
      if (padded % 4 === 0) end = padded;
      for (let i = 0; i < count; i += 1) {
        const entry = 12 + 16 * i;
        const wrong = reader.has(entry, "head") ? null : wrongTable(reader, entry);
        if (wrong !== null) return endsAt(end, damaged(wrong, "the checksum of a table does not match"));
      }
      return endsAt(end);
    }),
  summarise(source): Summary {
    const reader = new BlockReader(source);
    for (let entry = 12; entry < 12 + 16 * reader.u16be(4); entry += 16) {
      if (!reader.has(entry, "name")) continue;
      const table = reader.u32be(entry + 8);
      const texts = table + reader.u16be(table + 4);
      for (let i = 0; i < reader.u16be(table + 2); i += 1) {
        const record = table + 6 + 12 * i;
        if (reader.u16be(record + 6) !== 4) continue;
        const bytes = reader.bytes(texts + reader.u16be(record + 10), reader.u16be(record + 8));
        return { title: new TextDecoder(reader.u16be(record) === 1 ? "latin1" : "utf-16be").decode(bytes) };
      }
    }
    return {};
  },
};

/** Where a table stands whose checksum (a sum of 32-bit words) is not what the directory says; null: it is right. */
function wrongTable(reader: BlockReader, entry: number): number | null {
  const [stated, at, length] = [reader.u32be(entry + 4), reader.u32be(entry + 8), reader.u32be(entry + 12)];
  let sum = 0;
  for (let i = 0; i + 4 <= length; i += 4) sum = (sum + reader.u32be(at + i)) >>> 0;
  let rest = 0;
  for (let i = length & ~3, shift = 24; i < length; i += 1, shift -= 8) rest |= reader.u8(at + i) << shift;
  return (sum + rest) >>> 0 === stated ? null : at;
}

export const archiveFormats: readonly Format[] = [tar, sevenZip, rar, cabinet];
export const systemFormats: readonly Format[] = [shellLink, hive, mailStore, font];
