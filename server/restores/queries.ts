import { and, asc, desc, eq, gt, inArray, isNotNull, or, sql } from "drizzle-orm";
import type { z } from "zod";
import type { Connection } from "../database/connection";
import { restoreResults, restores } from "../database/schema";
import { RESULT_PAGE, type Restore, type Result, type ResultPage, type resultQuery } from "./contract";
import { destinationRoot } from "./delivery";
import { lookAgain } from "./since";

/** The job's restores, the newest first, with their sums. */
export async function listRestores(db: Connection, jobId: number): Promise<Restore[]> {
  const rows = await db.select().from(restores).where(eq(restores.jobId, jobId)).orderBy(desc(restores.id));
  if (rows.length === 0) return [];
  const written = sql`${restoreResults.state} in ('verified', 'gaps')`;
  const there = sql`${restoreResults.state} in ('verified', 'gaps', 'same')`;
  const count = (where: ReturnType<typeof sql>) => sql<number>`(count(*) filter (where ${where}))::int`;
  const sums = await db
    .select({
      restoreId: restoreResults.restoreId,
      files: count(sql`true`),
      settled: count(sql`${restoreResults.state} not in ('waiting', 'writing')`),
      verified: count(sql`${restoreResults.state} = 'verified'`),
      gaps: count(sql`${restoreResults.state} = 'gaps'`),
      same: count(sql`${restoreResults.state} = 'same'`),
      sameGaps: count(sql`${restoreResults.state} = 'same' and ${restoreResults.gaps} is not null`),
      skipped: count(sql`${restoreResults.state} = 'skipped'`),
      failed: count(sql`${restoreResults.state} = 'failed'`),
      since: count(sql`${there} and ${restoreResults.since} is not null`),
      leftBehind: count(sql`${written} and ${restoreResults.leftBehind} is not null`),
      placed: count(sql`${there} and ${restoreResults.placeHome} is not null`),
      fromMemory: count(sql`${written} and ${restoreResults.fromDevice} = false`),
      bytes: sql<string>`coalesce(sum(${restoreResults.size}), 0)`,
      settledBytes: sql<string>`coalesce(sum(${restoreResults.size}) filter (where ${restoreResults.state} not in ('waiting', 'writing')), 0)`,
      missing: sql<string>`coalesce(sum((select sum((g->>'end')::bigint - (g->>'start')::bigint)
        from jsonb_array_elements(${restoreResults.gaps}->'unreadable' || (${restoreResults.gaps}->'foreign')) g)), 0)`,
    })
    .from(restoreResults)
    .where(
      inArray(
        restoreResults.restoreId,
        rows.map((row) => row.id),
      ),
    )
    .groupBy(restoreResults.restoreId);
  const nothing = {
    files: 0,
    settled: 0,
    verified: 0,
    gaps: 0,
    same: 0,
    sameGaps: 0,
    skipped: 0,
    failed: 0,
    since: 0,
    leftBehind: 0,
    placed: 0,
    fromMemory: 0,
    bytes: "0",
    settledBytes: "0",
    missing: "0",
  };
  return rows.map((row) => {
    const { bytes, settledBytes, missing, ...counts } = sums.find((each) => each.restoreId === row.id) ?? nothing;
    return {
      ...row,
      root: destinationRoot(row),
      counts: { ...counts, bytes: Number(bytes), settledBytes: Number(settledBytes), missing: Number(missing) },
    };
  });
}

const ONLY = {
  all: undefined,
  gaps: or(eq(restoreResults.state, "gaps"), and(eq(restoreResults.state, "same"), isNotNull(restoreResults.gaps))),
  open: inArray(restoreResults.state, ["failed", "skipped", "waiting", "writing"]),
  changed: isNotNull(restoreResults.since),
  left: and(isNotNull(restoreResults.leftBehind), inArray(restoreResults.state, ["verified", "gaps"])),
} as const;

/** One page of a restore's results. What was written is looked at again: a result is of a moment. */
export async function listResults(db: Connection, restoreId: number, { after, only }: z.infer<typeof resultQuery>): Promise<ResultPage> {
  const rows = await db
    .select()
    .from(restoreResults)
    .where(and(eq(restoreResults.restoreId, restoreId), gt(restoreResults.id, after), ONLY[only]))
    .orderBy(asc(restoreResults.id))
    .limit(RESULT_PAGE + 1);
  const page = await lookAgain(db, rows.slice(0, RESULT_PAGE));
  return { results: page, next: rows.length > RESULT_PAGE ? (page[page.length - 1] as Result).id : null };
}

/** All results of a restore, page by page, in order. */
export async function* allResults(db: Connection, restoreId: number): AsyncGenerator<Result, void, void> {
  for (let after = 0; ; ) {
    const { results, next } = await listResults(db, restoreId, { after, only: "all" });
    yield* results;
    if (next === null) return;
    after = next;
  }
}
