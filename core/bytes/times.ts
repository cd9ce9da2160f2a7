/** Milliseconds between 1601-01-01 and 1970-01-01 UTC. */
const FILETIME_EPOCH_MS = 11_644_473_600_000;
/** Dates outside 1970 … 2200 on a client's drive are garbage, not dates. */
const LATEST_MS = Date.UTC(2200, 0, 1);

/**
 * A FILETIME ([MS-DTYP] 2.3.3: 100 ns steps since 1601-01-01 UTC, little-endian, 8 bytes) as UTC milliseconds.
 * @returns null for zero (not set) and for times no computer file can have
 */
export function filetimeToMs(low: number, high: number): number | null {
  if (low === 0 && high === 0) return null;
  // The whole number of 100 ns steps does not fit in 53 bits; 2^32 = 429496 × 10000 + 7296 keeps it exact.
  const ms = high * 429_496 + Math.floor((high * 7_296 + low) / 10_000) - FILETIME_EPOCH_MS;
  return ms >= 0 && ms < LATEST_MS ? ms : null;
}

/**
 * A date and time as FAT and ZIP store them (FAT specification, "Date and Time Formats": days, months, years from 1980;
 * two-second steps), with hundredths of a second up to 199. There is no zone: the result is the device's local time
 * as if it were UTC.
 * @returns UTC milliseconds, or null for dates that do not exist
 */
export function dosTimeToMs(date: number, time: number, hundredths: number): number | null {
  const day = date & 0x1f;
  const month = (date >>> 5) & 0x0f;
  const [hour, minute, second] = [time >>> 11, (time >>> 5) & 0x3f, (time & 0x1f) * 2];
  if (day === 0 || month === 0 || month > 12 || hour > 23 || minute > 59 || second > 58) return null;
  return Date.UTC(1980 + (date >>> 9), month - 1, day, hour, minute, second) + (hundredths < 200 ? hundredths * 10 : 0);
}

const HOUR = 3_600_000;

/**
 * Turns local times of a zone, given as if they were UTC milliseconds, into UTC. For the hour that a change of the clock leaves out
 * or doubles there is no right answer; one of the two possible ones is given.
 * @throws RangeError when the zone is not known
 */
export function zoneReader(timeZone: string): (local: number) => number {
  const format = new Intl.DateTimeFormat("en-GB", {
    timeZone,
    hourCycle: "h23",
    year: "numeric",
    month: "2-digit",
    day: "2-digit",
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
  });
  const offsets = new Map<number, number>();
  /** Milliseconds the zone's clocks are ahead of UTC at a moment. */
  const offsetAt = (moment: number): number => {
    const hour = Math.floor(moment / HOUR);
    const kept = offsets.get(hour);
    if (kept !== undefined) return kept;
    const part = Object.fromEntries(format.formatToParts(hour * HOUR).map(({ type, value }) => [type, Number(value)])) as Record<
      string,
      number
    >;
    const shown = Date.UTC(part.year as number, (part.month as number) - 1, part.day, part.hour, part.minute, part.second);
    const offset = shown - hour * HOUR;
    if (offsets.size > 50_000) offsets.clear();
    offsets.set(hour, offset);
    return offset;
  };
  return (local) => {
    // The first guess may lie on the other side of a change of the clock; the second does not.
    const guess = local - offsetAt(local);
    return local - offsetAt(guess);
  };
}
