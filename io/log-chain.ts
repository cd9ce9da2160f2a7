import { createHash } from "node:crypto";

/** An entry of a job's log as its hash covers it. */
export interface ChainedEntry {
  readonly at: Date | string;
  readonly what: string;
  readonly detail: unknown;
  /** Hexadecimal; null: written before the log was a chain. */
  readonly hash: string | null;
}

/** What the hash of an entry is taken over, beside the hash before it: JSON without spaces, its names in the order of their code units. */
export function hashedText({ at, what, detail }: Pick<ChainedEntry, "at" | "what" | "detail">): string {
  return JSON.stringify([new Date(at).toISOString(), what, sorted(JSON.parse(JSON.stringify(detail)))]);
}

function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted);
  if (value === null || typeof value !== "object") return value;
  const entries = Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1));
  return Object.fromEntries(entries.map(([name, each]) => [name, sorted(each)]));
}

/** SHA-256 over the hash of the entry before (nothing for the first), a line end and the entry. @returns hexadecimal */
export const hashEntry = (before: string | null, entry: Pick<ChainedEntry, "at" | "what" | "detail">): string =>
  createHash("sha256")
    .update(`${before ?? ""}\n${hashedText(entry)}`)
    .digest("hex");

export interface ChainReport {
  /** Entries whose hash is right. */
  readonly agreed: number;
  /** Entries written before the log was a chain: nothing proves them. */
  readonly unchained: number;
  /** Which entries, from 1, do not follow from the one before. */
  readonly broken: readonly number[];
  /** The hash of the last entry; null: there is none. */
  readonly last: string | null;
}

/** Follows a log from its first entry on: an entry that was changed, added, removed or moved breaks it there. */
export function followChain(entries: readonly ChainedEntry[]): ChainReport {
  let before: string | null = null;
  let [agreed, unchained] = [0, 0];
  const broken: number[] = [];
  for (const [index, entry] of entries.entries()) {
    if (entry.hash === null && before === null) unchained += 1;
    else if (entry.hash === hashEntry(before, entry)) agreed += 1;
    else broken.push(index + 1);
    before = entry.hash;
  }
  return { agreed, unchained, broken, last: before };
}
