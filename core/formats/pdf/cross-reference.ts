import type { BlockReader } from "../../bytes/block-reader";
import { InflateError, TooMuch } from "../../bytes/inflate";
import { cannotTell, damaged, type Verdict } from "../format";
import { gather, streamAt } from "./streams";
import { PdfSyntax } from "./syntax";
import { DICTIONARY, text } from "./words";

const MOST_ENTRIES = 2_000_000;

/** An object the table names: where it begins in the document, its number and generation. */
export interface ListedObject {
  readonly at: number;
  readonly number: number;
  readonly generation: number;
}

export interface Section {
  /** Why it could not be read, or not to its end. */
  readonly problem: Verdict | null;
  readonly objects: readonly ListedObject[];
  /** Where the section before it stands; null: there is none. */
  readonly before: number | null;
  readonly encrypted: boolean;
}

/** One cross-reference table or stream: whether the objects it names stand where it says. */
export function crossReference(reader: BlockReader, at: number, end: number): Omit<Section, "objects"> {
  const section = sectionAt(reader, at, end);
  for (const { at: place, number, generation } of section.objects)
    if (!objectAt(reader, place, number, generation, end))
      return {
        ...section,
        problem: damaged(Math.min(place, end), `object ${number} is not where the table of contents says`),
      };
  return section;
}

/**
 * Reads one cross-reference table or stream.
 * @param at where it stands for the reader @param base where the document's byte 0 is for the reader
 */
export function sectionAt(reader: BlockReader, at: number, end: number, base = 0): Section {
  const objects: ListedObject[] = [];
  const fail = (problem: Verdict): Section => ({ problem, objects, before: null, encrypted: false });
  const head = text(reader, at, 64);
  if (/^\s*\d+\s+\d+\s+obj/.test(head)) return crossStream(reader, at, end, base);
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
      objects.push({ at: Number(entry.slice(0, 10)), number: first + i, generation: Number(entry.slice(11, 16)) });
    }
  }
  const trailer = text(reader, next, DICTIONARY);
  const body = trailer.slice(0, trailer.indexOf("startxref") + 1 || undefined);
  const dictionary = new PdfSyntax(body.replace(/^\s*trailer/, ""));
  if (!/^\s*trailer/.test(body) || !dictionary.value()) return fail(damaged(next, "the end of the table of contents is damaged"));
  const mixed = /\/XRefStm\s+(\d+)/.exec(body);
  if (mixed && base + Number(mixed[1]) < end) {
    const inner = crossStream(reader, base + Number(mixed[1]), end, base);
    objects.push(...inner.objects);
    if (inner.problem) return { ...inner, objects };
  }
  return { problem: null, objects, before: beforeOf(body, end - base), encrypted: /\/Encrypt\b/.test(body) };
}

function beforeOf(dictionary: string, end: number): number | null {
  const before = Number(/\/Prev\s+(\d+)/.exec(dictionary)?.[1] ?? Number.NaN);
  return before < end ? before : null;
}

function objectAt(reader: BlockReader, at: number, number: number, generation: number, end: number): boolean {
  // A few writers describe objects that were never written: at the very beginning nothing can stand.
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
function crossStream(reader: BlockReader, at: number, end: number, base: number): Section {
  const objects: ListedObject[] = [];
  const fail = (problem: Verdict): Section => ({ problem, objects, before: null, encrypted: false });
  const stream = streamAt(reader, at, end);
  if (!stream) return fail(damaged(at, "the table of contents is damaged"));
  const { dictionary } = stream;
  const widths = /\/W\s*\[\s*(\d+)\s+(\d+)\s+(\d+)\s*\]/.exec(dictionary)?.slice(1).map(Number);
  if (!widths || !/\/Type\s*\/XRef/.test(dictionary)) return fail(damaged(at, "the table of contents is not where the document says"));
  const section = { problem: null, objects, before: beforeOf(dictionary, end - base), encrypted: /\/Encrypt\b/.test(dictionary) };
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
    for (let i = 0; i < (index[part + 1] as number) && row + a + b + c <= rows.length; i += 1, row += a + b + c)
      if (field(row, a, 1) === 1)
        objects.push({ at: field(row + a, b, 0), number: (index[part] as number) + i, generation: field(row + a + b, c, 0) });
  return section;
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
