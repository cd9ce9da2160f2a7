import { readdirSync, statSync } from "node:fs";
import { and, eq, isNull, or } from "drizzle-orm";
import { FOLDER } from "../../io/open-searchable";
import { hasAttributeTools } from "../../io/own-attributes";
import type { Connection } from "../database/connection";
import { jobs, sources } from "../database/schema";
import type { RestorePlan } from "./contract";
import { refusal } from "./delivery";

/** What a job's restores must not write to: the images, drives and folders of its own, and of every other job that is worked on. */
export async function guardedOf(db: Connection, jobId: number): Promise<{ images: string[]; folders: string[] }> {
  const all = await db
    .select({ path: sources.path, container: sources.container })
    .from(sources)
    .innerJoin(jobs, eq(jobs.id, sources.jobId))
    // What lies inside another source is guarded with it.
    .where(and(isNull(sources.parentStoreId), or(eq(sources.jobId, jobId), isNull(jobs.archivedAt))))
    .groupBy(sources.path, sources.container);
  const paths = (folder: boolean) => all.filter((row) => (row.container === FOLDER) === folder).map((row) => row.path);
  return { images: paths(false), folders: paths(true) };
}

/** Why nothing may be written below `root`, as far as sources are concerned; null: it may. */
export async function refusalFor(db: Connection, jobId: number, root: string): Promise<string | null> {
  const { images, folders } = await guardedOf(db, jobId);
  return refusal(root, images, folders);
}

/** Why streams cannot be kept with their files, where that is wished; null: they can. */
export const refusalOfStreams = ({ streams }: Pick<RestorePlan, "streams">): string | null =>
  streams === "keep" && !hasAttributeTools()
    ? "Named streams cannot be kept with their files: the system's package “attr” is not installed. Install it, or choose another way for them."
    : null;

/** Why a package cannot be made there: it needs a folder of its own. null: it can. */
export const refusalOfBag = ({ form }: Pick<RestorePlan, "form">, root: string): string | null =>
  form === "bag" && (statSync(root, { throwIfNoEntry: false })?.isDirectory() ?? false) && readdirSync(root).length > 0
    ? "A package needs a folder of its own, and this one has something in it already. Choose another name."
    : null;
