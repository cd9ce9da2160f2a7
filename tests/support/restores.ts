import type { Database } from "../../server/database/connection";
import type { Restore, RestorePlan, Result } from "../../server/restores/contract";
import { allResults, listRestores } from "../../server/restores/queries";
import { until } from "./bench";

export interface WholeRestore extends Restore {
  readonly results: readonly Result[];
}

/** A restore with all its results. */
export async function wholeRestore(db: Database, jobId: number, id: number): Promise<WholeRestore> {
  const restore = (await listRestores(db, jobId)).find((each) => each.id === id);
  if (!restore) throw new Error(`there is no restore ${id}`);
  const results: Result[] = [];
  for await (const result of allResults(db, id)) results.push(result);
  return { ...restore, results };
}

/** Waits until a restore has ended. */
export const endedRestore = (db: Database, jobId: number, id: number): Promise<WholeRestore> =>
  until(async () => {
    const restore = await wholeRestore(db, jobId, id);
    return ["done", "failed", "paused"].includes(restore.state) && restore;
  }, 60);

export const planTo = (destination: string, facts: Partial<RestorePlan> = {}): RestorePlan => ({
  destination,
  delivery: null,
  conflict: "keep-both",
  streams: "leave" as const,
  layout: "tree" as const,
  names: "",
  asFound: false,
  repaired: false,
  form: "files" as const,
  bagLimit: null,
  kinds: {},
  choices: {},
  ...facts,
});
