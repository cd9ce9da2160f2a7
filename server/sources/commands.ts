import { existsSync, statSync } from "node:fs";
import { basename } from "node:path";
import { and, eq, inArray, isNull, sql } from "drizzle-orm";
import { diskFile, diskName } from "../../io/bundle";
import { DRIVE } from "../../io/drives";
import type { InnerFile } from "../../io/inner-file";
import { FOLDER } from "../../io/open-searchable";
import { SourceError } from "../../io/source-error";
import { runTask } from "../content/pool";
import type { Database } from "../database/connection";
import { passes, sourceFolders, sources, stores } from "../database/schema";
import { findHomes } from "../homes/commands";
import { note } from "../log/commands";
import { gatherCopies } from "../passes/best-copy";
import { Problem } from "../problem";
import { deliveryFolders, refusal } from "../restores/delivery";
import { announce } from "../workers/queue";
import { driveTitle, permittedDrive, warningOf } from "./drives";
import type { InspectedSource } from "./inspect";
import { partOf, permittedSource } from "./source-folders";

interface Looked {
  readonly path: string;
  readonly beside: readonly string[];
  readonly name: string;
  readonly found: InspectedSource;
}

/** Reads the structure of what is at a path, once it is sure that it may be read. */
async function look(path: string, beside: readonly string[], within: readonly InnerFile[] = []): Promise<Looked> {
  const real = diskFile(permittedSource(path));
  const stats = statSync(/*turbopackIgnore: true*/ real);
  const first = partOf(real);
  if (first)
    throw new Problem(`“${basename(real)}” is a further part of “${first}”: choose that one, it takes its other parts along.`, 409);
  const folder = stats.isDirectory() && within.length === 0;
  if (folder) {
    const written = deliveryFolders().filter(({ path }, index) => index === 0 || existsSync(path));
    const refused = written.map((each) => refusal(each.path, [], [real])).find((each) => each !== null);
    if (refused) throw new Problem(refused, 409);
  }
  const further = beside.map(permittedSource);
  const drive = stats.isBlockDevice() && within.length === 0 ? permittedDrive(real) : null;
  const found = await inWords(runTask("inspect", [{ sourcePath: real, beside: further, within }, folder]));
  const warning = drive && warningOf(drive);
  return {
    path: real,
    beside: further,
    name: drive ? driveTitle(drive) : folder ? (found.volumes[0]?.label ?? basename(real)) : diskName(real),
    found: { ...found, container: drive ? DRIVE : found.container, notes: [...(warning ? [warning] : []), ...found.notes] },
  };
}

/**
 * Adds an image, a drive or a folder to the job.
 * @param beside further files that hold parts or parents of the image
 * @returns the source's id
 */
export async function addSource(db: Database, jobId: number, path: string, beside: readonly string[] = []): Promise<number> {
  const looked = await look(path, beside);
  return insertSource(db, { ...looked, jobId, within: [], parentStoreId: null }, looked.found);
}

/**
 * Adds the disk in a copy's content to the job, as a source that lies in the store of the copy.
 * @returns the source's id
 */
export async function addInnerSource(db: Database, jobId: number, copyId: number): Promise<number> {
  const { found, ...inner } = await inWords(runTask("inspectWithin", [copyId]));
  if (inner.jobId !== jobId) throw new Problem("There is no such copy in this job.", 404);
  return insertSource(db, { ...inner, parentStoreId: inner.storeId }, found);
}

interface NewSource {
  readonly jobId: number;
  readonly path: string;
  readonly name: string;
  readonly beside: readonly string[];
  readonly within: readonly InnerFile[];
  readonly parentStoreId: number | null;
}

async function insertSource(db: Database, source: NewSource, found: InspectedSource): Promise<number> {
  const { jobId, path, name, beside, within, parentStoreId } = source;
  return db.transaction(async (tx) => {
    const [row] = await tx
      .insert(sources)
      .values({ jobId, path, name, beside: [...beside], within: [...within], parentStoreId, ...structureOf(found) })
      .onConflictDoNothing()
      .returning({ id: sources.id });
    if (!row) throw new Problem("This source is already part of the job.", 409);
    if (found.volumes.length > 0)
      await tx.insert(stores).values(found.volumes.map((volume) => ({ sourceId: row.id, ...volume, notes: [...volume.notes] })));
    await findHomes(tx, jobId, row.id);
    const inside = within.map((each) => each.path);
    await note(tx, jobId, "Source added", { path, ...(inside.length > 0 ? { inside } : {}), volumes: found.volumes.length });
    await announce(tx, jobId);
    return row.id;
  });
}

const structureOf = ({ size, mark, container, table, notes }: InspectedSource) => ({
  size,
  // A drive is known by its link, and may be written to where it is mounted.
  mark: container === DRIVE ? null : mark,
  container,
  tableKind: table,
  notes: [...notes],
});

/** RFC 4918, 11.4: here, that another file is needed first. */
const FAILED_DEPENDENCY = 424;

/** What keeps a source from being opened is shown as it is. */
async function inWords<T>(asked: Promise<T>): Promise<T> {
  try {
    return await asked;
  } catch (error) {
    if (error instanceof SourceError) throw new Problem(error.message, error.asksForFile ? FAILED_DEPENDENCY : 400);
    throw error;
  }
}

async function sourceOf(db: Pick<Database, "select">, jobId: number, sourceId: number) {
  const [row] = await db
    .select()
    .from(sources)
    .where(and(eq(sources.id, sourceId), eq(sources.jobId, jobId)));
  if (!row) throw new Problem("There is no such source in this job.", 404);
  return row;
}

/** So many folders are put on the list by hand at most. */
const MOST_FOLDERS = 100;

/** Puts a folder on the list of source folders. @throws Problem when it is none, when it may not be read, and when the list is full */
export async function addFolder(db: Database, path: string): Promise<void> {
  const real = permittedSource(path);
  if (!statSync(real).isDirectory()) throw new Problem(`“${path}” is no folder. Put the folder it lies in on the list.`);
  if ((await db.$count(sourceFolders)) >= MOST_FOLDERS)
    throw new Problem(`There are ${MOST_FOLDERS} folders on the list already. Take one off first.`, 409);
  await db.insert(sourceFolders).values({ path: real }).onConflictDoNothing();
}

/** Takes a folder off the list of source folders; one that is not on it stays off. Sources of jobs are not touched. */
export async function removeFolder(db: Database, path: string): Promise<void> {
  await db.delete(sourceFolders).where(eq(sourceFolders.path, path));
}

export async function renameSource(db: Database, jobId: number, sourceId: number, name: string): Promise<void> {
  const row = await sourceOf(db, jobId, sourceId);
  await db.update(sources).set({ name }).where(eq(sources.id, sourceId));
  await note(db, jobId, "Source renamed", { from: row.name, to: name });
  await announce(db, jobId);
}

/**
 * Says that a source is at another path now: the same drive under another name, an image that was moved. What was found in it stays.
 * @throws Problem when what is there is not the same source
 */
export async function relinkSource(db: Database, jobId: number, sourceId: number, path: string): Promise<void> {
  const row = await sourceOf(db, jobId, sourceId);
  if (row.within.length > 0) throw new Problem("This source lies inside another one: say where that one is now.", 409);
  const looked = await look(
    path,
    row.beside.filter((each) => statSync(/*turbopackIgnore: true*/ each, { throwIfNoEntry: false })),
  );
  const known = await db.select().from(stores).where(eq(stores.sourceId, sourceId));
  const other =
    row.container === FOLDER || looked.found.container === FOLDER
      ? await otherFolder(db, row, looked)
      : otherDisk(row, known, looked.found);
  if (other) throw new Problem(`This is not the same source: ${other}. Add it as a source of its own.`, 409);
  await db.transaction(async (tx) => {
    const taken = await tx
      .select({ id: sources.id })
      .from(sources)
      .where(and(eq(sources.jobId, jobId), eq(sources.path, looked.path), isNull(sources.parentStoreId)));
    if (taken.some(({ id }) => id !== sourceId)) throw new Problem("Another source of this job is at this path.", 409);
    await tx.update(sources).set({ path: looked.path, container: looked.found.container }).where(eq(sources.id, sourceId));
    // What lies inside it moves with it.
    const inside = (await nestedIn(tx, sourceId)).filter((id) => id !== sourceId);
    if (inside.length > 0) await tx.update(sources).set({ path: looked.path }).where(inArray(sources.id, inside));
    await note(tx, jobId, "Source is elsewhere now", { from: row.path, path: looked.path });
    await announce(tx, jobId);
  });
}

type SourceRow = typeof sources.$inferSelect;
type VolumeRow = typeof stores.$inferSelect;

/** Why a disk is another one; null: it is the same, by its size and the volumes on it. */
function otherDisk(row: SourceRow, known: readonly VolumeRow[], found: InspectedSource): string | null {
  if (found.size !== row.size) return `it has ${found.size} bytes, and the source had ${row.size}`;
  if (row.mark && found.mark && row.mark !== found.mark) return "its bytes are not the same at its beginning, middle or end";
  return missingVolume(known, found, (volume, each) => each.label === volume.label);
}

const isSameVolume = (a: Pick<VolumeRow, "offset" | "filesystem" | "view">, b: Pick<VolumeRow, "offset" | "filesystem" | "view">) =>
  a.offset === b.offset && a.filesystem === b.filesystem && a.view === b.view;

/** Which volume that was read is not on a disk, in words; null: all are there. @param same what else must agree */
function missingVolume(
  known: readonly VolumeRow[],
  found: InspectedSource,
  same: (volume: VolumeRow, each: InspectedSource["volumes"][number]) => boolean = () => true,
): string | null {
  const missing = known.find(
    (volume) => volume.standing === "present" && !found.volumes.some((each) => isSameVolume(each, volume) && same(volume, each)),
  );
  return missing ? `the volume “${missing.label ?? `volume ${missing.number}`}” is not on it` : null;
}

const SAMPLE = 40;

/** Why a folder is another one; null: files that were read in it are there too. */
async function otherFolder(db: Database, row: SourceRow, { path, found }: Looked): Promise<string | null> {
  if (row.container !== FOLDER || found.container !== FOLDER) return "the one is a folder, the other is not";
  const { rows } = await db.execute<{ file: string; size: string }>(sql`
    select c.file, coalesce(c.file_size, c.size) as size from copies c join stores v on v.id = c.store_id where v.source_id = ${row.id} and c.file is not null order by md5(c.id::text) limit ${SAMPLE}`);
  const there = rows.filter(
    ({ file, size }) => statSync(/*turbopackIgnore: true*/ `${path}/${file}`, { throwIfNoEntry: false })?.size === Number(size),
  ).length;
  return there * 2 >= rows.length ? null : `of ${rows.length} files that were read in it, ${there} are there`;
}

/**
 * Reads the structure of a source anew: volumes that were not seen before are added, those known are described anew. Stretches that could
 * not be read are asked for again. What was found stays.
 * @throws Problem when a volume that was read is not there any more
 */
export async function rereadSource(db: Database, jobId: number, sourceId: number): Promise<void> {
  const row = await sourceOf(db, jobId, sourceId);
  const { found } = await look(row.path, row.beside, row.within);
  await db.transaction(async (tx) => {
    const known = await tx.select().from(stores).where(eq(stores.sourceId, sourceId));
    const other = missingVolume(known, found);
    if (other) throw new Problem(`Another source is at this place now: ${other}. Add it as a source of its own.`, 409);
    let added = 0;
    for (const volume of found.volumes) {
      const same = known.find((each) => isSameVolume(each, volume));
      const values = { ...volume, notes: [...volume.notes] };
      if (same)
        await tx
          .update(stores)
          .set({ ...values, number: same.number })
          .where(eq(stores.id, same.id));
      else {
        added += 1;
        const taken = known.some((each) => each.number === volume.number);
        await tx
          .insert(stores)
          .values({ sourceId, ...values, ...(taken ? { number: Math.max(...known.map(({ number }) => number)) + added } : {}) });
      }
    }
    await findHomes(tx, jobId, sourceId);
    await tx
      .update(sources)
      .set({ ...structureOf(found), unreadable: [] })
      .where(eq(sources.id, sourceId));
    await note(tx, jobId, "Source read again", { source: row.name, volumes: found.volumes.length, new: added });
    await announce(tx, jobId);
  });
}

/** Ids of a source and of all that lie inside it. */
async function nestedIn(tx: Pick<Database, "execute">, sourceId: number): Promise<number[]> {
  const { rows } = await tx.execute<{ id: number }>(sql`
    with recursive nested as (
      select id from sources where id = ${sourceId}
      union select s.id from nested n join stores v on v.source_id = n.id join sources s on s.parent_store_id = v.id)
    select id from nested`);
  return rows.map(({ id }) => id);
}

/**
 * Takes a source out of the job, and with it those that lie inside it.
 * @param results whether what was found in them may go too; otherwise searched ones stay
 */
export async function removeSource(db: Database, jobId: number, sourceId: number, results = false): Promise<void> {
  const row = await sourceOf(db, jobId, sourceId);
  await db.transaction(async (tx) => {
    const all = await nestedIn(tx, sourceId);
    const rows = await tx
      .select({ running: sql<boolean>`${passes.state} in ('queued', 'running')` })
      .from(passes)
      .where(inArray(passes.sourceId, all));
    if (rows.some(({ running }) => running)) throw new Problem("A pass is reading this source, or one inside it: stop it first.", 409);
    if (rows.length > 0 && !results)
      throw new Problem("This source, or one inside it, has been searched: what was found in it would go with it.", 409);
    await forgetCopies(tx, jobId, all);
    await tx.delete(sources).where(eq(sources.id, sourceId));
    await note(tx, jobId, "Source removed", { source: row.name, path: row.path });
    await announce(tx, jobId);
  });
}

/** Removes the copies found in sources; items that other sources hold copies of stay, with those. */
async function forgetCopies(tx: Pick<Database, "execute">, jobId: number, sourceIds: readonly number[]): Promise<void> {
  const own = sql`(select id from stores where source_id = any(${sql.raw(`'{${sourceIds.join(",")}}'::int[]`)}))`;
  await tx.execute(sql`create temp table forgotten on commit drop as
    select distinct item_id as id from copies where job_id = ${jobId} and store_id in ${own} and item_id is not null`);
  await tx.execute(sql`delete from tray_entries t using copies c where t.job_id = ${jobId} and c.id = t.copy_id and c.store_id in ${own}`);
  await tx.execute(sql`delete from thumbnails t using copies c where c.id = t.copy_id and c.job_id = ${jobId} and c.store_id in ${own}`);
  await tx.execute(sql`delete from copies where job_id = ${jobId} and store_id in ${own}`);
  const without = sql`select f.id from forgotten f where not exists (select 1 from copies c where c.item_id = f.id)`;
  await tx.execute(sql`delete from tray_entries where job_id = ${jobId} and item_id in (${without})`);
  await tx.execute(sql`delete from items where id in (${without})`);
  await tx.execute(
    sql`update items i set overruled = false from forgotten f where i.id = f.id and not exists (select 1 from copies c where c.id = i.best_copy_id)`,
  );
  await tx.execute(sql.raw(gatherCopies("select f.id from forgotten f join items i on i.id = f.id")));
  // Of a home that nothing else shows, items go to the folder of a copy that is there: one that was joined to them for what it holds.
  const gone = sql`(select p.home_id from home_paths p where p.store_id in ${own} and not exists (
    select 1 from home_paths o where o.home_id = p.home_id and not o.store_id in ${own}))`;
  await tx.execute(sql`update items i set folder_id = c.folder_id, key = i.key || '#' || i.id from copies c, folders f
    where c.id = i.best_copy_id and i.job_id = ${jobId} and f.id = i.folder_id and f.home_id in ${gone}`);
  await tx.execute(sql`delete from folders where job_id = ${jobId} and home_id in ${gone}`);
  await tx.execute(sql`delete from homes where job_id = ${jobId} and id in ${gone}`);
}
