import { sql } from "drizzle-orm";
import type { Place } from "../../core/copies/vocabulary";
import type { Account } from "../../core/plan/account";
import { fitOf } from "../../core/plan/fit";
import { findAccounts } from "../accounts/queries";
import type { Connection } from "../database/connection";
import type { Fits } from "./contract";

/** Candidates that one fact of the account brings at most, and how many of the best are shown. */
const MOST_OF_EACH = 1500;
const MOST_SHOWN = 60;
/** Below this so little fits that it is no help. */
const LEAST_SCORE = 0.25;

interface Row extends Record<string, unknown> {
  id: string;
  name: string;
  folder: string;
  kind: string;
  size: string;
  modified: string | null;
  lost: boolean;
  places: Place[];
  condition: string;
  deleted_at: string | null;
  live: boolean;
  before_id: string | null;
  before: string | null;
}

/** The items that fit best what the client remembers, over all accounts of the job, with the reasons. */
export async function findFits(db: Connection, jobId: number): Promise<Fits> {
  const accounts = await findAccounts(db, jobId);
  const best = new Map<number, Fits[number]>();
  for (const account of accounts)
    for (const row of await candidates(db, jobId, account)) {
      const { score, reasons } = fitOf(account, {
        name: row.name,
        folder: row.folder,
        kind: row.kind,
        size: Number(row.size),
        modified: row.modified ? new Date(row.modified).getTime() : null,
        deletedAt: row.deleted_at ? new Date(row.deleted_at).getTime() : null,
        lost: row.lost,
        places: row.places,
        condition: row.condition,
        live: row.live,
        before: row.before ? new Date(row.before).getTime() : null,
      });
      const id = Number(row.id);
      if (score < LEAST_SCORE || score <= (best.get(id)?.score ?? 0)) continue;
      const { name, folder, kind, condition, places } = row;
      best.set(id, {
        itemId: id,
        // Of a file that was overwritten its version from before that is meant, not the item's best copy.
        copyId: account.cause === "overwritten" && row.before_id ? Number(row.before_id) : null,
        name,
        folder,
        kind,
        condition,
        places,
        modified: account.cause === "overwritten" && row.before ? new Date(row.before) : row.modified ? new Date(row.modified) : null,
        score,
        reasons: [...reasons],
      });
    }
  return [...best.values()].sort((a, b) => b.score - a.score || a.itemId - b.itemId).slice(0, MOST_SHOWN);
}

/** Items that one fact or another of the account speaks for; each fact has an index to find them by. */
async function candidates(db: Connection, jobId: number, account: Account): Promise<Row[]> {
  const ways = [];
  const words = (account.nameHint ?? "").split(/[^\p{L}\p{N}]+/u).filter((word) => word.length > 2);
  for (const word of words.slice(0, 6))
    ways.push(sql`select id from items where job_id = ${jobId} and name ilike ${`%${escaped(word)}%`} limit ${MOST_OF_EACH}`);
  if (account.nameHint) ways.push(sql`select id from items where job_id = ${jobId} and name % ${account.nameHint} limit ${MOST_OF_EACH}`);
  if (account.extension)
    ways.push(
      sql`select id from items where job_id = ${jobId} and name ilike ${`%.${escaped(account.extension.replace(/^\./, ""))}`} limit ${MOST_OF_EACH}`,
    );
  const { lost } = account;
  if (lost?.from != null && lost.to != null) {
    const [from, to] = [new Date(lost.from - 86_400_000 * 3), new Date(lost.to + 86_400_000)];
    ways.push(sql`select id from items where job_id = ${jobId} and lost
      and coalesce(modified, '-infinity'::timestamptz) between ${from.toISOString()}::timestamptz and ${to.toISOString()}::timestamptz limit ${MOST_OF_EACH}`);
  }
  ways.push(
    sql`select id from items where job_id = ${jobId} and lost and places && array['bin', 'autosave', 'own-backup', 'recent'] limit ${MOST_OF_EACH}`,
  );
  const { rows } = await db.execute<Row>(sql`
    select i.id, i.name, f.path as folder, i.kind, i.size, i.modified, i.lost, i.places, i.condition, i.live, b.id as before_id, b.modified as before,
      (select max(c.deleted_at) from copies c where c.item_id = i.id) as deleted_at
    from items i join folders f on f.id = i.folder_id
    left join lateral (select c.id, c.modified from copies c where c.item_id = i.id and c.condition <> 'name-only' and (c.state = 'deleted' or c.rule is not null)
      and c.modified < ${lost?.from != null ? new Date(lost.from).toISOString() : "infinity"}::timestamptz order by c.modified desc limit 1) b on true
    where i.id in (${sql.join(
      ways.map((way) => sql`(${way})`),
      sql` union `,
    )})`);
  return rows;
}

const escaped = (word: string) => word.replace(/[\\%_]/g, "\\$&");
