import { parse } from "chrono-node/en";
import type { Moment } from "./account";

const DAY = 86_400_000;
/** What counts as near the moment somebody names without a date: half the distance, within these bounds. Days. */
const LEAST_DAYS = 1;
const MOST_DAYS = 120;
const ROUGH = /\b(about|around|roughly|some|maybe|perhaps|circa|or so|ago)\b/i;
const COUNTED = /\bago\b/i;

/**
 * What a client says of a time ("about two weeks ago", "in March", "12 March", "2026-03-12") as a stretch of time.
 * @param now the moment it was said, UTC milliseconds
 * @returns null when it cannot be understood
 */
export function roughMoment(text: string, now: number): (Moment & { from: number; to: number }) | null {
  const said = text.trim();
  if (said === "") return null;
  const year = /^(?:in\s+)?(\d{4})$/i.exec(said)?.[1];
  if (year) return { text: said, from: Date.UTC(Number(year), 0, 1), to: Date.UTC(Number(year) + 1, 0, 1) - 1 };
  const [found] = parse(said.replace(/\bbetween (.+?) and /i, "$1 to "), { instant: new Date(now), timezone: 0 }, { forwardDate: false });
  if (!found) return null;
  const time = found.start.date().getTime();
  const [monthKnown, dayKnown, hourKnown] = (["month", "day", "hour"] as const).map((part) => found.start.isCertain(part));
  if (found.end) return span(said, startOfDay(time), startOfDay(found.end.date().getTime()) + DAY - 1);
  if (monthKnown && !dayKnown) {
    const date = new Date(time);
    // A month that is still to come was meant a year ago.
    const years = Date.UTC(date.getUTCFullYear(), date.getUTCMonth(), 1) > now ? 1 : 0;
    const from = Date.UTC(date.getUTCFullYear() - years, date.getUTCMonth(), 1);
    return span(said, from, Date.UTC(date.getUTCFullYear() - years, date.getUTCMonth() + 1, 1) - 1);
  }
  const past = time > now + DAY && !/\d{4}/.test(said) ? yearBefore(time) : time;
  if (ROUGH.test(said) || (COUNTED.test(said) && !hourKnown)) {
    const margin = Math.min(MOST_DAYS, Math.max(LEAST_DAYS, Math.abs(now - past) / DAY / 4)) * DAY;
    return span(said, startOfDay(past - margin), Math.min(now, startOfDay(past + margin) + DAY - 1));
  }
  return span(said, startOfDay(past), startOfDay(past) + DAY - 1);
}

const startOfDay = (time: number) => Math.floor(time / DAY) * DAY;
const span = (text: string, from: number, to: number) => ({ text, from, to: Math.max(from, to) });

function yearBefore(time: number): number {
  const date = new Date(time);
  date.setUTCFullYear(date.getUTCFullYear() - 1);
  return date.getTime();
}
