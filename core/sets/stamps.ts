/** Stamps that programs write into names of files and folders: common practice, no published source. All are given as if they were UTC milliseconds. */

const EARLIEST = Date.UTC(1980, 0, 1);
const LATEST = Date.UTC(2100, 0, 1);

/** A date that exists; null: there is none such. Months from 1. */
export function momentOf(year: number, month: number, day: number, hour = 0, minute = 0, second = 0): number | null {
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
  const at = momentOf(Number(year), Number(month), Number(day), Number(hour), Number(minute), Number(second));
  return at === null || stem + extension === "" ? null : { name: stem + extension, at };
}

const STATE_FOLDER = /^(\d{4})-(\d\d)-(\d\d)-(\d\d)(\d\d)(\d\d)(\.[A-Za-z]+)?$/;

/** The name of a dated folder, such as 2026-01-31-180500: its local time, and whether it has an ending of its own; null: it is none. */
export function readStateFolder(name: string): { at: number; ending: string } | null {
  const found = STATE_FOLDER.exec(name);
  if (!found) return null;
  const [year = 0, month = 0, day = 0, hour = 0, minute = 0, second = 0] = found.slice(1, 7).map(Number);
  const at = momentOf(year, month, day, hour, minute, second);
  return at === null ? null : { at, ending: found[7] ?? "" };
}
