import { shortened } from "../bytes/text";
import type { Value } from "./sqlite/record";
import { secondsOf, type TimeForm } from "./times";

/** The latest moment that is written as one, in milliseconds from 1970. */
const LATEST = 8e15;

const DAY = 86_400_000;
/** The day that was described last: rows beside one another are mostly of one day. */
let last = { day: Number.NaN, words: "" };
const twoDigits = (number: number) => (number < 10 ? `0${number}` : `${number}`);

/** Describes a moment in UTC by its second (ISO 8601, with a space before the time). @param milliseconds from 1970 */
function describeMoment(milliseconds: number): string {
  const day = Math.floor(milliseconds / DAY);
  if (day !== last.day) last = { day, words: new Date(day * DAY).toISOString().split("T")[0] ?? "" };
  const seconds = Math.floor((milliseconds - day * DAY) / 1000);
  return `${last.words} ${twoDigits(Math.floor(seconds / 3600))}:${twoDigits(Math.floor(seconds / 60) % 60)}:${twoDigits(seconds % 60)}`;
}

/** Describes a value as it is shown; null: it is not known. @param longest characters that are given of a text */
export function describeCell(value: Value | undefined, time: TimeForm | null, longest: number): string | null {
  if (value === undefined) return null;
  if (value === null) return "";
  if (value instanceof Uint8Array) return `${value.length} bytes`;
  if (time && typeof value !== "string" && value !== 0) {
    const milliseconds = Math.round(secondsOf(Number(value), time) * 1000);
    if (Math.abs(milliseconds) < LATEST) return describeMoment(milliseconds);
  }
  return shortened(String(value), longest);
}
