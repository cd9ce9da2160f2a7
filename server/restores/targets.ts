import { eq, sql } from "drizzle-orm";
import { NamePattern } from "../../core/restore/arrange";
import { repairedName, streamFileName } from "../../core/restore/names";
import { SECOND_FILE } from "../../core/restore/two-files";
import type { Connection } from "../database/connection";
import { jobs } from "../database/schema";
import { Problem } from "../problem";
import type { RehearsedFile, RestoreLayout, RestorePlan, StreamWish } from "./contract";
import { destinationRoot, deviceOf } from "./delivery";
import { bagFolder, componentsOf, homeFolders, settledAt } from "./placing";
import { problemOf, REPAIRED, restoredHomes, SECOND, secondFileOf, type TrayRow, trayCopies } from "./planned";

/** What is needed to say where the copies of a job's tray go. */
export interface Targets {
  readonly root: string;
  readonly folders: ReadonlyMap<number, readonly string[]>;
  readonly timeZone: string;
  readonly layout: RestoreLayout;
  readonly pattern: NamePattern | null;
  readonly streams: StreamWish;
  readonly repaired: boolean;
  /** What stands above all of them where a package is made; with a limit the number of it is only known when it is begun. */
  readonly above: readonly string[];
  /** Bytes of the largest file the destination's file system takes; null: none that matters, or not known. */
  readonly largestFile: number | null;
}

/** @param restoreId the restore whose files are meant; null: those of the tray */
export async function targetsFor(
  db: Connection,
  jobId: number,
  plan: Pick<RestorePlan, "destination" | "delivery" | "layout" | "names" | "form" | "streams" | "repaired">,
  restoreId: number | null = null,
): Promise<Targets> {
  const [job] = await db.select({ timeZone: jobs.timeZone }).from(jobs).where(eq(jobs.id, jobId));
  if (!job) throw new Problem("There is no such job.", 404);
  const root = destinationRoot(plan);
  const homes = await restoredHomes(db, jobId);
  // On a replacement files of one drive go back to where they stood; those of several would meet there.
  const own = plan.destination === "" && (await homesConcerned(db, jobId, restoreId)) === 1;
  return {
    root,
    folders: own ? new Map(homes.map(({ id }) => [id, []])) : homeFolders(homes),
    timeZone: job.timeZone,
    layout: plan.layout,
    pattern: patternOf(plan),
    streams: plan.streams,
    repaired: plan.repaired,
    above: bagFolder(plan.form, null),
    largestFile: deviceOf(root)?.largestFile ?? null,
  };
}

/** The pattern of names a plan wishes; null: files keep their own. */
export const patternOf = ({ names }: Pick<RestorePlan, "names">): NamePattern | null => (names === "" ? null : new NamePattern(names));

/** How many drives of the client the files of a restore, or of the tray, come from. */
async function homesConcerned(db: Connection, jobId: number, restoreId: number | null): Promise<number> {
  const copies =
    restoreId === null ? trayCopies(jobId) : sql`(select copy_id, place_home from restore_results where restore_id = ${restoreId})`;
  const { rows } = await db.execute<{ homes: number }>(sql`
    select count(distinct coalesce(e.place_home, f.home_id))::int as homes from ${copies} e join copies c on c.id = e.copy_id join folders f on f.id = c.folder_id`);
  return rows[0]?.homes ?? 0;
}

export interface PlannedFile extends Omit<RehearsedFile, "exists" | "target"> {
  readonly components: readonly string[];
}

/** The files an entry of the tray means: its content, then its named streams. */
export function filesOf(row: TrayRow, targets: Targets): PlannedFile[] {
  const { folders, above, largestFile } = targets;
  const size = Number(row.size);
  const modified = row.modified ? new Date(row.modified) : null;
  const { homeFolder, row: settled } = settledAt(targets.layout === "tree" ? row : { ...row, place_home: null }, folders);
  const shared = {
    itemId: Number(row.item_id),
    copyId: Number(row.copy_id),
    kind: row.kind,
    condition: row.condition,
    modified,
    best: !row.chosen_copy,
    placed: targets.layout === "tree" && row.place_home !== null && folders.has(row.place_home),
    survival: row.survival,
    live: row.live,
    opens: row.opens,
    better: row.better,
  };
  const beside = { condition: "not-checked", opens: null, better: null, missing: 0 } as const;
  const content: PlannedFile = {
    ...shared,
    stream: null,
    path: `${row.folder}/${row.name}`,
    components: [...above, ...componentsOf(homeFolder, { ...settled, modified }, targets)],
    size,
    problem: problemOf({ ...row, size }) ?? tooLargeFor(size, largestFile),
    missing: row.condition === "partial" ? Number(row.missing) : 0,
  };
  const first = targets.repaired && row.opens === "no" ? [content, toRepaired(content)] : [content];
  if (targets.streams === "leave" || targets.streams === "keep") return first;
  if (targets.streams === "two-file") {
    const second = secondFileOf(row.streams);
    if (!second) return first;
    const { size: bytes } = second.layout;
    const path = `${row.folder}/${SECOND_FILE}${row.name}`;
    const components = [...content.components.slice(0, -1), `${SECOND_FILE}${content.components.at(-1)}`];
    const problem = content.problem ?? tooLargeFor(bytes, largestFile);
    return [...first, { ...shared, stream: SECOND, path, components, size: bytes, problem, ...beside }];
  }
  const streams = (row.streams ?? []).map(
    (stream, index): PlannedFile => ({
      ...shared,
      stream: index,
      path: `${row.folder}/${streamFileName(row.name, stream.name)}`,
      components: [...above, ...componentsOf(homeFolder, { ...settled, modified, stream: stream.name }, targets)],
      size: stream.size,
      ...beside,
      problem: stream.layout === null && stream.size > 0 ? "Where this stream stands is not known." : tooLargeFor(stream.size, largestFile),
    }),
  );
  return [...first, ...streams];
}

/** The repaired form of a file, beside it; how large it will be is not known before it is made. */
const toRepaired = (content: PlannedFile): PlannedFile => ({
  ...content,
  stream: REPAIRED,
  path: repairedName(content.path, false),
  components: [...content.components.slice(0, -1), repairedName(content.components.at(-1) as string, false)],
  condition: "not-checked",
  opens: null,
  better: null,
  missing: 0,
});

const tooLargeFor = (size: number, largest: number | null): string | null =>
  largest !== null && size > largest ? "It is larger than a file can be on the destination’s file system: choose another device." : null;
