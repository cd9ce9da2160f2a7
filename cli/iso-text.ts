const SECOND = 1000;
/** Files written together share their seconds: as many are remembered. */
const MOST_REMEMBERED = 4096;
const remembered = new Map<number, string>();
const millis = Array.from({ length: SECOND }, (_, ms) => `.${String(ms).padStart(3, "0")}Z`);

/** A moment as `Date.toISOString` writes it, in a fraction of its time; null: null. @param time UTC milliseconds */
export function isoText(time: number | null): string | null {
  if (time === null) return null;
  const whole = Math.trunc(time);
  const second = Math.floor(whole / SECOND);
  let text = remembered.get(second);
  if (text === undefined) {
    if (remembered.size >= MOST_REMEMBERED) remembered.clear();
    text = new Date(second * SECOND).toISOString().slice(0, -5);
    remembered.set(second, text);
  }
  return text + (millis[whole - second * SECOND] as string);
}
