import { relative, sep } from "node:path";
import { and, eq, inArray, ne, or, sql } from "drizzle-orm";
import { EMPTY_LAYOUT, type Layout } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import { conditionOf, type Evidence, explain } from "../../core/copies/copy";
import type { CopyFacts } from "../../core/copies/facts";
import { type Absence, FILE_MARK } from "../../core/filesystems/file-record";
import { bytesIn, type Gaps } from "../../core/restore/gaps";
import { describeLeftBehind, describeStreams } from "../../core/restore/left-behind";
import { SECOND_FILE } from "../../core/restore/two-files";
import type { Conflict, RestoreForm } from "../../core/restore/wishes";
import { isBack } from "../../io/deliver";
import type { FileAt } from "../../io/folder-source";
import type { SourceAt } from "../../io/open-source";
import type { Connection, Database } from "../database/connection";
import { type RestoreWish, type ResultState, restoreResults, restores } from "../database/schema";
import { keepJudgement } from "../items/check";
import { FILE_COLUMNS, type FileColumns, toFileAt } from "../items/queries";
import { note } from "../log/commands";
import { missingDrive } from "../sources/drives";
import { SOURCE_COLUMNS, type SourceColumns, toSourceAt } from "../sources/source-at";
import { announce, enqueue } from "../workers/queue";
import { destinationRoot } from "./delivery";
import { bagFolder, componentsOf } from "./placing";
import { NAMING_COLUMNS, problemOf, REPAIRED, SECOND, type StoredStream, secondFileOf } from "./planned";
import { refusalFor, type Targets, targetsFor } from "./queries";

export interface ClaimedRestore {
  readonly id: number;
  readonly jobId: number;
  readonly epoch: number;
  readonly conflict: Conflict;
  readonly form: RestoreForm;
  readonly asFound: boolean;
  readonly destination: string;
  readonly delivery: string | null;
  /** Tells the working folder of this restore from those of others, of other benches too. */
  readonly mark: string;
  readonly targets: Targets;
}

/** How long a restore waits before it asks again whether another one into the same folder has ended. Milliseconds. */
export const WAIT_MS = 2_000;
/** The number under which workers take restores one after the other. */
const CLAIMING = 7_240_115;

/** One file to write. */
export interface RestoreWork extends SourceAt {
  readonly resultId: number;
  readonly sourceId: number;
  readonly file: FileAt | null;
  readonly size: number;
  readonly layout: Layout;
  readonly components: readonly string[];
  readonly modified: number | null;
  /** It has the mark “read only”, which it keeps where the destination can hold it. */
  readonly readOnly: boolean;
  /** It goes with another file, and has no use under any other name. */
  readonly second: boolean;
  /** The copy whose repaired form is to be written, and the name its content was given; null: the content is written, as it is. */
  readonly repairOf: { readonly copyId: number; readonly name: string } | null;
  /** What of the file does not go along, in words. */
  readonly leftBehind: readonly string[];
  readonly conflict: Conflict;
  /** Set when an earlier worker was about to give the file its name: the name, and the hash of what it had written. */
  readonly begun: { readonly output: string; readonly sha256: string; readonly gaps: Gaps | null } | null;
}

/** A file that cannot be written, and why. */
export interface RefusedWork {
  readonly resultId: number;
  readonly problem: string;
}

/**
 * Takes a restore for this worker.
 * @returns null when it is finished, refused or gone; "waits" when another one that writes to the same folder must end first
 */
export async function claimRestore(db: Database, restoreId: number): Promise<ClaimedRestore | "waits" | null> {
  const row = await db.transaction(async (tx) => {
    await tx.execute(sql`select pg_advisory_xact_lock(${CLAIMING})`);
    const { rows } = await tx.execute(sql`
      select 1 from restores r join restores o on o.id <> r.id and o.state = 'running' and o.delivery is not distinct from r.delivery
        and (starts_with(lower(o.destination) || '/', lower(r.destination) || '/') or starts_with(lower(r.destination) || '/', lower(o.destination) || '/'))
      where r.id = ${restoreId} and r.state = 'queued' limit 1`);
    if (rows.length > 0) return "waits" as const;
    const [one] = await tx.select().from(restores).where(eq(restores.id, restoreId)).for("update");
    if (one?.waits && !isBack(destinationRoot(one), markOf(one))) return "waits" as const;
    const [taken] = await tx
      .update(restores)
      .set({ state: "running", waits: false, problem: null, epoch: sql`${restores.epoch} + 1` })
      .where(and(eq(restores.id, restoreId), or(inArray(restores.state, ["queued", "running"]), eq(restores.waits, true))))
      .returning();
    return taken ?? null;
  });
  if (row === null || row === "waits") return row;
  const targets = await targetsFor(db, row.jobId, row, row.id);
  const refused = await refusalFor(db, row.jobId, targets.root);
  if (refused) {
    await failRestore(db, row, refused);
    return null;
  }
  const { id, jobId, epoch, conflict, form, asFound, destination, delivery } = row;
  return { id, jobId, epoch, conflict, form, asFound, destination, delivery, mark: markOf(row), targets };
}

const markOf = ({ id, createdAt }: { id: number; createdAt: Date }): string => `${id}-${createdAt.getTime().toString(36)}`;

/** What a restore was asked to do by now; null: another worker has taken it over. */
export async function wishOf(db: Database, restore: ClaimedRestore): Promise<RestoreWish | null> {
  const [row] = await db.select({ wanted: restores.wanted, epoch: restores.epoch }).from(restores).where(eq(restores.id, restore.id));
  return row?.epoch === restore.epoch ? row.wanted : null;
}

/** Pauses a restore that was asked to, or cannot go on for now. What is not written waits. @param stop why; null: it was asked to */
export async function pauseRestore(
  db: Database,
  restore: ClaimedRestore,
  stop: { readonly problem: string; readonly waits: boolean } | null,
): Promise<void> {
  await db.transaction(async (tx) => {
    const held = await tx
      .update(restores)
      .set({ state: "paused", wanted: "run", problem: stop?.problem ?? null, waits: stop?.waits ?? false })
      .where(and(eq(restores.id, restore.id), eq(restores.epoch, restore.epoch)))
      .returning({ id: restores.id });
    if (held.length === 0) return;
    if (stop?.waits) await enqueue(tx, "restore", restore.id, {}, WAIT_MS);
    await note(tx, restore.jobId, "Restore paused", { restore: restore.id, problem: stop?.problem ?? null });
    await announce(tx, restore.jobId);
  });
}

/** Leaves out what of a restore is not written, because it was stopped. @returns false when another worker has taken it over */
export async function leaveOutRest(db: Database, restore: ClaimedRestore): Promise<boolean> {
  return db.transaction(async (tx) => {
    const [held] = await tx.select({ epoch: restores.epoch }).from(restores).where(eq(restores.id, restore.id)).for("update");
    if (held?.epoch !== restore.epoch) return false;
    await tx
      .update(restoreResults)
      .set({ state: "skipped", output: null, sha256: null, gaps: null, problem: "The restore was stopped before this file was written." })
      .where(and(eq(restoreResults.restoreId, restore.id), inArray(restoreResults.state, ["waiting", "writing"])));
    return true;
  });
}

/** Ends a restore that cannot go on; its files wait for another try. */
export async function failRestore(db: Database, restore: { id: number; jobId: number; epoch: number }, problem: string): Promise<void> {
  await db.transaction(async (tx) => {
    const held = await tx
      .update(restores)
      .set({ state: "failed", problem, finishedAt: new Date() })
      .where(and(eq(restores.id, restore.id), eq(restores.epoch, restore.epoch)))
      .returning({ id: restores.id });
    if (held.length === 0) return;
    await tx
      .update(restoreResults)
      .set({ state: "failed", problem })
      .where(and(eq(restoreResults.restoreId, restore.id), inArray(restoreResults.state, ["waiting", "writing"])));
    await note(tx, restore.jobId, "Restore failed", { restore: restore.id, problem });
    await announce(tx, restore.jobId);
  });
}

interface WorkRow extends FileColumns, SourceColumns {
  id: string;
  copy_id: string;
  state: ResultState;
  stream: number | null;
  dated: boolean;
  size: string;
  conflict: Conflict | null;
  bag: number | null;
  output: string | null;
  sha256: string | null;
  gaps: Gaps | null;
  known: boolean;
  name: string;
  folder: string;
  copy_size: string;
  condition: string;
  absent: Absence | null;
  layout: Buffer | null;
  streams: StoredStream[] | null;
  marks: number | null;
  first_output: string | null;
  number: number;
  facts: CopyFacts | null;
  nameless: boolean;
  format: string | null;
  container: string;
  source_size: string;
  home_id: number | null;
  modified: string | null;
}

/** The next files that are not settled, a number of small ones together; empty: there is none. Each is judged anew. */
export async function nextFiles(
  db: Database,
  restore: ClaimedRestore,
  most: number,
  mostBytes: number,
): Promise<(RestoreWork | RefusedWork)[]> {
  const { rows } = await db.execute<WorkRow>(sql`
    select r.id, r.copy_id, r.state, r.stream, r.dated, r.size, r.conflict, r.bag, r.output, r.sha256, r.gaps, (s.id is not null) as known,
      c.name, f.path as folder, c.size as copy_size, c.condition, c.absent, c.layout, c.streams, c.marks, r.number, ${NAMING_COLUMNS}, o.output as first_output, ${FILE_COLUMNS}, f.home_id, c.modified,
      ${SOURCE_COLUMNS}, s.container, s.size as source_size
    from (select * from restore_results where restore_id = ${restore.id} and state in ('waiting', 'writing') order by id limit ${most}) r
    left join copies c on c.id = r.copy_id left join folders f on f.id = c.folder_id
    left join stores v on v.id = c.store_id left join sources s on s.id = v.source_id
    left join lateral (select output from restore_results o where r.stream < 0 and o.restore_id = ${restore.id} and o.copy_id = r.copy_id
      and o.stream is null and o.state in ('verified', 'gaps', 'same') limit 1) o on true order by r.id`);
  const works: (RestoreWork | RefusedWork)[] = [];
  let bytes = 0;
  for (const row of rows) {
    bytes += Number(row.size);
    // What goes beside a file is called after the name that has got.
    if (works.length > 0 && (bytes > mostBytes || isBeside(row) !== isBeside(rows[0] as WorkRow))) break;
    works.push(toWork(row, restore));
  }
  return works;
}

/** It goes beside another file of the restore. */
const isBeside = ({ stream }: WorkRow): boolean => stream === SECOND || stream === REPAIRED;

function toWork(row: WorkRow, restore: ClaimedRestore): RestoreWork | RefusedWork {
  const { targets, conflict, form } = restore;
  const resultId = Number(row.id);
  const refused = (problem: string): RefusedWork => ({ resultId, problem });
  if (!row.known) return refused("The copy is no longer known: its source was taken out of the job.");
  const missing = missingDrive({ container: row.container, path: row.path, size: Number(row.source_size) });
  if (missing) return refused(missing);
  if (row.stream === SECOND) return toSecondWork(row, restore);
  if (row.stream === REPAIRED) return toRepairedWork(row, restore);
  const stream = row.stream === null ? null : row.streams?.[row.stream];
  if (stream === undefined) return refused("The stream is no longer known.");
  const size = stream ? stream.size : Number(row.copy_size);
  const stored = stream ? stream.layout && Buffer.from(stream.layout, "base64") : row.layout;
  const problem = stream
    ? !stored && size > 0 && "Where this stream stands is not known."
    : problemOf({ ...row, size, readable: stored !== null });
  if (problem) return refused(problem);
  const layout = stored ? decodeLayout(stored) : EMPTY_LAYOUT;
  if (layout.size !== size) return refused("What is kept of it does not tell where all of its content stands.");
  const modified = row.modified ? new Date(row.modified) : null;
  return {
    resultId,
    ...toSourceAt(row),
    file: toFileAt(row, layout),
    size,
    layout,
    components: [
      ...bagFolder(form, row.bag),
      ...componentsOf(
        (row.home_id === null ? undefined : targets.folders.get(row.home_id)) ?? [],
        { ...row, stream: stream?.name ?? null, modified },
        targets,
      ),
    ],
    modified: modified?.getTime() ?? null,
    readOnly: ((row.marks ?? 0) & FILE_MARK.readOnly) !== 0,
    second: false,
    repairOf: null,
    leftBehind: stream === null ? describeLeftBehind(row, targets.streams) : [],
    conflict: row.conflict ?? conflict,
    begun: begunOf(row),
  };
}

const begunOf = ({ state, output, sha256, gaps }: WorkRow): RestoreWork["begun"] =>
  state === "writing" && output && sha256 ? { output, sha256, gaps } : null;

/** The repaired form of a file, beside it. */
function toRepairedWork(row: WorkRow, restore: ClaimedRestore): RestoreWork | RefusedWork {
  const work = toWork({ ...row, stream: null }, restore);
  if ("problem" in work) return work;
  if (row.first_output === null) return { resultId: work.resultId, problem: NOT_BESIDE };
  const components = relative(restore.targets.root, row.first_output).split(sep);
  return {
    ...work,
    components,
    readOnly: false,
    leftBehind: [],
    repairOf: { copyId: Number(row.copy_id), name: components.at(-1) as string },
  };
}

const NOT_BESIDE = "The file it belongs to was not written by this restore.";

/** The second file of the two-file form: it stands beside its first one, under the name that one has got. */
function toSecondWork(row: WorkRow, { targets, conflict }: ClaimedRestore): RestoreWork | RefusedWork {
  const resultId = Number(row.id);
  const second = secondFileOf(row.streams);
  if (!second || second.layout.size !== Number(row.size)) return { resultId, problem: "What belongs into it is no longer known." };
  if (row.first_output === null) return { resultId, problem: NOT_BESIDE };
  const components = relative(targets.root, row.first_output).split(sep);
  return {
    resultId,
    ...toSourceAt(row),
    file: toFileAt(row, second.layout),
    size: second.layout.size,
    layout: second.layout,
    components: [...components.slice(0, -1), `${SECOND_FILE}${components.at(-1)}`],
    modified: row.modified ? new Date(row.modified).getTime() : null,
    readOnly: false,
    second: true,
    repairOf: null,
    leftBehind: second.left.length > 0 ? [describeStreams(second.left)] : [],
    conflict: row.conflict ?? conflict,
    begun: begunOf(row),
  };
}

/** The names this restore has given so far, or is about to give: no two of its files may meet in one. */
export async function givenNames(db: Database, restore: ClaimedRestore): Promise<string[]> {
  const { rows } = await db.execute<{ output: string }>(
    sql`select output from restore_results where restore_id = ${restore.id} and output is not null and state in ('verified', 'gaps', 'same')`,
  );
  return rows.map(({ output }) => output);
}

/** How far one file is. */
export interface Settled {
  readonly id: number;
  readonly state: ResultState;
  readonly output?: string | null;
  readonly sha256?: string | null;
  readonly gaps?: Gaps | null;
  readonly fromDevice?: boolean | null;
  readonly leftAt?: number | null;
  readonly aside?: string | null;
  readonly leftBehind?: readonly string[] | null;
  readonly problem?: string | null;
  /** Bytes, where they were not known before. */
  readonly size?: number;
}

/** Writes down how far files are. What was written leaves the tray. @returns false when another worker has taken the restore over */
export async function settle(db: Database, restore: ClaimedRestore, files: readonly Settled[]): Promise<boolean> {
  if (files.length === 0) return true;
  return db.transaction(async (tx) => {
    const [held] = await tx.select({ epoch: restores.epoch }).from(restores).where(eq(restores.id, restore.id)).for("update");
    if (held?.epoch !== restore.epoch) return false;
    await tx.execute(sql`
      update restore_results r set state = s.state, output = s.output, sha256 = s.sha256, gaps = s.gaps, from_device = s."fromDevice", left_at = s."leftAt", aside = s.aside, left_behind = s."leftBehind",
        problem = s.problem, size = coalesce(s.size, r.size), finished_at = case when s.state not in ('waiting', 'writing') then now() end
      from jsonb_to_recordset(${JSON.stringify(files)}::jsonb)
        as s(id bigint, state text, output text, sha256 text, gaps jsonb, "fromDevice" boolean, "leftAt" float8, aside text, "leftBehind" jsonb, problem text, size bigint)
      where r.id = s.id and r.restore_id = ${restore.id}`);
    const written = files.filter(({ state }) => state === "verified" || state === "gaps");
    const there = [...written, ...files.filter(({ state }) => state === "same")];
    if (there.length > 0) await leaveTray(tx, restore, there);
    await keepHashes(tx, files);
    await replaceEarlier(tx, restore, written);
    for (const { id, gaps } of files) if (gaps && gaps.unreadable.length > 0) await learnUnreadable(tx, id, bytesIn(gaps.unreadable));
    await announce(tx, restore.jobId);
    return true;
  });
}

/** The hash of a content that was read in full is kept with its copy, so that nobody reads it again for that. */
async function keepHashes(tx: Connection, files: readonly Settled[]): Promise<void> {
  const ids = files.flatMap(({ id, state }) => (state === "verified" ? [Math.trunc(id)] : []));
  if (ids.length === 0) return;
  await tx.execute(sql`
    update copies c set sha256 = decode(r.sha256, 'hex') from restore_results r
    where r.id = any(${sql.raw(`'{${ids.join(",")}}'::bigint[]`)}) and r.stream is null and c.id = r.copy_id and c.sha256 is null`);
}

/** A copy of which less could be read than was known is not what it was called: its condition is derived anew. */
async function learnUnreadable(tx: Connection, resultId: number, bytes: number): Promise<void> {
  const { rows } = await tx.execute<{
    id: string;
    size: string;
    state: "live" | "deleted";
    type: "file" | "folder";
    evidence: Evidence;
    layout: Buffer;
  }>(sql`
    select c.id, c.size, c.state, c.type, c.evidence, c.layout from copies c join restore_results r on r.copy_id = c.id
    where r.id = ${resultId} and r.stream is null and c.layout is not null`);
  const [row] = rows;
  if (!row) return;
  const unreadable = bytes - row.evidence.lost;
  if (unreadable <= row.evidence.unreadable) return;
  const evidence = { ...row.evidence, unreadable };
  const judged = conditionOf({ type: row.type, size: Number(row.size), state: row.state, layout: decodeLayout(row.layout) }, evidence);
  await keepJudgement(tx, { copyId: Number(row.id), ...judged, evidence, notes: explain(evidence) });
}

async function leaveTray(tx: Connection, restore: ClaimedRestore, written: readonly Settled[]): Promise<void> {
  const ids = sql.raw(`'{${written.map(({ id }) => Math.trunc(id)).join(",")}}'::bigint[]`);
  await tx.execute(sql`
    delete from tray_entries t using restore_results r, items i
    where r.id = any(${ids}) and r.stream is null and i.id = r.item_id and t.job_id = ${restore.jobId} and t.item_id = r.item_id
      and coalesce(t.copy_id, i.best_copy_id) = r.copy_id`);
}

/** A file that stands under this name now takes the place of what earlier restores had written there. */
async function replaceEarlier(tx: Connection, restore: ClaimedRestore, written: readonly Settled[]): Promise<void> {
  const outputs = written.flatMap(({ output }) => (output ? [output] : []));
  if (outputs.length === 0) return;
  await tx
    .update(restoreResults)
    .set({ since: "replaced" })
    .where(and(inArray(restoreResults.output, outputs), ne(restoreResults.restoreId, restore.id)));
}

export async function finishRestore(db: Database, restore: ClaimedRestore): Promise<void> {
  await db.transaction(async (tx) => {
    await tx
      .update(restores)
      .set({ state: "done", wanted: "run", finishedAt: new Date() })
      .where(and(eq(restores.id, restore.id), eq(restores.epoch, restore.epoch)));
    await note(tx, restore.jobId, "Restore finished", { restore: restore.id });
    await announce(tx, restore.jobId);
  });
}
