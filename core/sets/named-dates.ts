import { monthOfWord } from "./month-words";
import { momentOf } from "./stamps";

/**
 * Dates that people write into names of files and folders, in the usual ways: common practice, no published source. All moments are UTC milliseconds
 * as if the clock of the writer were UTC.
 */

const DAY = 24 * 3_600_000;

/** In which order the parts of a date of numbers stand, the likeliest first. */
const ORDERS = ["day-first", "month-first", "year-first"] as const;
type DateOrder = (typeof ORDERS)[number];

/** What a date in a name can mean. */
export interface NamedDate {
  /** The first and the last moment it can mean: the same where it names the time of day. */
  readonly at: number;
  readonly end: number;
  /** It names the time of day. */
  readonly precise: boolean;
  /** How it is read, where it is of numbers alone that may be read otherwise. */
  readonly order: DateOrder | null;
}

/** A date where it stands in a name, to behind the time that follows it, with all it can mean, likeliest first. */
interface Found {
  readonly start: number;
  readonly end: number;
  readonly readings: readonly NamedDate[];
}

const TIME = /^[T_ -]{0,3}(\d\d)[-._:h]?(\d\d)(?:[-._:]?(\d\d))?(?!\d)/;

/** The day, or the time of that day that stands behind it; null: there is no such day. */
function dayOf(rest: string, year: number, month: number, day: number, order: DateOrder | null = null): NamedDate | null {
  const time = TIME.exec(rest);
  const [hour = 0, minute = 0, second = 0] = (time?.slice(1) ?? []).map((part) => Number(part ?? 0));
  const withTime = time && momentOf(year, month, day, hour, minute, second);
  const at = withTime ?? momentOf(year, month, day);
  if (at === null) return null;
  const precise = withTime !== null;
  return { at, end: precise ? at : at + DAY - 1000, precise, order };
}

function monthOf(year: number, month: number): NamedDate | null {
  const at = momentOf(year, month, 1);
  return at === null ? null : { at, end: Date.UTC(year, month, 1) - 1000, precise: false, order: null };
}

/** A year of two digits is one of this century. */
const fullYear = (digits: string): number => (digits.length === 2 ? 2000 + Number(digits) : Number(digits));

/** The days that three numbers can mean, by the orders they can stand in. */
function daysOf(rest: string, parts: readonly [string, string, string], orders: readonly DateOrder[]): (NamedDate | null)[] {
  const [a, b, c] = parts;
  return orders.map((order) => {
    if (order === "year-first") return dayOf(rest, fullYear(a), Number(b), Number(c), order);
    return order === "day-first"
      ? dayOf(rest, fullYear(c), Number(b), Number(a), order)
      : dayOf(rest, fullYear(c), Number(a), Number(b), order);
  });
}

interface Form {
  readonly pattern: RegExp;
  /** @param rest what stands behind the date */
  read(match: RegExpMatchArray, rest: string): (NamedDate | null)[];
}

/** Between the numbers of a date; behind a point or a comma a space may follow. */
const S = "(?:[-_/ ]|\\. ?)";
/** Accents may stand behind their letters, as names on Mac volumes have them. */
const WORD = "([\\p{L}\\p{M}]{3,})\\.?";
const ORDINAL = "(?:st|nd|rd|th|er|\\.|º)?";
const OF = "(?:de |di |of )?";
const GAP = "[-._ ,]{0,2}";
const FORMS: readonly Form[] = [
  {
    pattern: new RegExp(`(?<!\\d)(\\d{4})(${S})(\\d{1,2})\\2(\\d{1,2})(?!\\d)`, "gu"),
    read: ([, year, , month, day], rest) => [dayOf(rest, Number(year), Number(month), Number(day))],
  },
  {
    pattern: new RegExp(`(?<!\\d)(\\d{1,2})(${S})(\\d{1,2})\\2(\\d{4}|\\d\\d)(?!\\d)`, "gu"),
    read: ([, a = "", separator = "", b = "", c = ""], rest) => {
      const years: DateOrder[] = c.length === 2 && a.length === 2 ? ["year-first"] : [];
      const days = daysOf(rest, [a, b, c], ["day-first"]);
      // Between points the day stands before the month wherever that is a date.
      const orders: DateOrder[] = separator.startsWith(".") && days[0] ? [] : ["month-first"];
      return [...days, ...daysOf(rest, [a, b, c], [...orders, ...years])];
    },
  },
  {
    pattern: /(?<!\d)(\d{4})(\d\d)(\d\d)(?!\d)/gu,
    read: ([digits = "", year = "", month = "", day = ""], rest) => {
      const first = dayOf(rest, Number(year), Number(month), Number(day));
      return first ? [first] : daysOf(rest, [digits.slice(0, 2), digits.slice(2, 4), digits.slice(4)], ["day-first", "month-first"]);
    },
  },
  {
    pattern: /(?<!\d)(\d{4})\s?[年년]\s?(\d{1,2})\s?[月월]\s?(\d{1,2})\s?[日일]/gu,
    read: ([, year, month, day], rest) => [dayOf(rest, Number(year), Number(month), Number(day))],
  },
  {
    pattern: new RegExp(`(?<!\\d)(\\d{1,2})${ORDINAL}${GAP}${OF}${WORD}${GAP}${OF}(\\d{4}|'?\\d\\d)(?!\\d)`, "giu"),
    read: ([, day, word = "", year = ""], rest) => [
      dayOf(rest, fullYear(year.replace("'", "")), monthOfWord(word, true) ?? 0, Number(day)),
    ],
  },
  {
    pattern: new RegExp(`(?<![\\p{L}\\p{M}])${WORD}${GAP}(\\d{1,2})${ORDINAL}[-._ ,]{1,2}(\\d{4})(?!\\d)`, "giu"),
    read: ([, word = "", day, year], rest) => [dayOf(rest, Number(year), monthOfWord(word, true) ?? 0, Number(day))],
  },
  {
    pattern: new RegExp(`(?<!\\d)(\\d{4})${GAP}${WORD}${GAP}(\\d{1,2})(?!\\d)`, "giu"),
    read: ([, year, word = "", day], rest) => [dayOf(rest, Number(year), monthOfWord(word, true) ?? 0, Number(day))],
  },
];
/** Of a year and a month alone, and of six digits: read where a name has no fuller date. */
const LESSER_FORMS: readonly Form[] = [
  {
    pattern: /(?<!\d)(\d{4})[-._ ](\d\d)(?!\d)(?![-._ ]\d)/gu,
    read: ([, year, month]) => [monthOf(Number(year), Number(month))],
  },
  {
    pattern: /(?<![\d][-._ /]?)(\d{1,2})[-._/](\d{4})(?!\d)/gu,
    read: ([, month, year]) => [monthOf(Number(year), Number(month))],
  },
  {
    pattern: new RegExp(`(?<![\\p{L}\\p{M}])${WORD}${GAP}${OF}(\\d{4})(?!\\d)`, "giu"),
    read: ([, word = "", year]) => [monthOf(Number(year), monthOfWord(word, false) ?? 0)],
  },
  {
    pattern: new RegExp(`(?<!\\d)(\\d{4})${GAP}${WORD}(?![\\p{L}\\p{M}])`, "giu"),
    read: ([, year, word = ""]) => [monthOf(Number(year), monthOfWord(word, false) ?? 0)],
  },
  {
    pattern: /(?<!\d)(\d\d)(\d\d)(\d\d)(?!\d)/gu,
    read: ([, a = "", b = "", c = ""], rest) => daysOf(rest, [a, b, c], ORDERS).map((day) => (day && day.at <= Date.now() ? day : null)),
  },
];
/** Names are no longer than this on any disk. */
const LONGEST = 1024;

/** The dates of a name in its order. The time behind one is not the next one. */
function datesBy(forms: readonly Form[], name: string): Found[] {
  const all = forms.flatMap(({ pattern, read }) =>
    [...name.matchAll(pattern)].flatMap((match): Found[] => {
      const end = match.index + match[0].length;
      const rest = name.slice(end);
      const readings = read(match, rest).filter((reading) => reading !== null);
      const time = readings[0]?.precise ? (TIME.exec(rest)?.[0].length ?? 0) : 0;
      return readings.length > 0 ? [{ start: match.index, end: end + time, readings }] : [];
    }),
  );
  const kept: Found[] = [];
  for (const each of all.sort((a, b) => a.start - b.start || b.end - a.end)) if (each.start >= (kept.at(-1)?.end ?? 0)) kept.push(each);
  return kept;
}

function findDates(name: string): Found[] {
  const text = name.slice(0, LONGEST);
  // Names come by the million.
  if (!/\d/.test(text)) return [];
  const full = datesBy(FORMS, text);
  return full.length > 0 ? full : datesBy(LESSER_FORMS, text);
}

/** All that the last date in a name can mean, likeliest first: a day, a day with a time, or a month. */
export const datesInName = (name: string): readonly NamedDate[] => findDates(name).at(-1)?.readings ?? [];

/** What the last date in a name means, days before months where both orders would do; null: there is none. */
export const dateInName = (name: string): NamedDate | null => datesInName(name)[0] ?? null;

/** A name without the dates in it, and the times behind them. */
export function withoutDates(name: string): string {
  let text = name;
  for (const { start, end } of findDates(name).reverse()) text = text.slice(0, start) + text.slice(end);
  return text;
}

/** A name with a date in it, and what is known of when it was given. */
interface Dated {
  readonly name: string;
  /** UTC milliseconds; null: nothing is known. */
  readonly known: number | null;
}

/**
 * Reads dates in the names of things that one person or program named alike: all in one order. Of several orders that one counts in which the fewest
 * names say what cannot be, and then the one that is nearest to what is known.
 * @param gap how far a date is from what is known; `Infinity`: it cannot be
 * @returns for each the date it has, and what else it could mean as well
 */
export function readDates(
  all: readonly Dated[],
  gap: (date: NamedDate, known: number) => number,
): { date: NamedDate | null; others: NamedDate[] }[] {
  const read = all.map(({ name, known }) => ({ known, readings: datesInName(name) }));
  const scored = ORDERS.map((order) => {
    let [wrong, far] = [0, 0];
    for (const { known, readings } of read) {
      if (readings.length === 0 || readings[0]?.order === null) continue;
      const own = readings.find((reading) => reading.order === order);
      const off = own && known !== null ? gap(own, known) : 0;
      if (!own || off === Number.POSITIVE_INFINITY) wrong += 1;
      else far += off;
    }
    return { order, wrong, far };
  });
  // Where nothing speaks for one, the first is likeliest: sorting keeps their order.
  const [best] = [...scored].sort((a, b) => a.wrong - b.wrong || a.far - b.far);
  const asGood = scored.filter(({ wrong }) => wrong === best?.wrong).map(({ order }) => order);
  return read.map(({ readings }) => {
    const date = readings.find(({ order }) => order === best?.order) ?? readings[0] ?? null;
    const others = readings.filter(({ at, order }) => order !== null && asGood.includes(order) && at !== date?.at);
    return { date, others };
  });
}
