import { Usage } from "./usage";

/** "75%-100%", or offsets in bytes: "1048576-2097152". */
export function rangeOf(text: string | undefined, whole: { start: number; end: number }): { start: number; end: number } {
  if (text === undefined) return whole;
  const match = /^(\d+(?:\.\d+)?)(%?)-(\d+(?:\.\d+)?)(%?)$/.exec(text);
  if (!match || match[2] !== match[4]) throw new Usage(`--range takes percents (75%-100%) or bytes (1048576-2097152), not “${text}”.`);
  const size = whole.end - whole.start;
  const place = (value: string | undefined) =>
    whole.start + (match[2] ? Math.floor((size * Math.min(100, Number(value))) / 100) : Math.min(size, Number(value)));
  const range = { start: place(match[1]), end: place(match[3]) };
  if (range.start >= range.end) throw new Usage(`--range ${text} has nothing in it.`);
  return range;
}
