/** Seconds between 1904-01-01 and 1970-01-01. */
const EPOCH = 2_082_844_800;

/** A date of HFS Plus (Technical Note 1150, "HFS Plus Dates": seconds since 1904) as UTC milliseconds; null: not set, or before 1970. */
export const macTimeToMs = (seconds: number): number | null => (seconds >= EPOCH ? (seconds - EPOCH) * 1000 : null);

const LATEST_NS = BigInt(Date.UTC(2200, 0, 1)) * 1_000_000n;

/** Nanoseconds since 1970, as low and high 32 bits, as UTC milliseconds; null: not set, or no date a file can have. */
export function nanosecondsToMs(low: number, high: number): number | null {
  if ((low === 0 && high === 0) || high > 0x7fff_ffff) return null;
  const nanoseconds = (BigInt(high) << 32n) | BigInt(low);
  return nanoseconds < LATEST_NS ? Number(nanoseconds / 1_000_000n) : null;
}
