/** Dates and times in names of files and folders: common practice, no published source. All are given as if they were UTC milliseconds. */

const DAY = 24 * 3_600_000;
const EARLIEST = Date.UTC(1980, 0, 1);
const LATEST = Date.UTC(2100, 0, 1);

/** A date that exists; null: there is none such. Months from 1. */
function moment(year: number, month: number, day: number, hour = 0, minute = 0, second = 0): number | null {
  const at = Date.UTC(year, month - 1, day, hour, minute, second);
  const date = new Date(at);
  const same =
    date.getUTCFullYear() === year &&
    date.getUTCMonth() === month - 1 &&
    date.getUTCDate() === day &&
    hour < 24 &&
    minute < 60 &&
    second < 60;
  return same && at >= EARLIEST && at < LATEST ? at : null;
}

const STAMPED = /^(.*) \((\d{4})_(\d\d)_(\d\d) (\d\d)_(\d\d)_(\d\d) UTC\)(\.[^.]*)?$/s;

/** A name with a UTC stamp in it before its extension: the name without it, and the moment; null: it has none. */
export function readStampedName(name: string): { name: string; at: number } | null {
  // Names come by the million, and hardly any has a stamp.
  const found = name.includes(" UTC)") ? STAMPED.exec(name) : null;
  if (!found) return null;
  const [, stem = "", year, month, day, hour, minute, second, extension = ""] = found;
  const at = moment(Number(year), Number(month), Number(day), Number(hour), Number(minute), Number(second));
  return at === null || stem + extension === "" ? null : { name: stem + extension, at };
}

const STATE_FOLDER = /^(\d{4})-(\d\d)-(\d\d)-(\d\d)(\d\d)(\d\d)(\.[A-Za-z]+)?$/;

/** The name of a dated folder, such as 2026-01-31-180500: its local time, and whether it has an ending of its own; null: it is none. */
export function readStateFolder(name: string): { at: number; ending: string } | null {
  const found = STATE_FOLDER.exec(name);
  if (!found) return null;
  const [year = 0, month = 0, day = 0, hour = 0, minute = 0, second = 0] = found.slice(1, 7).map(Number);
  const at = moment(year, month, day, hour, minute, second);
  return at === null ? null : { at, ending: found[7] ?? "" };
}

/** Between the parts of a date; a date of digits alone has none. */
const S = "[-._ /]";
const TIME = /^[T_ -]{0,3}(\d\d)[-._:h]?(\d\d)(?:[-._:]?(\d\d))?(?!\d)/;
const YEAR_FIRST = new RegExp(`(?<!\\d)(\\d{4})(${S})(\\d{1,2})\\2(\\d{1,2})(?!\\d)`, "g");
const DAY_FIRST = new RegExp(`(?<!\\d)(\\d{1,2})(${S})(\\d{1,2})\\2(\\d{4}|\\d\\d)(?!\\d)`, "g");
const DIGITS = /(?<!\d)(\d{4})(\d\d)(\d\d)(?!\d)/g;
const MONTH_ONLY = /(?<!\d)(\d{4})[-._ ](\d\d)(?!\d)(?![-._ ]\d)/g;

/**
 * The last date in a name, in the usual ways of writing one: year first or day first (month first where only that is a date), with
 * separators or of digits alone, with a time behind it; or a year and month alone.
 * @returns the first and the last moment it can mean (the same where it names the time of day), in UTC milliseconds as if its clock were UTC;
 * null: there is none
 */
export function dateInName(name: string): { at: number; end: number; precise: boolean } | null {
  const found: { index: number; at: number; end: number; precise: boolean }[] = [];
  const take = (match: RegExpMatchArray, year: number, month: number, day: number) => {
    const rest = name.slice((match.index ?? 0) + match[0].length);
    const time = TIME.exec(rest);
    const [hour = 0, minute = 0, second = 0] = (time?.slice(1) ?? []).map((part) => Number(part ?? 0));
    const withTime = time && moment(year, month, day, hour, minute, second);
    const at = withTime ?? moment(year, month, day);
    if (at === null) return false;
    const precise = withTime !== null;
    found.push({ index: match.index ?? 0, at, end: precise ? at : at + DAY - 1000, precise });
    return true;
  };
  for (const match of name.matchAll(YEAR_FIRST)) take(match, Number(match[1]), Number(match[3]), Number(match[4]));
  for (const match of name.matchAll(DAY_FIRST)) {
    const [first, second, year] = [Number(match[1]), Number(match[3]), Number(match[4])];
    const full = match[4]?.length === 2 ? 2000 + year : year;
    if (!take(match, full, second, first)) take(match, full, first, second);
  }
  for (const match of name.matchAll(DIGITS)) take(match, Number(match[1]), Number(match[2]), Number(match[3]));
  if (found.length === 0)
    for (const match of name.matchAll(MONTH_ONLY)) {
      const at = moment(Number(match[1]), Number(match[2]), 1);
      if (at !== null)
        found.push({ index: match.index ?? 0, at, end: Date.UTC(Number(match[1]), Number(match[2]), 1) - 1000, precise: false });
    }
  const last = found.sort((a, b) => a.index - b.index).at(-1);
  return last ? { at: last.at, end: last.end, precise: last.precise } : null;
}
