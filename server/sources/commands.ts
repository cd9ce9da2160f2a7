import { statSync } from "node:fs";
import { basename } from "node:path";
import { sql } from "drizzle-orm";
import { FileSystemError } from "../../core/filesystems/file-record";
import { usageProfile } from "../../core/filesystems/usage-profile";
import { type DiskReport, openVolume, type VolumeReport } from "../../core/volumes/inspect";
import { DRIVE } from "../../io/drives";
import { FolderSource } from "../../io/folder-source";
import { FOLDER } from "../../io/open-searchable";
import { type OpenedSource, openSource } from "../../io/open-source";
import { SourceError } from "../../io/source-error";
import type { Database } from "../database/connection";
import { sources, volumes } from "../database/schema";
import { note } from "../log/commands";
import { Problem } from "../problem";
import { refusal } from "../restores/delivery";
import { readSettings } from "../settings";
import { driveTitle, permittedDrive, warningOf } from "./drives";
import { permittedSource } from "./source-folders";

/**
 * Reads the structure of an image in a source folder, or takes a folder as it is, and adds it to the job.
 * @param beside further files that hold parts or parents of the image
 * @returns the source's id
 */
export async function addSource(db: Database, jobId: number, path: string, beside: readonly string[] = []): Promise<number> {
  const real = permittedSource(path);
  if (statSync(real).isDirectory()) return addFolder(db, jobId, real);
  const further = beside.map(permittedSource);
  const drive = statSync(real).isBlockDevice() ? permittedDrive(real) : null;
  const opened = open(real, further);
  try {
    const { report } = opened;
    const warning = drive && warningOf(drive);
    return await db.transaction(async (tx) => {
      const [row] = await tx
        .insert(sources)
        .values({
          jobId,
          path: real,
          name: drive ? driveTitle(drive) : basename(real),
          beside: further,
          size: report.size,
          container: drive ? DRIVE : report.container,
          tableKind: report.table,
          notes: [...(warning ? [warning] : []), ...report.notes, ...identityOf(report)],
        })
        .onConflictDoNothing()
        .returning({ id: sources.id });
      if (!row) throw new Problem("This source is already part of the job.", 409);
      const rows = report.volumes.map((volume) => ({ sourceId: row.id, ...volumeRow(opened, volume) }));
      if (rows.length > 0) await tx.insert(volumes).values(rows);
      await note(tx, jobId, "Source added", { path: real, volumes: rows.length });
      return row.id;
    });
  } finally {
    opened.close();
  }
}

/** What a container tells of itself. */
function identityOf({ identity, created }: DiskReport): string[] {
  if (!identity) return [];
  const made = created ? `, made ${new Date(created).toISOString().slice(0, 16).replace("T", " ")} UTC` : "";
  return [`The image’s own identity is ${identity}${made}.`];
}

/** A folder of this computer: a mounted drive, a copied profile, a backup disk. */
async function addFolder(db: Database, jobId: number, path: string): Promise<number> {
  const refused = refusal(readSettings().COMPASS_DELIVERY, [], [path]);
  if (refused) throw new Problem(refused, 409);
  const folder = inWords(() => new FolderSource(path));
  return db.transaction(async (tx) => {
    const [row] = await tx
      .insert(sources)
      .values({ jobId, path, name: folder.label, size: 0, container: FOLDER, tableKind: "none", notes: [] })
      .onConflictDoNothing()
      .returning({ id: sources.id });
    if (!row) throw new Problem("This source is already part of the job.", 409);
    await tx.insert(volumes).values({
      sourceId: row.id,
      number: 0,
      offset: 0,
      length: 0,
      filesystem: FOLDER,
      label: folder.label,
      readable: true,
      notes: [],
    });
    await note(tx, jobId, "Source added", { path, folder: true });
    return row.id;
  });
}

const open = (path: string, beside: readonly string[]): OpenedSource => inWords(() => openSource(path, beside));

/** RFC 4918, 11.4: here, that another file is needed first. */
const FAILED_DEPENDENCY = 424;

/** What keeps a source from being opened is told as it is. */
function inWords<T>(use: () => T): T {
  try {
    return use();
  } catch (error) {
    if (error instanceof SourceError) throw new Problem(error.message, error.asksForFile ? FAILED_DEPENDENCY : 400);
    throw error;
  }
}

function volumeRow(source: OpenedSource, volume: VolumeReport) {
  const base = {
    number: volume.volume,
    offset: volume.offset,
    length: volume.length,
    filesystem: volume.filesystem,
    label: volume.label,
    clusterSize: volume.clusterSize,
    standing: volume.standing,
    closed: volume.closed,
    notes: [...volume.notes],
  };
  try {
    const opened = openVolume(source.disk, volume);
    const profile = opened.allocation ? usageProfile(opened.allocation) : null;
    return {
      ...base,
      readable: true,
      usage: profile ? Buffer.from(profile.shares) : null,
      usedBytes: profile ? profile.used * opened.clusterSize : null,
    };
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return { ...base, readable: false, usage: null, usedBytes: null };
  }
}

export async function removeSource(db: Database, jobId: number, sourceId: number): Promise<void> {
  const [row] = (await db.execute(sql`select count(*)::int as passes from passes where source_id = ${sourceId}`)).rows as {
    passes: number;
  }[];
  if (row && row.passes > 0) throw new Problem("This source has been searched: its results belong to the job, so it stays.", 409);
  const removed = await db
    .delete(sources)
    .where(sql`${sources.id} = ${sourceId} and ${sources.jobId} = ${jobId}`)
    .returning({ id: sources.id });
  if (removed.length === 0) throw new Problem("There is no such source in this job.", 404);
  await note(db, jobId, "Source removed", { sourceId });
}
