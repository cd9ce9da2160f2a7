import { Usage } from "./usage";

const DAY = /^\d{4}-\d\d-\d\d$/;

/** A moment as it is written on a command line: a day means its end, UTC. @returns UTC milliseconds @throws Usage */
export function momentOf(text: string): number {
  const at = Date.parse(DAY.test(text) ? `${text}T23:59:59.999Z` : /(Z|[+-]\d\d:?\d\d)$/.test(text) ? text : `${text}Z`);
  if (Number.isNaN(at)) throw new Usage(`“${text}” is no moment: write 2026-01-31, or 2026-01-31T18:05:00 (UTC).`);
  return at;
}
