import { sql } from "drizzle-orm";
import type { SetFacts } from "../../core/sets/set-facts";
import type { Connection } from "../database/connection";
import { setKey } from "../passes/copy-rows";
import { SET_KIND_WORDS } from "../words/contract";

/** What the backup sets and snapshots of a job are called, by what a filter calls each: its store's id, and its key. */
export async function setWords(db: Connection, jobId: number): Promise<Map<string, string>> {
  const { rows } = await db.execute<{ id: number; label: string; sets: Partial<SetFacts>[] }>(sql`
    select v.id, coalesce(v.label, s.name) as label, v.sets from stores v join sources s on s.id = v.source_id
    where s.job_id = ${jobId} and v.sets <> '[]'::jsonb`);
  const words = new Map<string, string>();
  for (const { id, label, sets } of rows)
    for (const { id: setId, machine, user, root, kind } of sets)
      if (setId && kind) {
        const of = [machine, user].filter(Boolean).join(", ") || root?.replace(/^\//, "") || label;
        words.set(`${id}-${setKey(setId)}`, `${of}: ${SET_KIND_WORDS[kind]}`);
      }
  return words;
}
