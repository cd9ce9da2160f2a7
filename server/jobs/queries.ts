import { and, desc, eq, sql } from "drizzle-orm";
import { isEmpty, paragraph } from "../../core/plan/account";
import { account as accountContract } from "../accounts/contract";
import type { Connection } from "../database/connection";
import { accounts, jobs } from "../database/schema";
import type { JobSummary } from "./contract";

const count = (table: string, where: string) =>
  sql<number>`(select count(*)::int from ${sql.raw(table)} where job_id = ${jobs.id} ${sql.raw(where)})`;

/** Files that stand as they were written; one that was restored twice to one place counts once. */
const restored = (state: string) =>
  sql<number>`(select count(*)::int from restore_results r join restores s on s.id = r.restore_id
    where s.job_id = ${jobs.id} and r.state = ${sql.raw(`'${state}'`)} and r.since is null)`;

function selectJobs(db: Connection) {
  return db
    .select({
      job: jobs,
      account: accounts,
      sources: count("sources", ""),
      searched: sql<boolean>`exists (select 1 from passes where job_id = ${jobs.id} and done > 0)`,
      lostItems: sql<Partial<JobSummary["lostItems"]>>`(select coalesce(jsonb_object_agg(l.condition, l.n), '{}') from
        (select condition, count(*) as n from items where job_id = ${jobs.id} and lost group by 1) l)`,
      restored: restored("verified"),
      restoredWithGaps: restored("gaps"),
      running: count("passes", "and state in ('queued', 'running')"),
      problems: count("passes", "and state = 'failed'"),
    })
    .from(jobs)
    .leftJoin(accounts, and(eq(accounts.jobId, jobs.id), eq(accounts.position, 0)));
}

type Row = Awaited<ReturnType<typeof selectJobs>>[number];

function summary({ job, account, lostItems, ...counts }: Row): JobSummary {
  const stored = account && accountContract.parse(account.account);
  return {
    id: job.id,
    title: job.title,
    client: job.client,
    timeZone: job.timeZone,
    lastActivity: job.lastActivity,
    archived: job.archivedAt !== null,
    technician: job.technician,
    firm: job.firm,
    number: job.number,
    lostItems: { whole: 0, partial: 0, "not-checked": 0, "name-only": 0, ...lostItems },
    lost: !stored || isEmpty(stored) ? null : paragraph(stored, job.timeZone),
    ...counts,
  };
}

/** All jobs, the one last worked on first. */
export async function listJobs(db: Connection): Promise<JobSummary[]> {
  return (await selectJobs(db).orderBy(desc(jobs.lastActivity))).map(summary);
}

export async function findJob(db: Connection, id: number): Promise<JobSummary | null> {
  const [row] = await selectJobs(db).where(and(eq(jobs.id, id)));
  return row ? summary(row) : null;
}
