import { extensionOf, FORMATS } from "../../formats/registry";
import { stemOf } from "../column-names";
import type { RowsByNumber } from "../rows-by-number";
import { recogniseTimes, type TimeForm } from "../times";
import type { RecordRow, RecordTable } from "./table";

/** What the values of a column are, by what stands in them. Shares are of its texts, 0 to 1. */
export interface ColumnFacts {
  readonly name: string;
  /** How many of the rows looked at have a value. */
  readonly filled: number;
  readonly time: TimeForm | null;
  readonly integers: boolean;
  /** How many different numbers there are. */
  readonly differentNumbers: number;
  /** Share of texts among the values. */
  readonly texts: number;
  /** Share of the texts that differ, and how many do. */
  readonly distinct: number;
  readonly different: number;
  /** Letters of a text, as a mean. */
  readonly length: number;
  /** Texts of several words. */
  readonly worded: number;
  readonly addresses: number;
  readonly hosts: number;
  /** Mail addresses and telephone numbers. */
  readonly reached: number;
  readonly fileNames: number;
  readonly paths: number;
  /** Numbers and letters nobody reads: what names a row for the application. */
  readonly coded: number;
}

/** Rows of a table that are looked at, evenly over all of it. */
export const SAMPLED = 1_000;
/** Columns of a table that are looked at. */
const MOST_COLUMNS = 200;
/** Characters of a text that are looked at. */
const LOOKED_AT = 400;

// A web address (RFC 3986, scheme and authority), a host name (RFC 1123, with a top-level domain), a mail address in its usual form (RFC 5321), a telephone number as it is written.
const ADDRESS = /^[a-z][a-z0-9+.-]{1,15}:\/\/[^\s/]/i;
const HOST = /^\.?(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z]{2,24}$/i;
const MAIL = /^[^\s@]{1,64}@[^\s@]{1,255}$/;
const TELEPHONE = /^\+?[0-9][0-9 ()/.-]{5,20}$/;
const FILE_NAME = /^[^/\\:*?"<>|\r\n]{1,200}\.[a-z][a-z0-9]{1,4}$/i;
const PATH = /^(?:[a-z]:\\|\\\\|\/|~\/|file:\/\/)[^\r\n]+$/i;
const CODED = /^(?=.*\d)[0-9a-f-]{8,}$|^[0-9A-Z_-]{12,}$/i;

/** Extensions files have. Many a host name ends in one that is a top-level domain, too. */
const EXTENSIONS = new Set(FORMATS.flatMap(({ extensions }) => extensions));
/** Whether a name is one of a file: a plain one might as well be a host's, unless files have such an ending. */
const isFileName = (text: string) => FILE_NAME.test(text) && !MAIL.test(text) && (EXTENSIONS.has(extensionOf(text)) || !HOST.test(text));
const isHost = (text: string) => HOST.test(text) && !EXTENSIONS.has(extensionOf(text));

const ending = (text: string) => /\.[a-z][a-z0-9]{1,4}$/i.test(text);

/** Looks at the values of each column of a table. @param now seconds since 1970 */
export function describeColumns({ columns, rows }: RecordTable, now: number): ColumnFacts[] {
  const step = Math.max(1, Math.floor(rows.length / SAMPLED));
  const sample = Array.from({ length: Math.min(SAMPLED, Math.ceil(rows.length / step)) }, (_, i) => rows.at(i * step) as RecordRow);
  return columns.slice(0, MOST_COLUMNS).map((name, column) => {
    const values = sample.map((row) => row.values[column]).filter((value) => value !== undefined && value !== null && value !== "");
    const numbers = values.filter((value): value is number | bigint => typeof value === "number" || typeof value === "bigint");
    const texts = values.filter((value): value is string => typeof value === "string").map((text) => text.slice(0, LOOKED_AT).trim());
    const share = (fits: (text: string) => boolean) => (texts.length === 0 ? 0 : texts.filter(fits).length / texts.length);
    return {
      name,
      filled: values.length,
      time: numbers.length === values.length ? recogniseTimes(numbers, now) : null,
      integers: numbers.length > 0 && numbers.length === values.length && numbers.every((number) => Number.isInteger(Number(number))),
      differentNumbers: new Set(numbers.map(String)).size,
      texts: values.length === 0 ? 0 : texts.length / values.length,
      distinct: texts.length === 0 ? 0 : new Set(texts).size / texts.length,
      different: new Set(texts).size,
      length: texts.length === 0 ? 0 : texts.reduce((sum, text) => sum + text.length, 0) / texts.length,
      worded: share((text) => /\S\s+\S/.test(text)),
      addresses: share((text) => ADDRESS.test(text) && !text.toLowerCase().startsWith("file:")),
      hosts: share(isHost),
      reached: share((text) => MAIL.test(text) || TELEPHONE.test(text)),
      fileNames: share(isFileName),
      paths: share((text) => PATH.test(text) && ending(text)),
      coded: share((text) => CODED.test(text)),
    };
  });
}

/** Most of the numbers in a column that must be those of rows of the table it leads to: rows may be gone. */
const LED = 0.5;

/** How strongly a name says that a column leads to a table: 2 as a whole, 1 by its end, 0 not at all. */
export function leadsByName(column: string, table: string): number {
  const [one, other] = [stemOf(column), stemOf(table)];
  if (one === "" || other === "") return 0;
  if (one === other) return 2;
  return one.endsWith(other) || other.endsWith(`_${one}`) ? 1 : 0;
}

/** The share of a column's numbers that are numbers of rows of a table, 0 to 1; 0 when none stands there. */
export function shareOfRows({ rows }: RecordTable, column: number, numbers: RowsByNumber): number {
  const step = Math.max(1, Math.floor(rows.length / SAMPLED));
  let [hits, all] = [0, 0];
  for (let i = 0; i < rows.length; i += step) {
    const value = rows.valueAt(i, column);
    if ((typeof value !== "number" && typeof value !== "bigint") || value === 0) continue;
    all += 1;
    if (numbers.has(value)) hits += 1;
  }
  const share = all === 0 ? 0 : hits / all;
  return share >= LED ? share : 0;
}
