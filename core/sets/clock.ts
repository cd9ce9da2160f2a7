const QUARTER_HOUR = 15 * 60_000;
const FARTHEST_ZONE = 14 * 3_600_000;

/** A moment as a name has it, in local time as if it were UTC, and when what bears the name was written to last (UTC). Milliseconds. */
export interface NamedMoment {
  readonly at: number;
  readonly modified: number | null;
}

/**
 * How far the clock that gave names to folders was ahead of UTC, by when they were written to last: milliseconds; null: nothing agrees.
 * Where clocks are changed in summer there are two answers.
 */
export function aheadOfUtc(moments: readonly NamedMoment[]): (moment: NamedMoment) => number | null {
  // A folder is named when a run begins or ends, and written to last at its end.
  const aheadOf = ({ at, modified }: NamedMoment) => {
    const ahead = modified === null ? null : Math.round((at - modified) / QUARTER_HOUR) * QUARTER_HOUR;
    return ahead !== null && Math.abs(ahead) <= FARTHEST_ZONE ? ahead : null;
  };
  const votes = new Map<number, number>();
  for (const moment of moments) {
    const ahead = aheadOf(moment);
    if (ahead !== null) votes.set(ahead, (votes.get(ahead) ?? 0) + 1);
  }
  const asked = [...votes.values()].reduce((sum, count) => sum + count, 0);
  const [best] = [...votes].sort(([, a], [, b]) => b - a);
  const general = best && best[1] * 2 > moments.length ? best[0] : null;
  return (moment) => {
    const own = aheadOf(moment);
    return own !== null && (votes.get(own) ?? 0) * 5 >= asked && asked > 1 ? own : general;
  };
}
