import { BlockReader, BreaksOff } from "../bytes/block-reader";
import { type ByteSource, MemorySource, WindowSource } from "../bytes/byte-source";
import { InflateError, TooMuch } from "../bytes/inflate";
import { fromBase85 } from "./ascii-coding";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, SOUND, type Summary, type Verdict } from "./format";
import { followJpeg } from "./jpeg/jpeg";
import { PdfSyntax } from "./pdf-syntax";
import { defined } from "./tiff-directory";
import { unpackZlib } from "./zlib";

const MOST_ENTRIES = 2_000_000;
const MOST_SECTIONS = 1024;
const MOST_UNPACKED = 1 << 28;
const MOST_FILE = 2 ** 36;
/** Bytes that are looked at for a dictionary. */
const DICTIONARY = 4096;
const BREAKS_OFF = "the document breaks off before its end";

/** PDF: ISO 32000-1, 7.5 (header, cross-reference table and streams, trailer), 7.3.8 (streams). */
export const pdf: Format = {
  id: "pdf",
  kind: "documents",
  title: "PDF document",
  extensions: ["pdf"],
  signatures: [{ at: 0, mark: "%PDF-" }],
  recognise: (head) => hasAscii(head, 0, "%PDF-"),
  follow,
  summarise,
};

const text = (reader: BlockReader, at: number, length: number) => {
  const bytes = at < 0 || at >= reader.size ? new Uint8Array(0) : reader.bytes(at, Math.min(length, reader.size - at));
  let found = "";
  for (let i = 0; i < bytes.length; i += 1) found += String.fromCharCode(bytes[i] as number);
  return found;
};

function follow(source: ByteSource): Extent | null {
  const reader = new BlockReader(source);
  try {
    const ends = endMarks(reader);
    if (ends.open) return broken(reader, Math.min(ends.last, MOST_BROKEN), damaged(Math.min(ends.last, MOST_BROKEN), BREAKS_OFF));
    const verdict = judge(reader, ends.last);
    // An end whose table of contents does not count from here is another document's.
    if (verdict.verdict === "damaged" && !ownEnd(reader, ends.last)) return broken(reader, ends.last, verdict);
    return endsAt(ends.last, verdict);
  } catch (error) {
    if (!(error instanceof BreaksOff)) throw error;
    return breaksAt(source.size, BREAKS_OFF);
  }
}

/** Bytes of a document without an end that are looked at. */
const MOST_BROKEN = 1 << 26;

/** A document that does not go on to its own end: as far as its streams are right. */
function broken(reader: BlockReader, end: number, otherwise: Verdict): Extent {
  const first = streams(reader, end, false);
  const verdict = earlier(first, otherwise);
  const at = first.verdict === "damaged" ? first.at : lastPart(reader, end);
  return { size: Math.min(end, Math.max(at, 16)), closed: false, verdict };
}

/** Where the last object that belongs to the document ends, for one whose streams are all right. */
function lastPart(reader: BlockReader, end: number): number {
  let last = 0;
  for (let at = reader.find("endobj", 0, end); at >= 0; at = reader.find("endobj", at + 6, end)) {
    // Parts follow one another: a long way without one means that something else has begun.
    if (last > 0 && at - last > 1 << 22) break;
    last = at + 6;
  }
  return last > 0 ? last : end;
}

function ownEnd(reader: BlockReader, end: number): boolean {
  const tail = text(reader, Math.max(0, end - 2048), Math.min(2048, end));
  const offset = Number([...tail.matchAll(/startxref\s+(\d+)\s+%%EOF/g)].at(-1)?.[1] ?? Number.NaN);
  return offset < end && /^\s*(xref|\d+\s+\d+\s+obj)/.test(text(reader, offset, 64));
}

/**
 * Where the document ends: the last end mark (7.5.5) behind which no further part of it begins. Updates (7.5.6) come behind the
 * first one, and a linearised document (annex F) has one near its beginning.
 */
function endMarks(reader: BlockReader): { last: number; open: boolean } {
  const linear = /\/Linearized[^>]{0,200}\/L\s+(\d+)|\/L\s+(\d+)[^>]{0,200}\/Linearized/.exec(text(reader, 0, 1024));
  const told = linear ? Number(linear[1] ?? linear[2]) : 0;
  if (told > 0 && told <= reader.size && text(reader, told - 32, 32).includes("%%EOF") && !goesOn(reader, told))
    return { last: told, open: false };
  let last = 0;
  let from = 5;
  for (;;) {
    const mark = nextEnd(reader, from);
    if (mark < 0) break;
    last = mark + 5;
    if (reader.has(last, "\r")) last += 1;
    if (reader.has(last, "\n")) last += 1;
    if (!goesOn(reader, last)) return { last, open: false };
    from = last;
  }
  return { last: last > 0 ? last : reader.size, open: true };
}

const NEXT_STEP = 1 << 20;
/** So many bytes without the end of an object, and the document is over. */
const MOST_WITHOUT_OBJECT = 1 << 26;

/** The next end mark before which no other document begins; -1: there is none. */
function nextEnd(reader: BlockReader, from: number): number {
  let object = from;
  for (let at = from; at < Math.min(reader.size, MOST_FILE) && at - object < MOST_WITHOUT_OBJECT; at += NEXT_STEP) {
    const limit = Math.min(reader.size, at + NEXT_STEP + 8);
    const mark = reader.find("%%EOF", at, limit);
    for (
      let other = reader.find("%PDF-", at, mark < 0 ? limit : mark);
      other >= 0;
      other = reader.find("%PDF-", other + 5, mark < 0 ? limit : mark)
    )
      if (other % 512 === 0 && other > 0) return -1;
    if (mark >= 0) return mark;
    if (reader.find("endobj", at, limit) >= 0) object = at;
  }
  return -1;
}

/** Whether a part of a document begins here: an object, a table, or the comment some writers put between. */
function goesOn(reader: BlockReader, at: number): boolean {
  return /^\s*(%[^%\r\n][^\r\n]*\s+)?(\d{1,10}\s+\d{1,5}\s+obj\b|xref\b|startxref\b)/.test(text(reader, at, 256));
}

function judge(reader: BlockReader, end: number): Verdict {
  const tail = text(reader, Math.max(0, end - 2048), Math.min(2048, end));
  let offset: number | undefined;
  for (const match of tail.matchAll(/startxref\s+(\d+)\s+%%EOF/g)) offset = Number(match[1]);
  const wrong = streams(reader, end, true);
  if (offset === undefined) return earlier(wrong, damaged(end, BREAKS_OFF));
  if (offset >= end) return earlier(wrong, damaged(end, "the table of contents would stand past the end of the file"));
  const seen = new Set<number>();
  let encrypted = false;
  for (let next: number | null = offset; next !== null && !seen.has(next) && seen.size < MOST_SECTIONS; ) {
    seen.add(next);
    const section = crossReference(reader, next, end);
    if (section.problem) return earlier(wrong, section.problem);
    encrypted ||= section.encrypted;
    next = section.before;
  }
  if (encrypted) return cannotTell("the document is protected by a password");
  return wrong;
}

/** Damage found first in the file is where it begins. */
function earlier(one: Verdict, other: Verdict): Verdict {
  return one.verdict === "damaged" && other.verdict === "damaged" && one.at < other.at ? one : other;
}

interface Section {
  readonly problem: Verdict | null;
  readonly before: number | null;
  readonly encrypted: boolean;
}

/** One cross-reference table or stream: whether the objects it names stand where it says. */
function crossReference(reader: BlockReader, at: number, end: number): Section {
  const fail = (problem: Verdict): Section => ({ problem, before: null, encrypted: false });
  const head = text(reader, at, 64);
  if (/^\s*\d+\s+\d+\s+obj/.test(head)) return crossStream(reader, at, end);
  const mark = /^\s*xref/.exec(head);
  if (!mark) return fail(damaged(at, "the table of contents is not where the document says"));
  let next = at + mark[0].length;
  let entries = 0;
  for (;;) {
    const part = /^\s*(\d+) (\d+)[ \t]*(\r\n|\r|\n)/.exec(text(reader, next, 64));
    if (!part) break;
    next += part[0].length;
    const [first, count] = [Number(part[1]), Number(part[2])];
    for (let i = 0; i < count; i += 1, next += 20) {
      entries += 1;
      if (entries > MOST_ENTRIES) return fail(cannotTell("the document is too large to be followed"));
      const entry = text(reader, next, 18);
      if (!/^\d{10} \d{5} [nf]/.test(entry)) return fail(damaged(next, "the table of contents is damaged"));
      if (entry[17] !== "n") continue;
      const place = Number(entry.slice(0, 10));
      if (!objectAt(reader, place, first + i, Number(entry.slice(11, 16)), end))
        return fail(damaged(Math.min(place, end), `object ${first + i} is not where the table of contents says`));
    }
  }
  const trailer = text(reader, next, DICTIONARY);
  const body = trailer.slice(0, trailer.indexOf("startxref") + 1 || undefined);
  const dictionary = new PdfSyntax(body.replace(/^\s*trailer/, ""));
  if (!/^\s*trailer/.test(body) || !dictionary.value()) return fail(damaged(next, "the end of the table of contents is damaged"));
  const before = /\/Prev\s+(\d+)/.exec(body);
  const mixed = /\/XRefStm\s+(\d+)/.exec(body);
  if (mixed && Number(mixed[1]) < end) {
    const inner = crossStream(reader, Number(mixed[1]), end);
    if (inner.problem) return inner;
  }
  const previous = before ? Number(before[1]) : null;
  return { problem: null, before: previous !== null && previous < end ? previous : null, encrypted: /\/Encrypt\b/.test(body) };
}

function objectAt(reader: BlockReader, at: number, number: number, generation: number, end: number): boolean {
  // A few writers tell of objects that were never written: at the very beginning nothing can stand.
  if (at === 0) return true;
  if (at >= end) return false;
  const mark = /^\s*(\d+)\s+(\d+)\s+obj/.exec(text(reader, at, 32));
  if (mark === null || Number(mark[1]) !== number || Number(mark[2]) !== generation) return false;
  return isObject(reader, at + mark[0].length, end);
}

/** Bytes of an object without a stream that are read to see whether it holds together; longer ones are taken on trust. */
const OBJECT_STEPS = [2048, 1 << 16, 1 << 20] as const;

/** Whether one value stands here, and its end or a stream behind it. */
function isObject(reader: BlockReader, at: number, end: number): boolean {
  for (const length of OBJECT_STEPS) {
    const syntax = new PdfSyntax(text(reader, at, Math.min(length, end - at)));
    const whole = syntax.value();
    if (syntax.short && at + length < end) continue;
    if (!whole) return false;
    syntax.skip();
    return /^\s*(endobj|stream)/.test(text(reader, at + syntax.at, 16));
  }
  return true;
}

/** A cross-reference stream: 7.5.8. */
function crossStream(reader: BlockReader, at: number, end: number): Section {
  const fail = (problem: Verdict): Section => ({ problem, before: null, encrypted: false });
  const stream = streamAt(reader, at, end);
  if (!stream) return fail(damaged(at, "the table of contents is damaged"));
  const { dictionary } = stream;
  const widths = /\/W\s*\[\s*(\d+)\s+(\d+)\s+(\d+)\s*\]/.exec(dictionary)?.slice(1).map(Number);
  if (!widths || !/\/Type\s*\/XRef/.test(dictionary)) return fail(damaged(at, "the table of contents is not where the document says"));
  const before = /\/Prev\s+(\d+)/.exec(dictionary);
  const section = {
    problem: null,
    before: before && Number(before[1]) < end ? Number(before[1]) : null,
    encrypted: /\/Encrypt\b/.test(dictionary),
  };
  if (!/\/FlateDecode/.test(dictionary)) return section;
  let rows: Uint8Array;
  try {
    rows = unpredict(gather(reader, stream.dataAt, end), dictionary);
  } catch (error) {
    if (error instanceof TooMuch) return section;
    if (!(error instanceof InflateError)) throw error;
    return fail(damaged(Math.min(error.at, end), "the table of contents cannot be unpacked"));
  }
  const size = Number(/\/Size\s+(\d+)/.exec(dictionary)?.[1] ?? 0);
  const index = (/\/Index\s*\[([^\]]*)\]/.exec(dictionary)?.[1] ?? `0 ${size}`).trim().split(/\s+/).map(Number);
  const [a, b, c] = widths as [number, number, number];
  const field = (from: number, length: number, otherwise: number) => {
    if (length === 0) return otherwise;
    let value = 0;
    for (let i = 0; i < length; i += 1) value = value * 256 + (rows[from + i] ?? 0);
    return value;
  };
  let row = 0;
  for (let part = 0; part + 1 < index.length; part += 2)
    for (let i = 0; i < (index[part + 1] as number) && row + a + b + c <= rows.length; i += 1, row += a + b + c) {
      if (field(row, a, 1) !== 1) continue;
      const place = field(row + a, b, 0);
      const number = (index[part] as number) + i;
      if (!objectAt(reader, place, number, field(row + a + b, c, 0), end))
        return fail(damaged(Math.min(place, end), `object ${number} is not where the table of contents says`));
    }
  return section;
}

function gather(reader: BlockReader, at: number, end: number): Uint8Array {
  const pieces: Uint8Array[] = [];
  unpackZlib(reader, at, end, 1 << 26, (plain) => pieces.push(plain.slice()));
  const all = new Uint8Array(pieces.reduce((sum, { length }) => sum + length, 0));
  let filled = 0;
  for (const piece of pieces) {
    all.set(piece, filled);
    filled += piece.length;
  }
  return all;
}

/** Undoes the row-by-row differences of the PNG predictors (7.4.4.4). */
function unpredict(bytes: Uint8Array, dictionary: string): Uint8Array {
  if (Number(/\/Predictor\s+(\d+)/.exec(dictionary)?.[1] ?? 1) < 10) return bytes;
  const columns = Number(/\/Columns\s+(\d+)/.exec(dictionary)?.[1] ?? 1);
  const rows = Math.floor(bytes.length / (columns + 1));
  const plain = new Uint8Array(rows * columns);
  for (let row = 0; row < rows; row += 1)
    for (let i = 0; i < columns; i += 1) {
      const value = bytes[row * (columns + 1) + 1 + i] as number;
      // One byte a sample: left and up; other kinds of difference do not occur in tables.
      const up = row > 0 ? (plain[(row - 1) * columns + i] as number) : 0;
      const left = i > 0 ? (plain[row * columns + i - 1] as number) : 0;
      const kind = bytes[row * (columns + 1)];
      plain[row * columns + i] = value + (kind === 2 ? up : kind === 1 ? left : kind === 3 ? (up + left) >> 1 : 0);
    }
  return plain;
}

interface Stream {
  readonly dictionary: string;
  readonly dataAt: number;
}

/** The stream of the object that begins at `at`; null: it has none. */
function streamAt(reader: BlockReader, at: number, end: number): Stream | null {
  const head = text(reader, at, Math.min(DICTIONARY, end - at));
  const mark = /\bstream(\r\n|\n|\r)/.exec(head);
  if (!mark || head.slice(0, mark.index).includes("endobj")) return null;
  return { dictionary: head.slice(0, mark.index), dataAt: at + mark.index + mark[0].length };
}

/** Goes through all streams in the order of the file: those packed with Flate must unpack, those of a known length end where they say. */
function streams(reader: BlockReader, end: number, whole: boolean): Verdict {
  let left = MOST_UNPACKED;
  for (let at = reader.find("stream", 5, end); at >= 0; at = reader.find("stream", at, end)) {
    const after = at + 6;
    const before = text(reader, Math.max(0, at - DICTIONARY), Math.min(DICTIONARY, at));
    if (before.endsWith("end") || !/[\r\n]/.test(text(reader, after, 1)) || !/>>\s*$/.test(before)) {
      at = after;
      continue;
    }
    const from = before.lastIndexOf(" obj");
    const dictionary = before.slice(Math.max(0, from));
    const dataAt = after + (reader.has(after, "\r\n") ? 2 : 1);
    const length = Number(/\/Length\s+(\d+)(?!\s+\d+\s+R)\b/.exec(dictionary)?.[1] ?? -1);
    if (/\/Filter\s*(\[\s*)?\/(FlateDecode|Fl)\b/.test(dictionary)) {
      try {
        const packed = /\/Type\s*\/ObjStm\b/.test(dictionary);
        const pieces: string[] = [];
        const done = unpackZlib(reader, dataAt, end, left, (plain) => {
          if (packed) pieces.push(String.fromCharCode(...plain.subarray(0, 32_768)), String.fromCharCode(...plain.subarray(32_768)));
        });
        if (packed && !holdsObjects(pieces.join(""), dictionary)) return damaged(dataAt, "objects packed together do not hold together");
        left -= done.plain;
        if (!/^\s*endstream/.test(text(reader, done.end, 16)) && length < 0 && !text(reader, done.end, 64).includes("endstream"))
          return damaged(done.end, "a part of the document does not end where it should");
        at = done.end;
        continue;
      } catch (error) {
        if (error instanceof TooMuch) return cannotTell("the document unpacks to more than is checked");
        if (!(error instanceof InflateError)) throw error;
        // Some writers leave the checksum away; and in a protected document nothing unpacks.
        if (isProtected(reader, end)) return cannotTell("the document is protected by a password");
        if (!(error.reason === "the checksum does not match" || /^\s*endstream/.test(text(reader, error.at, 16))) || whole)
          return damaged(Math.min(error.at, end), "a part of the document cannot be unpacked");
      }
    }
    const coded = codedStream(reader, dictionary, dataAt, end);
    if (coded) return coded;
    if (length >= 0) {
      if (dataAt + length > end) return whole ? damaged(dataAt, "a part of the document runs past its end") : damaged(end, BREAKS_OFF);
      if (!/\/(Filter|Type|Subtype|Length1)\b/.test(dictionary) && length < MOST_LETTERS && !isContent(text(reader, dataAt, length)))
        return damaged(dataAt, "what is drawn on a page does not hold together");
      if (!/^\s*endstream/.test(text(reader, dataAt + length, 16)))
        return damaged(dataAt + length, "a part of the document does not end where it should");
      at = dataAt + length;
    } else at = dataAt;
  }
  return SOUND;
}

/** Bytes of a stream in letters that are decoded to look into them. */
const MOST_LETTERS = 1 << 24;

/** What is wrong with a stream in letters with packed data in them, or with a picture's stream; null: nothing, or it is neither. */
function codedStream(reader: BlockReader, dictionary: string, dataAt: number, end: number): Verdict | null {
  const filter = /\/Filter\s*(\[[^\]]*\]|\/\w+)/.exec(dictionary)?.[1] ?? "";
  const close = reader.find("endstream", dataAt, end);
  if (close < 0 || close - dataAt > MOST_LETTERS || /\/Encrypt\b/.test(dictionary)) return null;
  if (/^\[?\s*\/(DCTDecode|DCT)\s*\]?$/.test(filter)) {
    const { verdict } = followJpeg(new WindowSource(reader.source, dataAt, close - dataAt)).extent;
    return verdict.verdict === "damaged" ? damaged(Math.min(end, dataAt + verdict.at), "a picture in the document is damaged") : null;
  }
  if (!/^\[?\s*\/(ASCII85Decode|A85)\b/.test(filter)) return null;
  const plain = fromBase85(text(reader, dataAt, close - dataAt));
  if (!plain) return damaged(dataAt, "a part of the document in letters cannot be read");
  if (!/\/(FlateDecode|Fl)\b/.test(filter)) return null;
  try {
    unpackZlib(new BlockReader(new MemorySource(plain)), 0, plain.length, MOST_UNPACKED);
  } catch (error) {
    if (error instanceof TooMuch) return null;
    if (!(error instanceof InflateError)) throw error;
    return damaged(dataAt, "a part of the document cannot be unpacked");
  }
  return null;
}

/** Whether what draws a page is values and operators (7.8.2); other bytes are none of this check's business. */
function isContent(words: string): boolean {
  if (!/\b(BT|cm|re|Tf)\b/.test(words.slice(0, 400))) return true;
  const syntax = new PdfSyntax(words);
  for (;;) {
    syntax.skip();
    if (syntax.short) return true;
    const operator = /^(?:[A-Za-z'"][A-Za-z0-9*'"]*)(?=[\s()<>[\]/%]|$)/.exec(words.slice(syntax.at, syntax.at + 24))?.[0];
    if (operator === "ID") return true;
    if (operator && !/^(true|false|null)$/.test(operator)) syntax.at += operator.length;
    else if (!syntax.value()) return false;
  }
}

/** A stream of objects (7.5.7): their numbers and places, then the objects one after the other. */
function holdsObjects(plain: string, dictionary: string): boolean {
  const count = Number(/\/N\s+(\d+)/.exec(dictionary)?.[1] ?? Number.NaN);
  const first = Number(/\/First\s+(\d+)/.exec(dictionary)?.[1] ?? Number.NaN);
  if (!(count >= 0 && first >= 0 && first <= plain.length)) return false;
  const numbers = plain.slice(0, first).trim().split(/\s+/).map(Number);
  for (let i = 0; i < Math.min(count, 10_000); i += 1) {
    const place = numbers[i * 2 + 1];
    if (place === undefined || !(first + place <= plain.length)) return false;
    if (!new PdfSyntax(plain.slice(first + place, first + (numbers[i * 2 + 3] ?? plain.length))).value()) return false;
  }
  return true;
}

function isProtected(reader: BlockReader, end: number): boolean {
  return /\/Encrypt\b/.test(text(reader, Math.max(0, end - 2048), 2048)) || reader.find("/Encrypt ", 0, end) >= 0;
}

/** Milliseconds of a date (7.9.4). */
function pdfTime(value: string | undefined): number | undefined {
  const match = /^D:(\d{4})(\d\d)?(\d\d)?(\d\d)?(\d\d)?(\d\d)?(?:([-+])(\d\d)'?(\d\d)?)?/.exec(value ?? "");
  if (!match) return undefined;
  const [, year, month = "01", day = "01", hour = "0", minute = "0", second = "0", sign, zoneHour = "0", zoneMinute = "0"] = match;
  const away = (sign === "-" ? -1 : sign === "+" ? 1 : 0) * (Number(zoneHour) * 60 + Number(zoneMinute)) * 60_000;
  return Date.UTC(Number(year), Number(month) - 1, Number(day), Number(hour), Number(minute), Number(second)) - away;
}

/** A text string: PDFDocEncoding taken for Latin 1, or UTF-16 with its mark (7.9.2.2); escapes of 7.3.4.2. */
function textString(literal: string | undefined): string | undefined {
  if (literal === undefined) return undefined;
  let plain = "";
  if (literal.startsWith("<")) {
    const digits = literal.slice(1, -1).replace(/\s/g, "");
    for (let i = 0; i < digits.length; i += 2) plain += String.fromCharCode(Number.parseInt(digits.slice(i, i + 2).padEnd(2, "0"), 16));
  } else {
    plain = literal.slice(1, -1).replace(/\\([0-7]{1,3}|\r\n|.|\n)/gs, (_, mark: string) => {
      if (/[0-7]/.test(mark)) return String.fromCharCode(Number.parseInt(mark, 8) & 255);
      return { n: "\n", r: "\r", t: "\t", b: "\b", f: "\f" }[mark] ?? (/[\r\n]/.test(mark) ? "" : mark);
    });
  }
  if (plain.startsWith("\xfe\xff")) {
    const bytes = Uint8Array.from(plain.slice(2), (mark) => mark.charCodeAt(0));
    plain = new TextDecoder("utf-16be").decode(bytes);
  }
  return plain.trim() || undefined;
}

const LITERAL = String.raw`(\((?:[^()\\]|\\.)*\)|<[0-9A-Fa-f\s]*>)`;

function summarise(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  const facts: { -readonly [K in keyof Summary]: Summary[K] | undefined } = {};
  const look = (words: string) => {
    const field = (name: string) => textString(new RegExp(`/${name}\\s*${LITERAL}`, "s").exec(words)?.[1]);
    if (/\/(Producer|Creator|CreationDate)\b/.test(words)) {
      facts.title ??= field("Title");
      facts.author ??= field("Author");
      facts.dated ??= pdfTime(field("ModDate")) ?? pdfTime(field("CreationDate"));
    }
    const count = /\/Type\s*\/Pages\b[^>]*\/Count\s+(\d+)|\/Count\s+(\d+)[^>]*\/Type\s*\/Pages\b/.exec(words);
    if (count) facts.pages = Math.max(facts.pages ?? 0, Number(count[1] ?? count[2]));
  };
  // The facts stand in an object of their own, mostly near one of the ends, or in a packed stream of objects.
  const part = 1 << 18;
  look(text(reader, 0, part));
  if (source.size > part) look(text(reader, Math.max(part, source.size - part), part));
  if (facts.title === undefined || facts.pages === undefined)
    for (let at = reader.find("/ObjStm", 0), seen = 0; at >= 0 && seen < 16; at = reader.find("/ObjStm", at + 1), seen += 1) {
      const stream = streamAt(reader, Math.max(0, at - 64), source.size);
      if (!stream) continue;
      try {
        look(new TextDecoder("latin1").decode(gather(reader, stream.dataAt, source.size)));
      } catch (error) {
        if (!(error instanceof InflateError || error instanceof TooMuch)) throw error;
      }
    }
  return defined<Summary>(facts);
}
