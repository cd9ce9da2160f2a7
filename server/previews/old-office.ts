import cfb from "cfb";
import iconv from "iconv-lite";
import WordExtractor from "word-extractor";
import type { TablesPreview } from "./contract";
import { asTable } from "./sheet-table";

/** The streams of a compound file by their names ([MS-CFB]). @throws Error when it is none */
function streams(bytes: Buffer): Map<string, Uint8Array> {
  const { FileIndex } = cfb.read(bytes, { type: "buffer" });
  return new Map(FileIndex.filter(({ type }) => type === 2).map(({ name, content }) => [name, Uint8Array.from(content ?? [])]));
}

/** The words of an old word-processor document, with notes and headers after its body. */
export async function docWords(bytes: Buffer): Promise<string> {
  const document = await new WordExtractor().extract(bytes);
  return [document.getBody(), document.getFootnotes(), document.getEndnotes(), document.getTextboxes()].filter(Boolean).join("\n\n").trim();
}

/** [MS-PPT] 2.13.24 RecordType: containers have version 15; text stands in atoms of these types. */
const PPT = { chars: 0x0fa0, bytes: 0x0fa8, title: 0x0fba } as const;
const MOST_DEPTH = 16;

/** The words of an old presentation, in the order in which its stream keeps them. */
export function pptWords(bytes: Buffer): string {
  const stream = streams(bytes).get("PowerPoint Document");
  if (!stream) throw new Error("no presentation in it");
  const view = new DataView(stream.buffer, stream.byteOffset, stream.length);
  const words: string[] = [];
  const walk = (from: number, end: number, depth: number) => {
    // [MS-PPT] 2.3.1 RecordHeader: version and instance, type, length.
    for (let at = from; at + 8 <= end; ) {
      const [version, type, length] = [view.getUint16(at, true) & 15, view.getUint16(at + 2, true), view.getUint32(at + 4, true)];
      const next = at + 8 + length;
      if (next > end) return;
      if (version === 15 && depth < MOST_DEPTH) walk(at + 8, next, depth + 1);
      else if (type === PPT.chars) words.push(new TextDecoder("utf-16le").decode(stream.subarray(at + 8, next)));
      else if (type === PPT.bytes) words.push(new TextDecoder("latin1").decode(stream.subarray(at + 8, next)));
      at = next;
    }
  };
  walk(0, stream.length, 0);
  return words
    .map((text) => text.replaceAll("\r", "\n").replaceAll("\v", "\n").trim())
    .filter(Boolean)
    .join("\n\n");
}

/** [MS-XLS] 2.3: the records of a workbook that hold cells. */
const XLS = {
  continue: 0x003c,
  boundSheet: 0x0085,
  strings: 0x00fc,
  stringCell: 0x00fd,
  label: 0x0204,
  /** Of the version before: a text with fonts of its own. */
  richLabel: 0x00d6,
  codePage: 0x0042,
  number: 0x0203,
  rk: 0x027e,
  manyRk: 0x00bd,
  formula: 0x0006,
  formulaText: 0x0207,
  bool: 0x0205,
  format: 0x041e,
  cellFormat: 0x00e0,
  protection: 0x002f,
  bof: 0x0809,
  eof: 0x000a,
} as const;
const MOST_STRINGS = 1 << 20;
const MOST_COLUMNS = 256;
/** What a workbook's first record calls its version: texts say how wide their characters are, or are bytes of the workbook's code page. */
const VERSIONS = { wide: 0x0600, bytes: 0x0500 } as const;

interface Record {
  readonly at: number;
  readonly type: number;
  /** The record's own bytes, then those of the records that continue it. */
  readonly parts: readonly Uint8Array[];
}

/** The tables of an old workbook: versions 8 ([MS-XLS]) and 5 of its records. */
export function xlsTables(bytes: Buffer, most: number, mostTables: number): TablesPreview {
  const all = streams(bytes);
  const stream = all.get("Workbook") ?? all.get("Book");
  if (!stream) throw new Error("no workbook in it");
  const records = [...recordsOf(stream)];
  const version = records[0] && numberAt(records[0].parts[0] as Uint8Array, 0, 2);
  if (version !== VERSIONS.wide && version !== VERSIONS.bytes)
    return { tables: [], problem: "This workbook is of a version whose cells are not read here: restore it to open it." };
  if (records.some(({ type }) => type === XLS.protection))
    return { tables: [], problem: "This workbook is protected by a password: its cells stay closed." };
  const texts = version === VERSIONS.wide ? WIDE_TEXTS : byteTexts(records);
  const strings = sharedStrings(records);
  const isDate = dateFormats(records, texts);
  const names = new Map<number, string>();
  for (const { type, parts } of records)
    if (type === XLS.boundSheet) names.set(numberAt(parts[0] as Uint8Array, 0, 4), texts.short((parts[0] as Uint8Array).subarray(6)));
  const tables: TablesPreview["tables"] = [];
  for (const [start, name] of names) {
    if (tables.length >= mostTables) break;
    const rows = cellsOf(records, start, { strings, texts, isDate }, most);
    tables.push(asTable(name, rows, rows.length, most));
  }
  return { tables, problem: null };
}

const numberAt = (bytes: Uint8Array, at: number, length: 1 | 2 | 4): number => {
  let value = 0;
  for (let i = length - 1; i >= 0; i -= 1) value = value * 256 + (bytes[at + i] ?? 0);
  return value;
};
const floatAt = (bytes: Uint8Array, at: number): number =>
  at + 8 <= bytes.length ? new DataView(bytes.buffer, bytes.byteOffset + at, 8).getFloat64(0, true) : Number.NaN;

function* recordsOf(stream: Uint8Array): Generator<Record, void, void> {
  let open: { at: number; type: number; parts: Uint8Array[] } | null = null;
  for (let at = 0; at + 4 <= stream.length; ) {
    const [type, length] = [numberAt(stream, at, 2), numberAt(stream, at + 2, 2)];
    const body = stream.subarray(at + 4, at + 4 + length);
    if (type === XLS.continue && open) open.parts.push(body);
    else {
      if (open) yield open;
      open = { at, type, parts: [body] };
    }
    at += 4 + length;
  }
  if (open) yield open;
}

/** How the texts of a workbook's records are read: a length in one byte (of a sheet) or two (of a cell, a format), then characters. */
interface Texts {
  short(bytes: Uint8Array): string;
  long(bytes: Uint8Array): string;
  readonly formatsAreShort?: true;
}

/** 2.5.240 ShortXLUnicodeString, 2.5.294 XLUnicodeString: behind the length, one byte says how wide the characters are. */
const WIDE_TEXTS: Texts = {
  short: (bytes) => characters(bytes.subarray(2), bytes[0] ?? 0, ((bytes[1] ?? 0) & 1) === 1),
  long: (bytes) => characters(bytes.subarray(3), numberAt(bytes, 0, 2), ((bytes[2] ?? 0) & 1) === 1),
};

/** The version before (from memory): characters are bytes of the code page a record of the workbook names. A format's length is one byte. */
function byteTexts(records: readonly Record[]): Texts {
  const page = records.find(({ type }) => type === XLS.codePage);
  const number = page ? numberAt(page.parts[0] as Uint8Array, 0, 2) : 1252;
  const name = number === 0x8000 || number === 10_000 ? "macroman" : `cp${number}`;
  const decode = (bytes: Uint8Array) => iconv.decode(Buffer.from(bytes), iconv.encodingExists(name) ? name : "cp1252");
  return {
    short: (bytes) => decode(bytes.subarray(1, 1 + (bytes[0] ?? 0))),
    long: (bytes) => decode(bytes.subarray(2, 2 + numberAt(bytes, 0, 2))),
    formatsAreShort: true,
  };
}

const characters = (bytes: Uint8Array, count: number, wide: boolean) =>
  wide ? new TextDecoder("utf-16le").decode(bytes.subarray(0, count * 2)) : new TextDecoder("latin1").decode(bytes.subarray(0, count));

/** 2.4.265 SST: all strings of the workbook; one may go on in the next record, whose first byte says anew how wide its characters are. */
function sharedStrings(records: readonly Record[]): string[] {
  const found: string[] = [];
  const record = records.find(({ type }) => type === XLS.strings);
  if (!record) return found;
  const { parts } = record;
  let [part, at] = [0, 8];
  const own = () => parts[part] ?? new Uint8Array();
  const settle = () => {
    while (at >= own().length && part < parts.length) {
      at -= own().length;
      part += 1;
    }
  };
  const take = (length: 1 | 2 | 4): number => {
    settle();
    const value = numberAt(own(), at, length);
    at += length;
    return value;
  };
  const count = Math.min(MOST_STRINGS, numberAt(own(), 4, 4));
  while (found.length < count && part < parts.length) {
    settle();
    const length = take(2);
    const flags = take(1);
    const runs = flags & 8 ? take(2) : 0;
    const extra = flags & 4 ? take(4) : 0;
    let wide = (flags & 1) === 1;
    let text = "";
    for (let left = length; left > 0 && part < parts.length; ) {
      if (at >= own().length) {
        at = 0;
        part += 1;
        wide = (take(1) & 1) === 1;
        continue;
      }
      const fits = Math.min(left, Math.floor((own().length - at) / (wide ? 2 : 1)));
      if (fits === 0) break;
      text += characters(own().subarray(at), fits, wide);
      at += fits * (wide ? 2 : 1);
      left -= fits;
    }
    found.push(text);
    at += runs * 4 + extra;
  }
  return found;
}

/** Formats 14 to 22 and 45 to 47 are dates and times (2.4.126 Format); of others their own letters decide. */
function dateFormats(records: readonly Record[], texts: Texts): (cellFormat: number) => boolean {
  const own = new Map<number, string>();
  const used: number[] = [];
  for (const { type, parts } of records) {
    const body = parts[0] as Uint8Array;
    if (type === XLS.format) own.set(numberAt(body, 0, 2), (texts.formatsAreShort ? texts.short : texts.long)(body.subarray(2)));
    if (type === XLS.cellFormat) used.push(numberAt(body, 2, 2));
  }
  return (cellFormat) => {
    const format = used[cellFormat] ?? 0;
    if ((format >= 14 && format <= 22) || (format >= 45 && format <= 47)) return true;
    return /[dmyhs]/i.test((own.get(format) ?? "").replace(/\[[^\]]*\]|"[^"]*"|\\./g, ""));
  };
}

const DAY = 86_400_000;
/** Day 1 of a workbook is 1 January 1900; it takes 1900 for a leap year. */
const EPOCH = Date.UTC(1899, 11, 30);

function cellsOf(
  records: readonly Record[],
  start: number,
  { strings, texts, isDate }: { strings: readonly string[]; texts: Texts; isDate: (format: number) => boolean },
  most: number,
): unknown[][] {
  const rows: unknown[][] = [];
  const set = (row: number, column: number, value: unknown) => {
    if (row >= most || column >= MOST_COLUMNS) return;
    while (rows.length <= row) rows.push([]);
    (rows[row] as unknown[])[column] = value;
  };
  const shown = (value: number, format: number) =>
    isDate(format) && value >= 0 && value < 3e6 ? new Date(EPOCH + Math.round(value * DAY)) : rounded(value);
  let waiting: [number, number] | null = null;
  const first = records.findIndex(({ at }) => at === start);
  for (let index = first; index >= 0 && index < records.length; index += 1) {
    const { type, parts } = records[index] as Record;
    const body = parts[0] as Uint8Array;
    if (type === XLS.eof) break;
    const [row, column, format] = [numberAt(body, 0, 2), numberAt(body, 2, 2), numberAt(body, 4, 2)];
    if (type === XLS.stringCell) set(row, column, strings[numberAt(body, 6, 4)] ?? "");
    else if (type === XLS.label || type === XLS.richLabel) set(row, column, texts.long(body.subarray(6)));
    else if (type === XLS.number) set(row, column, shown(floatAt(body, 6), format));
    else if (type === XLS.rk) set(row, column, shown(rkNumber(numberAt(body, 6, 4)), format));
    else if (type === XLS.bool) set(row, column, body[7] ? "#" : body[6] ? "TRUE" : "FALSE");
    else if (type === XLS.manyRk)
      for (let at = 4, each = column; at + 6 <= body.length - 2; at += 6, each += 1)
        set(row, each, shown(rkNumber(numberAt(body, at + 2, 4)), numberAt(body, at, 2)));
    else if (type === XLS.formula) {
      // 2.5.133 FormulaValue: a number, or what its first byte says where the last two are all ones; a text follows in a record of its own.
      if (numberAt(body, 12, 2) !== 0xffff) set(row, column, shown(floatAt(body, 6), format));
      else if (body[6] === 0) waiting = [row, column];
      else if (body[6] === 1) set(row, column, body[8] ? "TRUE" : "FALSE");
    } else if (type === XLS.formulaText && waiting) {
      set(...waiting, texts.long(body));
      waiting = null;
    }
  }
  return rows.map((row) => Array.from(row, (cell) => cell ?? ""));
}

/** What binary fractions do not show exactly is shown as it was typed. */
const rounded = (value: number) => Number(value.toPrecision(15));

/** 2.5.217 RkNumber: 30 bits of a number; the lowest two say whether it is whole, and whether it stands for a hundredth. */
function rkNumber(rk: number): number {
  const bits = new DataView(new ArrayBuffer(8));
  bits.setUint32(0, (rk & ~3) >>> 0);
  const value = rk & 2 ? (rk | 0) >> 2 : bits.getFloat64(0);
  return rk & 1 ? value / 100 : value;
}
