/** A way to count time: from when, and how many of its units a second has. */
export interface TimeForm {
  readonly id: string;
  /** As it is said to a person. */
  readonly words: string;
  /** Seconds from 1970-01-01 UTC to its beginning. */
  readonly epoch: number;
  readonly perSecond: number;
}

const SINCE_1601 = -11_644_473_600;
const SINCE_2001 = 978_307_200;

/** The ways applications count time. Common practice, no published source for all of them; the beginnings are calendar arithmetic. */
export const TIME_FORMS: readonly TimeForm[] = [
  { id: "s-1970", words: "seconds since 1970", epoch: 0, perSecond: 1 },
  { id: "ms-1970", words: "milliseconds since 1970", epoch: 0, perSecond: 1e3 },
  { id: "us-1970", words: "microseconds since 1970", epoch: 0, perSecond: 1e6 },
  { id: "ns-1970", words: "nanoseconds since 1970", epoch: 0, perSecond: 1e9 },
  { id: "us-1601", words: "microseconds since 1601", epoch: SINCE_1601, perSecond: 1e6 },
  { id: "100ns-1601", words: "steps of 100 nanoseconds since 1601", epoch: SINCE_1601, perSecond: 1e7 },
  { id: "s-2001", words: "seconds since 2001", epoch: SINCE_2001, perSecond: 1 },
  { id: "ns-2001", words: "nanoseconds since 2001", epoch: SINCE_2001, perSecond: 1e9 },
];

/** Computers have kept such records since about then; a time in the future is none. Seconds since 1970. */
const EARLIEST = 788_918_400;
const DAY = 86_400;
/** Near its beginning any small number would be a time: counters, numbers of rows. Seconds behind the beginning. */
const YOUNGEST = 3 * 365 * DAY;
/** Values that have to agree. */
const SHARE = 0.95;
const FEWEST = 2;

/** Gives the seconds since 1970 a value stands for. */
export const secondsOf = (value: number, { epoch, perSecond }: TimeForm) => value / perSecond + epoch;

/**
 * Recognises how the numbers of a column count time: nearly all of them but zeros must fall between 1995 (or three years
 * after that way's beginning) and tomorrow. Where two ways would do, the one is taken by which the last of them is the later.
 * @param now seconds since 1970
 * @returns null when they are no times
 */
export function recogniseTimes(values: readonly (number | bigint)[], now: number): TimeForm | null {
  const numbers = values.map(Number).filter((value) => value !== 0 && Number.isFinite(value));
  if (numbers.length < FEWEST || new Set(numbers).size < FEWEST) return null;
  let best: TimeForm | null = null;
  let latest = Number.NEGATIVE_INFINITY;
  for (const form of TIME_FORMS) {
    const from = Math.max(EARLIEST, form.epoch + YOUNGEST);
    const times = numbers.map((value) => secondsOf(value, form)).filter((seconds) => seconds > from && seconds < now + DAY);
    if (times.length < numbers.length * SHARE) continue;
    // What was written last is likelier recent than old.
    const last = times.reduce((a, b) => Math.max(a, b));
    if (last > latest) [best, latest] = [form, last];
  }
  return best;
}

/** A single number may count time in many ways: only moments from 2000 on are thought of. Seconds since 1970. */
const EARLIEST_SINGLE = 946_684_800;

/**
 * The moment a single number stands for, where only one way of counting gives one between 2000 and tomorrow.
 * @param now seconds since 1970 @returns null when none does, or several do
 */
export function singleMoment(value: number, now: number): { readonly form: TimeForm; readonly seconds: number } | null {
  const fitting = TIME_FORMS.map((form) => ({ form, seconds: secondsOf(value, form) })).filter(
    ({ form, seconds }) => seconds > Math.max(EARLIEST_SINGLE, form.epoch + YOUNGEST) && seconds < now + DAY,
  );
  return fitting.length === 1 ? (fitting[0] ?? null) : null;
}
