/** A stretch of time, UTC milliseconds. */
export interface Span {
  readonly start: number;
  readonly end: number;
}

const DAY = 86_400_000;
const YEAR = 365.25 * DAY;
const SHORTEST = DAY / 4;
/** Steps an axis may be divided by, in months (from one) or days (below). */
const STEPS: readonly { months?: number; days?: number }[] = [
  { days: 1 },
  { days: 7 },
  { months: 1 },
  { months: 3 },
  { months: 12 },
  { months: 24 },
  { months: 60 },
  { months: 120 },
];

/**
 * The span that shows nearly all items well: from the first year that is not an outlier to the loss or the newest.
 * @param years how many items were last changed in each year
 */
export function fittingSpan(years: readonly { value: string; count: number }[], loss: number | null): Span {
  const known = years
    .filter((year) => /^\d{4}$/.test(year.value))
    .map((year) => ({ year: Number(year.value), count: year.count }))
    .sort((a, b) => a.year - b.year);
  const now = loss ?? Date.now();
  if (known.length === 0) return { start: now - YEAR, end: now + YEAR / 24 };
  const total = known.reduce((sum, each) => sum + each.count, 0);
  let passed = 0;
  // Dates set by wrong clocks lie far off; a fiftieth of the items may fall outside the axis at either end.
  const first = known.find((each) => {
    passed += each.count;
    return passed > total / 50;
  });
  passed = 0;
  const last = [...known].reverse().find((each) => {
    passed += each.count;
    return passed > total / 50;
  });
  const start = Date.UTC(first?.year ?? 1970, 0, 1);
  const end = Math.max(
    Math.min(Date.UTC((last?.year ?? 2000) + 1, 0, 1), Math.max(now, Date.UTC(last?.year ?? 2000, 0, 1)) + YEAR / 2),
    loss ? loss + 30 * DAY : 0,
  );
  return { start, end: Math.max(end, start + 30 * DAY) };
}

/** Where a moment stands on an axis of this width, in pixels; may lie outside. */
export const placeOf = (at: number, span: Span, width: number) => ((at - span.start) / (span.end - span.start)) * width;

/** Zooms around a moment; a factor below 1 goes nearer. */
export function zoomedSpan(span: Span, factor: number, around: number): Span {
  const length = Math.min(200 * YEAR, Math.max(SHORTEST, (span.end - span.start) * factor));
  const share = (around - span.start) / (span.end - span.start);
  const start = around - share * length;
  return { start, end: start + length };
}

/** The marks of the axis: a moment and its words each, far enough apart to be read. */
export function ticks(span: Span, width: number, room = 44): { at: number; words: string }[] {
  const most = Math.max(1, Math.floor(width / room));
  const days = (span.end - span.start) / DAY;
  const step = STEPS.find((each) => days / (each.days ?? (each.months ?? 1) * 30.4) <= most) ?? { months: 240 };
  const found: { at: number; words: string }[] = [];
  const from = new Date(span.start);
  if (step.days) {
    const first = Math.ceil(span.start / DAY) * DAY;
    for (let at = first; at < span.end; at += step.days * DAY) found.push({ at, words: dayWords(at) });
    return found;
  }
  const months = step.months ?? 12;
  let count = Math.ceil((from.getUTCFullYear() * 12 + from.getUTCMonth()) / months) * months;
  for (; ; count += months) {
    const at = Date.UTC(Math.floor(count / 12), count % 12, 1);
    if (at >= span.end) return found;
    if (at >= span.start) found.push({ at, words: months >= 12 || count % 12 === 0 ? String(Math.floor(count / 12)) : monthWords(at) });
  }
}

const dayWords = (at: number) => new Date(at).toLocaleDateString("en-GB", { day: "numeric", month: "short", timeZone: "UTC" });
const monthWords = (at: number) => new Date(at).toLocaleDateString("en-GB", { month: "short", timeZone: "UTC" });
