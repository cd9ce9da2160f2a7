import { join } from "node:path";
import { asc, desc, eq, sql } from "drizzle-orm";
import { safeComponents, safeName, streamFileName } from "../../core/restore/names";
import { isTaken } from "../../io/deliver";
import { FOLDER } from "../../io/open-searchable";
import type { Connection } from "../database/connection";
import { restoreResults, restores, sources } from "../database/schema";
import type { Rehearsal, Restore, RestorePlan } from "./contract";
import { destinationRoot, freeBytesIn, refusal } from "./delivery";

interface TrayRow extends Record<string, unknown> {
  item_id: string;
  copy_id: string;
  name: string;
  folder: string;
  size: string;
  condition: string;
  readable: boolean;
  streams: StoredStream[] | null;
  volume_label: string | null;
  number: number;
}

export interface StoredStream {
  name: string;
  size: number;
  /** Encoded, in base64; null: where it stands is not known. */
  layout: string | null;
}

/** What is in the tray, each item with the copy that would be written. */
async function chosenCopies(db: Connection, jobId: number): Promise<TrayRow[]> {
  const { rows } = await db.execute<TrayRow>(sql`
    select i.id as item_id, c.id as copy_id, c.name, f.path as folder, c.size, c.condition, (c.layout is not null) as readable, c.streams,
      v.label as volume_label, v.number
    from tray_entries t join items i on i.id = t.item_id join copies c on c.id = i.best_copy_id
    join folders f on f.id = c.folder_id join volumes v on v.id = c.volume_id
    where t.job_id = ${jobId} order by f.path, c.name, i.id`);
  return rows;
}

const volumeFolder = (row: { volume_label: string | null; number: number }) => safeName(row.volume_label ?? `volume ${row.number}`);

/** Names of folders and file below the destination: the volume's, then as it was on the volume. */
export function componentsOf(row: { volume_label: string | null; number: number; folder: string; name: string }): string[] {
  return [volumeFolder(row), ...safeComponents(`${row.folder}/${row.name}`)];
}

export interface PlannedFile {
  readonly itemId: number;
  readonly copyId: number;
  /** Which of the copy's named streams it is; null: its content. */
  readonly stream: number | null;
  readonly path: string;
  readonly components: readonly string[];
  readonly size: number;
  readonly condition: string;
  readonly problem: string | null;
}

/** The files the tray means, each followed by its named streams when those are wanted. */
export async function plannedFiles(db: Connection, jobId: number, streams: boolean): Promise<PlannedFile[]> {
  return (await chosenCopies(db, jobId)).flatMap((row) => [fileOf(row), ...(streams ? streamsOf(row) : [])]);
}

function fileOf(row: TrayRow): PlannedFile {
  return {
    itemId: Number(row.item_id),
    copyId: Number(row.copy_id),
    stream: null,
    path: `${row.folder}/${row.name}`,
    components: componentsOf(row),
    size: Number(row.size),
    condition: row.condition,
    problem: problemOf(row),
  };
}

const streamsOf = (row: TrayRow): PlannedFile[] =>
  (row.streams ?? []).map((stream, index) => {
    const name = streamFileName(row.name, stream.name);
    return {
      ...fileOf(row),
      stream: index,
      path: `${row.folder}/${name}`,
      components: componentsOf({ ...row, name }),
      size: stream.size,
      condition: "not-checked",
      problem: stream.layout === null && stream.size > 0 ? "Where this stream stands is not known." : null,
    };
  });

function problemOf(row: TrayRow): string | null {
  if (row.condition === "name-only") return "Nothing of its content is left.";
  return row.readable || Number(row.size) === 0 ? null : "Its content cannot be read.";
}

/** Why nothing may be written below `root`, as far as the job's sources are concerned; null: it may. */
export async function refusalFor(db: Connection, jobId: number, root: string): Promise<string | null> {
  const all = await db.select({ path: sources.path, container: sources.container }).from(sources).where(eq(sources.jobId, jobId));
  const paths = (folder: boolean) => all.filter((row) => (row.container === FOLDER) === folder).map((row) => row.path);
  return refusal(root, paths(false), paths(true));
}

/** What would be written where. Nothing is written. */
export async function rehearse(db: Connection, jobId: number, plan: RestorePlan): Promise<Rehearsal> {
  const root = destinationRoot(plan.destination);
  const planned = await plannedFiles(db, jobId, true);
  const streams = planned.filter((file) => file.stream !== null).length;
  const files = planned
    .filter((file) => plan.streams || file.stream === null)
    .map(({ components, copyId: _, ...file }) => ({
      ...file,
      target: join(root, ...components),
      exists: isTaken(root, components),
    }));
  const bytes = files.filter((file) => !file.problem).reduce((sum, file) => sum + file.size, 0);
  const freeBytes = freeBytesIn(root);
  const full =
    freeBytes !== null && bytes > freeBytes ? "There is not enough free space for these files. Choose fewer, or another device." : null;
  return { root, files, streams, bytes, freeBytes, refused: (await refusalFor(db, jobId, root)) ?? full };
}

/** The job's restores, the newest first, with their results. */
export async function listRestores(db: Connection, jobId: number): Promise<Restore[]> {
  const rows = await db.select().from(restores).where(eq(restores.jobId, jobId)).orderBy(desc(restores.id)).limit(50);
  return Promise.all(
    rows.map(async (row) => ({
      ...row,
      root: destinationRoot(row.destination),
      results: await db.select().from(restoreResults).where(eq(restoreResults.restoreId, row.id)).orderBy(asc(restoreResults.id)),
    })),
  );
}

/** The files a restore wrote and verified, for downloading. */
export async function verifiedFiles(
  db: Connection,
  restoreId: number,
): Promise<{ id: number; output: string; name: string; root: string }[]> {
  const [restore] = await db.select().from(restores).where(eq(restores.id, restoreId));
  if (!restore) return [];
  const rows = await db
    .select()
    .from(restoreResults)
    .where(sql`${restoreResults.restoreId} = ${restoreId} and ${restoreResults.state} = 'verified'`)
    .orderBy(asc(restoreResults.id));
  const root = destinationRoot(restore.destination);
  return rows.flatMap((row) => (row.output ? [{ id: row.id, output: row.output, name: row.output.slice(root.length + 1), root }] : []));
}
