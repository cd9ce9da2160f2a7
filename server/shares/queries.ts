import { asc, eq, sql } from "drizzle-orm";
import type { z } from "zod";
import type { Connection, Database } from "../database/connection";
import { jobs, restores } from "../database/schema";
import { itemQuery } from "../items/contract";
import { listItems } from "../items/list";
import { Problem } from "../problem";
import { listResults } from "../restores/queries";
import type { Access } from "./access";
import { describeAddress, shareAddress } from "./address";
import type { choiceSums, Share, SharedJob, SharedPage, ShareList, sharedFiles, sharedQuery, sharedRestores } from "./contract";

/** The links of a job, the newest first, and what a new one would be like. */
export async function listShares(db: Connection, jobId: number): Promise<ShareList> {
  const { rows } = await db.execute<{
    id: number;
    scope: Share["scope"];
    label: string;
    created_at: string;
    ends_at: string;
    state: Share["state"];
    last_opened_at: string | null;
    tries: number;
    chosen: number;
    waiting: number;
  }>(sql`
    select s.id, s.scope, s.label, s.created_at, s.ends_at, s.last_opened_at, s.tries,
      case when s.revoked_at is not null then 'revoked' when s.ends_at <= now() then 'ended' else 'open' end as state,
      count(h.copy_id)::int as chosen, (count(h.copy_id) filter (where not exists (
        select 1 from tray_entries t join items i on i.id = t.item_id
        where t.job_id = s.job_id and t.item_id = c.item_id and coalesce(t.copy_id, i.best_copy_id) = c.id)))::int as waiting
    from shares s left join share_choices h on h.share_id = s.id left join copies c on c.id = h.copy_id
    where s.job_id = ${jobId} group by s.id order by s.id desc`);
  const address = shareAddress();
  return {
    shares: rows.map(({ created_at, ends_at, last_opened_at, ...row }) => ({
      ...row,
      createdAt: new Date(created_at),
      endsAt: new Date(ends_at),
      lastOpenedAt: last_opened_at === null ? null : new Date(last_opened_at),
    })),
    address,
    ...describeAddress(address),
  };
}

/** What a shared page says of its job. @throws Problem when the job is gone */
export async function describeShared(db: Connection, { jobId, scope, endsAt }: Access): Promise<SharedJob> {
  const [job] = await db
    .select({ title: jobs.title, client: jobs.client, technician: jobs.technician, firm: jobs.firm, timeZone: jobs.timeZone })
    .from(jobs)
    .where(eq(jobs.id, jobId));
  if (!job) throw new Problem("There is nothing at this address.", 404);
  return { ...job, scope, endsAt: endsAt.toISOString() };
}

/** A page of what was found, by name, as a client sees it. */
export async function sharedItems(db: Database, access: Access, { q, show, after }: z.infer<typeof sharedQuery>): Promise<SharedPage> {
  const link = show === "chosen" ? access.shareId : undefined;
  const page = await listItems(db, access.jobId, itemQuery.parse({ q, show: show === "lost" ? "lost" : "all", after, link }));
  const chosen = await chosenOf(
    db,
    access.shareId,
    page.items.map(({ id }) => id),
  );
  return {
    items: page.items.map(({ id, bestCopyId, name, folder, kind, size, modified, condition, survival, live, opens }) => ({
      ...{ id, copyId: bestCopyId, name, folder, kind, size, modified, condition, survival, live, opens },
      chosen: chosen.has(id),
    })),
    next: page.next,
  };
}

async function chosenOf(db: Connection, shareId: number, items: readonly number[]): Promise<Set<number>> {
  const { rows } = await db.execute<{ item_id: string }>(sql`
    select distinct c.item_id from share_choices s join copies c on c.id = s.copy_id
    where s.share_id = ${shareId} and c.item_id = any(${sql.raw(`'{${items.map(Math.trunc).join(",")}}'::bigint[]`)})`);
  return new Set(rows.map((row) => Number(row.item_id)));
}

/** How much a client has chosen. */
export async function sumChoices(db: Connection, { shareId }: Access): Promise<z.infer<typeof choiceSums>> {
  const { rows } = await db.execute<{ files: number; bytes: string }>(sql`
    select count(*)::int as files, coalesce(sum(c.size), 0) as bytes from share_choices s join copies c on c.id = s.copy_id where s.share_id = ${shareId}`);
  return { files: rows[0]?.files ?? 0, bytes: Number(rows[0]?.bytes ?? 0) };
}

/** Makes sure that a copy is one of what a share leads to. @throws Problem when it is not */
export async function checkSharedCopy(db: Connection, { jobId }: Access, copyId: number): Promise<void> {
  const { rows } = await db.execute(sql`select 1 from copies where id = ${copyId} and job_id = ${jobId} and item_id is not null`);
  if (rows.length === 0) throw new Problem("There is nothing at this address.", 404);
}

/** Makes sure that a restore belongs to the job a share leads to. @throws Problem when it does not */
export async function checkSharedRestore(db: Connection, { jobId }: Access, restoreId: number): Promise<void> {
  const [found] = await db.select({ jobId: restores.jobId }).from(restores).where(eq(restores.id, restoreId));
  if (found?.jobId !== jobId) throw new Problem("There is nothing at this address.", 404);
}

const STANDING = sql`state in ('verified', 'gaps', 'same') and since is null`;

/** The restores of a job that have files to give. */
export async function listSharedRestores(db: Connection, { jobId }: Access): Promise<z.infer<typeof sharedRestores>> {
  const rows = await db
    .select({
      id: restores.id,
      title: restores.destination,
      finishedAt: restores.finishedAt,
      files: sql<number>`(select count(*)::int from restore_results where restore_id = restores.id and ${STANDING})`,
      bytes: sql<number>`(select coalesce(sum(size), 0)::float8 from restore_results where restore_id = restores.id and ${STANDING})`,
    })
    .from(restores)
    .where(eq(restores.jobId, jobId))
    .orderBy(asc(restores.id));
  return rows.filter(({ files }) => files > 0);
}

/** A page of the files of a restore that stand as they were written; which those are is looked at now. */
export async function listSharedFiles(db: Connection, restoreId: number, after: number): Promise<z.infer<typeof sharedFiles>> {
  const { results, next } = await listResults(db, restoreId, { after, only: "all" });
  return {
    files: results.flatMap(({ id, path, output, size, state, since }) =>
      (state === "verified" || state === "gaps" || state === "same") && output && !since ? [{ id, name: path.slice(1), size, state }] : [],
    ),
    next,
  };
}
