import { readdirSync, statSync } from "node:fs";
import { join } from "node:path";
import { and, asc, desc, eq, gt, inArray, isNotNull, isNull, or, sql } from "drizzle-orm";
import type { z } from "zod";
import { NamePattern } from "../../core/restore/arrange";
import { repairedName, streamFileName } from "../../core/restore/names";
import { SECOND_FILE } from "../../core/restore/two-files";
import { whatIsThere } from "../../io/deliver";
import { FOLDER } from "../../io/open-searchable";
import type { Connection } from "../database/connection";
import { jobs, restoreResults, restores, sources } from "../database/schema";
import { Problem } from "../problem";
import {
  type DeliveryEntry,
  REHEARSAL_PAGE,
  RESULT_PAGE,
  type RehearsalPage,
  type RehearsalSums,
  type RehearsedFile,
  type Restore,
  type RestoreLayout,
  type RestorePlan,
  type Result,
  type ResultPage,
  type resultQuery,
  type StreamWish,
} from "./contract";
import { blockSizeIn, checkDestination, deliveryFolders, destinationRoot, deviceOf, freeBytesIn, refusal } from "./delivery";
import { bagFolder, componentsOf, homeFolders } from "./placing";
import {
  problemOf,
  REPAIRED,
  restoredHomes,
  SECOND,
  secondFileOf,
  sumTray,
  type TrayPart,
  type TrayRow,
  trayCopies,
  trayPage,
  trayParts,
} from "./planned";
import { lookAgain } from "./since";

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

const patternOf = ({ names }: Pick<RestorePlan, "names">): NamePattern | null => (names === "" ? null : new NamePattern(names));

/** How many drives of the client the files of a restore, or of the tray, come from. */
async function homesConcerned(db: Connection, jobId: number, restoreId: number | null): Promise<number> {
  const copies = restoreId === null ? trayCopies(jobId) : sql`(select copy_id from restore_results where restore_id = ${restoreId})`;
  const { rows } = await db.execute<{ homes: number }>(sql`
    select count(distinct f.home_id)::int as homes from ${copies} e join copies c on c.id = e.copy_id join folders f on f.id = c.folder_id`);
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
  const home = folders.get(row.home_id) ?? [];
  const shared = {
    itemId: Number(row.item_id),
    copyId: Number(row.copy_id),
    kind: row.kind,
    condition: row.condition,
    modified,
    best: !row.chosen_copy,
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
    components: [...above, ...componentsOf(home, { ...row, modified }, targets)],
    size,
    problem: problemOf({ ...row, size }) ?? tooLargeFor(size, largestFile),
    missing: row.condition === "partial" ? Number(row.missing) : 0,
  };
  const first = targets.repaired && row.opens === "no" ? [content, toRepaired(content)] : [content];
  if (targets.streams === "leave") return first;
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
      components: [...above, ...componentsOf(home, { ...row, modified, stream: stream.name }, targets)],
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

/** Why a package cannot be made there: it needs a folder of its own. null: it can. */
export const refusalOfBag = ({ form }: Pick<RestorePlan, "form">, root: string): string | null =>
  form === "bag" && (statSync(root, { throwIfNoEntry: false })?.isDirectory() ?? false) && readdirSync(root).length > 0
    ? "A package needs a folder of its own, and this one has something in it already. Choose another name."
    : null;

/** Says which package each file of a restore goes to, in order, so that none holds more than the limit but for a single file that does. */
export async function assignBags(tx: Connection, restoreId: number, limit: number | null): Promise<void> {
  if (limit === null) return;
  const { rows } = await tx.execute<{ id: string; size: string }>(
    sql`select id, size from restore_results where restore_id = ${restoreId} order by id`,
  );
  let bag = 1;
  let inBag = 0;
  let first = 0;
  const ranges: { bag: number; from: number; to: number }[] = [];
  for (const row of rows) {
    const [id, size] = [Number(row.id), Number(row.size)];
    if (inBag > 0 && inBag + size > limit) {
      bag += 1;
      inBag = 0;
    }
    if (ranges[bag - 1] === undefined) {
      first = id;
      ranges.push({ bag, from: first, to: id });
    } else ranges[bag - 1] = { bag, from: first, to: id };
    inBag += size;
  }
  await tx.execute(sql`
    update restore_results r set bag = b.bag from jsonb_to_recordset(${JSON.stringify(ranges)}::jsonb) as b(bag int, "from" bigint, "to" bigint)
    where r.restore_id = ${restoreId} and r.id between b."from" and b."to"`);
}

/** One page of what would be written where. Nothing is written. */
export async function rehearsePage(
  db: Connection,
  jobId: number,
  plan: RestorePlan,
  page = 0,
  part: TrayPart = "all",
): Promise<RehearsalPage> {
  checkDestination(plan);
  const targets = await targetsFor(db, jobId, plan);
  const { root } = targets;
  const { rows, pages } = await trayPage(db, jobId, page, REHEARSAL_PAGE, part, targets.pattern?.counts);
  const planned = rows.flatMap((row) => filesOf(row, targets));
  return {
    root,
    page,
    pages,
    files: await Promise.all(planned.map((file) => toRehearsed(file, root))),
    freeBytes: freeBytesIn(root),
    device: deviceOf(root),
    refused: (await refusalFor(db, jobId, root)) ?? refusalOfBag(plan, root),
  };
}

/** Sums over all that would be written, and why it cannot be. */
export async function rehearseSums(db: Connection, jobId: number, plan: RestorePlan): Promise<RehearsalSums> {
  checkDestination(plan);
  const root = destinationRoot(plan);
  const {
    entries,
    writable,
    withGaps,
    streamBytes,
    unopenedBytes,
    bytes: contentBytes,
    needed: contentNeeded,
    ...sums
  } = await sumTray(db, jobId, {
    block: blockSizeIn(root),
    largestFile: deviceOf(root)?.largestFile ?? null,
  });
  const more =
    plan.streams === "beside"
      ? { files: sums.streams, bytes: streamBytes }
      : plan.streams === "two-file"
        ? await sumSecondFiles(db, jobId)
        : { files: 0, bytes: 0 };
  const bytes = contentBytes + more.bytes;
  const needed = contentNeeded + more.bytes + (plan.repaired ? unopenedBytes : 0);
  const freeBytes = freeBytesIn(root);
  return {
    ...sums,
    unread: plan.layout === "date" || patternOf(plan)?.tellsOfContent ? sums.unread : 0,
    writable: writable + more.files,
    unwritable: entries - writable,
    withGaps,
    bytes,
    needed,
    tooLarge:
      freeBytes !== null && needed > freeBytes ? "There is not enough free space for these files. Choose fewer, or another device." : null,
  };
}

/** Items of a tray looked at together. */
const STEP = 5_000;

/** The second files a tray would have in the two-file form. */
async function sumSecondFiles(db: Connection, jobId: number): Promise<{ files: number; bytes: number }> {
  const sums = { files: 0, bytes: 0 };
  for await (const rows of trayParts(db, jobId, STEP))
    for (const row of rows) {
      const second = row.streams && !problemOf({ ...row, size: Number(row.size) }) ? secondFileOf(row.streams) : null;
      if (!second) continue;
      sums.files += 1;
      sums.bytes += second.layout.size;
    }
  return sums;
}

/** The delivery folders of the settings, as they stand to a job. */
export async function listDeliveries(db: Connection, jobId: number): Promise<DeliveryEntry[]> {
  const { images, folders } = await guardedOf(db, jobId);
  return deliveryFolders().map(({ path, replaces }, index) => ({
    path,
    replaces,
    usual: index === 0,
    freeBytes: freeBytesIn(path),
    device: deviceOf(path),
    refused: refusal(path, images, folders),
  }));
}

/** A page of the rehearsal with the sums over all of it. */
export async function rehearse(db: Connection, jobId: number, plan: RestorePlan, page = 0): Promise<RehearsalPage & RehearsalSums> {
  const [files, sums] = [await rehearsePage(db, jobId, plan, page), await rehearseSums(db, jobId, plan)];
  return { ...files, ...sums, refused: files.refused ?? sums.tooLarge };
}

/** A planned file with what is at its target already. */
export async function toRehearsed({ components, ...file }: PlannedFile, root: string): Promise<RehearsedFile> {
  const found = await whatIsThere(root, components);
  return { ...file, target: join(root, ...components), exists: found && { ...found, same: null } };
}

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
