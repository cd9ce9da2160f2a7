import { and, desc, eq, sql } from "drizzle-orm";
import { isEmpty, paragraph } from "../../core/plan/account";
import { account as accountContract } from "../accounts/contract";
import type { Connection } from "../database/connection";
import { accounts, jobs } from "../database/schema";
import type { JobSummary } from "./contract";

const count = (table: string, where: string) =>
  sql<number>`(select count(*)::int from ${sql.raw(table)} where job_id = ${jobs.id} ${sql.raw(where)})`;

function selectJobs(db: Connection) {
  return db
    .select({
      job: jobs,
      account: accounts,
      sources: count("sources", ""),
      lostItems: sql<number>`(select coalesce(sum(found_lost), 0)::int from passes where job_id = ${jobs.id})`,
      restored: sql<number>`(select count(*)::int from restore_results r join restores s on s.id = r.restore_id where s.job_id = ${jobs.id} and r.state = 'verified')`,
      running: count("passes", "and state in ('queued', 'running')"),
      problems: count("passes", "and state = 'failed'"),
    })
    .from(jobs)
    .leftJoin(accounts, and(eq(accounts.jobId, jobs.id), eq(accounts.position, 0)));
}

type Row = Awaited<ReturnType<typeof selectJobs>>[number];

function summary({ job, account, ...counts }: Row): JobSummary {
  const told = account && accountContract.parse(account.told);
  return {
    id: job.id,
    title: job.title,
    client: job.client,
    timeZone: job.timeZone,
    lastActivity: job.lastActivity,
    archived: job.archivedAt !== null,
    lost: !told || isEmpty(told) ? null : paragraph(told, job.timeZone),
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
