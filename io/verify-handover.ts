import { lstatSync, readFileSync } from "node:fs";
import { z } from "zod";
import { followChain } from "./log-chain";

/** Bytes of a handover that are read. */
const MOST = 1 << 29;

const data = z.object({
  format: z.literal("recovery-handover"),
  version: z.literal(1),
  log: z.array(
    z.object({ at: z.iso.datetime(), what: z.string(), detail: z.record(z.string(), z.unknown()), hash: z.string().nullable() }),
  ),
  logHash: z.string().nullable(),
  restores: z.array(z.object({ results: z.array(z.object({ state: z.string(), sha256: z.string().nullable() })) })),
});

export interface HandoverReport {
  /** Entries of the log that follow from the one before. */
  readonly agreed: number;
  /** Entries nothing proves: written before the log was a chain. */
  readonly unchained: number;
  /** The hash of its last entry; null: none. A log whose hashes were all made anew holds together, too: only the hash kept elsewhere shows that. */
  readonly last: string | null;
  /** Hashes of what was written or was there already, hexadecimal. */
  readonly hashes: ReadonlySet<string>;
  readonly problems: readonly string[];
}

/** Checks a handover as data by itself: its log follows, entry by entry, to the hash it says its last one has. */
export function verifyHandover(path: string): HandoverReport {
  const nothing = { agreed: 0, unchained: 0, last: null, hashes: new Set<string>() };
  const stats = lstatSync(path, { throwIfNoEntry: false });
  if (!stats?.isFile() || stats.size > MOST) return { ...nothing, problems: ["It is no plain file, or too large to be a handover."] };
  const read = readData(path);
  if (!read) return { ...nothing, problems: ["It is no handover as data, or of a form this version does not know."] };
  const { agreed, unchained, broken, last } = followChain(read.log);
  const problems = broken.map((number) => `Entry ${number} of its log does not follow from the one before: the log was changed.`);
  if (last !== read.logHash) problems.push("Its log does not end with the hash it says: entries were taken away or added.");
  const there = read.restores.flatMap(({ results }) => results).filter(({ state }) => ["verified", "gaps", "same"].includes(state));
  return { agreed, unchained, last, hashes: new Set(there.flatMap(({ sha256 }) => (sha256 ? [sha256] : []))), problems };
}

function readData(path: string): z.infer<typeof data> | null {
  try {
    return data.parse(JSON.parse(readFileSync(path, "utf8")));
  } catch {
    return null;
  }
}
