import { eq, sql } from "drizzle-orm";
import type { Place } from "../../core/copies/vocabulary";
import { makePlan, type PlanSource, type Speeds, type PlanStep as Step } from "../../core/plan/plan";
import { STEPS, type StepKind } from "../../core/plan/steps";
import { FOLDER } from "../../io/open-searchable";
import { findAccounts } from "../accounts/queries";
import type { Connection } from "../database/connection";
import { passes, planMarks } from "../database/schema";
import type { PassKinds } from "../passes/contract";
import { listSources } from "../sources/queries";
import type { Plan, PlanStep } from "./contract";

type PassRow = typeof passes.$inferSelect;
type Mark = typeof planMarks.$inferSelect;

/** The plan of a job: what the rules propose, as the technician changed it, with how far each step is. */
export async function findPlan(db: Connection, jobId: number): Promise<Plan> {
  const [accounts, sources, speeds, marks, own, found] = await Promise.all([
    findAccounts(db, jobId),
    planSources(db, jobId),
    measuredSpeeds(db),
    db.select().from(planMarks).where(eq(planMarks.jobId, jobId)),
    db.select().from(passes).where(eq(passes.jobId, jobId)).orderBy(passes.id),
    foundItem(db, jobId),
  ]);
  const added = marks.filter((mark) => mark.added && mark.stepKey in STEPS).map((mark) => mark.stepKey as StepKind);
  const { steps, against, warnings } = makePlan(accounts, sources, speeds, added);
  const counts = await countsOf(db, own);
  const byKey = new Map(marks.map((mark) => [mark.stepKey, mark]));
  const stepsNow = steps.map((step) => withState(step, byKey.get(step.key), passOf(step, own), counts, found !== null));
  return { steps: inOrder(stepsNow, byKey), against: [...against], warnings: [...warnings], speeds, found };
}

/** Steps the technician has put somewhere stand there; the others keep the plan's order. */
function inOrder(steps: readonly PlanStep[], marks: ReadonlyMap<string, Mark>): PlanStep[] {
  return steps
    .map((step, index) => ({ step, at: marks.get(step.key)?.position ?? index }))
    .sort((a, b) => a.at - b.at)
    .map(({ step }) => step);
}

/** The pass that does or did a step: over its volume, for its places or for more. */
function passOf(step: Step, own: readonly PassRow[]): PassRow | undefined {
  const { pass, storeId } = step;
  if (!pass) return undefined;
  const fitting = own.filter(({ storeId: volume, place, options }) => {
    if (volume !== storeId || place !== pass.place || options.folder || options.kinds || options.from || options.to) return false;
    return !options.places || (pass.options.places ?? []).every((each) => options.places?.includes(each));
  });
  // One that was stopped or failed counts only where no other took its place.
  return fitting.findLast((each) => each.state !== "stopped" && each.state !== "failed") ?? fitting[fitting.length - 1];
}

function withState(
  { sourceId: _, pass, ...step }: Step,
  mark: Mark | undefined,
  own: PassRow | undefined,
  counts: ReadonlyMap<number, PlanStep["found"]>,
  found: boolean,
): PlanStep {
  const { places } = STEPS[step.kind];
  const all = (own && counts.get(own.id)) ?? [];
  return {
    ...step,
    runs: pass !== null,
    state: stateOf(mark, own, found),
    note: mark?.skipped ?? mark?.doneByHand ?? own?.problem ?? null,
    passId: own?.id ?? null,
    progress: own && own.total > 0 ? Math.min(1, own.done / own.total) : 0,
    found: places.length > 0 ? all.filter((each) => places.includes(each.place)) : all,
  };
}

function stateOf(mark: Mark | undefined, own: PassRow | undefined, found: boolean): PlanStep["state"] {
  if (own?.state === "done") return "done";
  if (own?.state === "queued" && own.done === 0) return "waiting";
  if (own?.state === "running" || own?.state === "queued") return "running";
  if (mark?.doneByHand != null) return "done";
  if (mark?.skipped) return "skipped";
  if (found) return "not needed";
  if (own?.state === "paused") return "paused";
  if (own?.state === "failed") return "failed";
  return "to do";
}

/** Finds by kind of place and kind, as those by kind of place alone. */
function byPlace(kinds: PassKinds): { place: Place; count: number }[] {
  const sums = new Map<Place, number>();
  for (const { place, count } of kinds) sums.set(place as Place, (sums.get(place as Place) ?? 0) + count);
  return [...sums].map(([place, count]) => ({ place, count }));
}

/** What each pass found, by kind of place. */
async function countsOf(db: Connection, own: readonly PassRow[]): Promise<Map<number, PlanStep["found"]>> {
  const counts = new Map<number, PlanStep["found"]>();
  for (const pass of own) if (pass.place !== "known-places" && pass.foundLost > 0) counts.set(pass.id, byPlace(pass.kinds));
  const known = own.filter((pass) => pass.place === "known-places").map((pass) => pass.id);
  if (known.length === 0) return counts;
  const { rows } = await db.execute<{ pass_id: number; place: Place; count: number }>(sql`
    select pass_id, place, count(*)::int as count from copies
    where pass_id = any(${sql.raw(`'{${known.join(",")}}'::int[]`)}) group by 1, 2 order by 3 desc`);
  for (const row of rows) counts.set(row.pass_id, [...(counts.get(row.pass_id) ?? []), { place: row.place, count: row.count }]);
  return counts;
}

async function planSources(db: Connection, jobId: number): Promise<PlanSource[]> {
  return (await listSources(db, jobId)).map((source) => ({
    id: source.id,
    name: source.name,
    folder: source.container === FOLDER,
    volumes: source.volumes.map((volume) => ({
      id: volume.id,
      label: volume.label ?? `volume ${volume.number}`,
      filesystem: volume.filesystem,
      length: volume.length,
      usedBytes: volume.usedBytes,
      readable: volume.readable,
      closed: volume.closed,
      standing: volume.standing,
      profiles: volume.profiles.length,
      ofSystem: volume.part === "system",
    })),
  }));
}

/** What passes on this bench took so far, all jobs together. */
async function measuredSpeeds(db: Connection): Promise<Speeds> {
  const { rows } = await db.execute<{ place: string; speed: number }>(sql`
    select p.place, sum(p.active_ms)::float8 / nullif(sum(case when p.place = 'raw' then p.done else v.length_bytes end), 0) as speed
    from passes p join stores v on v.id = p.store_id
    where v.length_bytes > 0 and case p.place
      -- A sweep counts in bytes: any that went on for a while shows how fast they go.
      when 'raw' then p.done > 1048576 and not coalesce((p.options->>'everyByte')::boolean, false)
      when 'known-places' then p.state = 'done' else p.state = 'done' and p.options - 'newestFirst' = '{}'::jsonb end
    group by 1`);
  return Object.fromEntries(rows.flatMap((row) => (row.speed > 0 ? [[row.place, row.speed]] : [])));
}

async function foundItem(db: Connection, jobId: number): Promise<Plan["found"]> {
  const { rows } = await db.execute<{ id: string; name: string; folder: string }>(sql`
    select i.id, i.name, f.path as folder from jobs j join items i on i.id = j.found_item_id join folders f on f.id = i.folder_id
    where j.id = ${jobId}`);
  const [row] = rows;
  return row ? { itemId: Number(row.id), name: row.name, folder: row.folder } : null;
}
