import { BlockReader } from "../../bytes/block-reader";
import { MemorySource, WindowSource } from "../../bytes/byte-source";
import { InflateError, TooMuch } from "../../bytes/inflate";
import { cannotTell, damaged, SOUND, type Verdict } from "../format";
import { followJpeg } from "../jpeg/jpeg";
import { unpackZlib } from "../zlib";
import { fromBase85 } from "./base85";
import { PdfSyntax } from "./syntax";
import { BREAKS_OFF, DICTIONARY, MOST_UNPACKED, text } from "./words";

interface Stream {
  readonly dictionary: string;
  readonly dataAt: number;
}

/** The stream of the object that begins at `at`; null: it has none. */
export function streamAt(reader: BlockReader, at: number, end: number): Stream | null {
  const head = text(reader, at, Math.min(DICTIONARY, end - at));
  const mark = /\bstream(\r\n|\n|\r)/.exec(head);
  if (!mark || head.slice(0, mark.index).includes("endobj")) return null;
  return { dictionary: head.slice(0, mark.index), dataAt: at + mark.index + mark[0].length };
}

/** What is wrong with the streams of a document, in the order of the file. In a protected one nothing can be unpacked. */
export function streams(reader: BlockReader, end: number, whole: boolean): Verdict {
  const verdict = inOrder(reader, end, whole);
  return verdict.verdict === "damaged" && isProtected(reader, end) ? cannotTell("the document is protected by a password") : verdict;
}

/** Those packed with Flate must unpack, those of a known length end where they say. */
function inOrder(reader: BlockReader, end: number, whole: boolean): Verdict {
  let left = MOST_UNPACKED;
  let doubt: Verdict | null = null;
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
        return damaged(Math.min(error.at, end), "a part of the document cannot be unpacked");
      }
    }
    const coded = codedStream(reader, dictionary, dataAt, endOfData(reader, dataAt, length, end));
    if (coded?.verdict === "damaged") return coded;
    doubt ??= coded;
    if (length >= 0) {
      if (dataAt + length > end) return whole ? damaged(dataAt, "a part of the document runs past its end") : damaged(end, BREAKS_OFF);
      if (!/\/(Filter|Type|Subtype|Length1)\b/.test(dictionary) && length < MOST_LETTERS && !isContent(text(reader, dataAt, length)))
        return damaged(dataAt, "what is drawn on a page does not hold together");
      if (!/^\s*endstream/.test(text(reader, dataAt + length, 16)))
        return damaged(dataAt + length, "a part of the document does not end where it should");
      at = dataAt + length;
    } else at = dataAt;
  }
  return doubt ?? SOUND;
}

const PICTURE_DAMAGED = "a picture in the document is damaged";

/** Bytes of a stream in letters that are decoded to look into them. */
const MOST_LETTERS = 1 << 24;

/** What is said of a document for a picture in it; null: it is sound. @param damage what is said of a damaged one, by its place in the picture */
function ofPicture(verdict: Verdict, damage: (at: number) => Verdict): Verdict | null {
  if (verdict.verdict === "damaged") return damage(verdict.at);
  return verdict.verdict === "cannot-tell" ? cannotTell("a picture in the document is not proven") : null;
}

/** Where the data of a stream end: where it is said to end, or, in a document that breaks off, by its length. */
function endOfData(reader: BlockReader, dataAt: number, length: number, end: number): number {
  const close = reader.find("endstream", dataAt, end);
  return close >= 0 ? close : Math.min(end, dataAt + Math.max(0, length));
}

/**
 * What is wrong with a stream in letters with packed data in them, or with a picture's stream; null: nothing, or it is neither.
 * @param close the byte after its data
 */
function codedStream(reader: BlockReader, dictionary: string, dataAt: number, close: number): Verdict | null {
  const filter = /\/Filter\s*(\[[^\]]*\]|\/\w+)/.exec(dictionary)?.[1] ?? "";
  if (close - dataAt > MOST_LETTERS) return null;
  if (/^\[?\s*\/(DCTDecode|DCT)\s*\]?$/.test(filter)) {
    const { verdict } = followJpeg(new WindowSource(reader.source, dataAt, close - dataAt)).extent;
    return ofPicture(verdict, (at) => damaged(Math.min(close, dataAt + at), PICTURE_DAMAGED));
  }
  if (!/^\[?\s*\/(ASCII85Decode|A85)\b/.test(filter)) return null;
  const foreign = noLetter(reader, dataAt, close);
  if (foreign >= 0) return damaged(foreign, "a part of the document in letters cannot be read");
  const plain = fromBase85(text(reader, dataAt, close - dataAt));
  if (!plain) return damaged(dataAt, "a part of the document in letters cannot be read", close);
  if (/\/(DCTDecode|DCT)\s*\]$/.test(filter))
    return ofPicture(followJpeg(new MemorySource(plain)).extent.verdict, () => damaged(dataAt, PICTURE_DAMAGED, close));
  if (!/\/(FlateDecode|Fl)\b/.test(filter)) return null;
  try {
    unpackZlib(new BlockReader(new MemorySource(plain)), 0, plain.length, MOST_UNPACKED);
  } catch (error) {
    if (error instanceof TooMuch) return null;
    if (!(error instanceof InflateError)) throw error;
    return damaged(dataAt, "a part of the document cannot be unpacked", close);
  }
  return null;
}

/** Where a byte stands that is none of ASCII base-85 (ISO 32000-1, 7.4.3); -1: there is none. */
function noLetter(reader: BlockReader, from: number, to: number): number {
  for (let at = from; at < to; at += LETTERS_STEP) {
    const bytes = reader.bytes(at, Math.min(LETTERS_STEP, to - at));
    const index = bytes.findIndex((byte) => !(byte >= 0x21 && byte <= 0x75) && byte !== 0x7a && byte !== 0x7e && !isSpace(byte));
    if (index >= 0) return at + index;
  }
  return -1;
}
const LETTERS_STEP = 4096;
/** White space but the byte 0, which counts as such (7.2.3), and stands in letters only where something else was. */
const isSpace = (byte: number) => byte === 9 || byte === 10 || byte === 12 || byte === 13 || byte === 32;

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

/** The plain bytes of a packed stream. */
export function gather(reader: BlockReader, at: number, end: number): Uint8Array {
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

/** Whether a byte of the document stands within the packed stream of the object that begins at `at`: a checksum covers it. */
export function isCheckedStream(reader: BlockReader, at: number, byte: number): boolean {
  const stream = streamAt(reader, at, reader.size);
  if (!stream || byte < stream.dataAt || !/\/Filter\s*(\[\s*)?\/(FlateDecode|Fl)\b/.test(stream.dictionary)) return false;
  try {
    return byte < unpackZlib(reader, stream.dataAt, reader.size, MOST_UNPACKED).end;
  } catch (error) {
    if (error instanceof TooMuch || error instanceof InflateError) return false;
    throw error;
  }
}
