import { extname } from "node:path";
import { type SQL, sql } from "drizzle-orm";
import { decodeLayout } from "../../core/bytes/layout-code";
import { ABSENCE_WORDS } from "../../core/copies/vocabulary";
import { type Absence, FILE_MARK } from "../../core/filesystems/file-record";
import type { Kind } from "../../core/formats/format";
import { kindOf } from "../../core/formats/registry";
import { arrange, type RestoreLayout } from "../../core/restore/arrange";
import { PAYLOAD } from "../../core/restore/bagit";
import { numberedName, safeComponents, safeName, streamFileName } from "../../core/restore/names";
import { type TwoFiles, twoFileLayout } from "../../core/restore/two-files";
import type { RestoreForm } from "../../core/restore/wishes";
import type { Connection } from "../database/connection";

/** What stands in place of a stream's number for all of them in the second file of the two-file form. */
export const SECOND = -1;

/** The second file of a copy in the two-file form; null: nothing has a place in it. */
export const secondFileOf = (streams: readonly StoredStream[] | null): TwoFiles | null =>
  twoFileLayout(
    (streams ?? []).map(({ name, size, layout }) => ({
      name,
      size,
      layout: layout === null ? null : decodeLayout(Buffer.from(layout, "base64")),
    })),
  );

export interface StoredStream {
  name: string;
  size: number;
  /** Encoded, in base64; null: where it stands is not known. */
  layout: string | null;
}

/** One entry of the tray with the copy that would be written. */
export interface TrayRow extends Record<string, unknown> {
  item_id: string;
  copy_id: string;
  chosen_copy: boolean;
  name: string;
  folder: string;
  size: string;
  modified: string | null;
  condition: string;
  readable: boolean;
  absent: Absence | null;
  missing: string;
  streams: StoredStream[] | null;
  home_id: number;
  dated: boolean;
  kind: Kind;
}

/** Bytes of a copy that are known to be missing. */
export const MISSING = sql`((c.evidence->>'usedByOthers')::bigint + (c.evidence->>'takenLater')::bigint + (c.evidence->>'lost')::bigint + (c.evidence->>'unreadable')::bigint)`;
/** Whether a copy can be written at all. */
export const WRITABLE = sql`(c.condition <> 'name-only' and c.absent is null and (c.layout is not null or c.size = 0))`;

/**
 * What is in a job's tray as (item_id, copy_id, chosen_copy, dated): an entry without a copy means the item's best one. What a running
 * restore is writing is left out. `dated`: several copies of the item are chosen, and their names must be distinguished.
 * @param items a query for the ids of the items to keep to; without it all of the tray
 */
export const trayCopies = (jobId: number, items?: SQL): SQL => sql`(
  select e.*, count(*) over (partition by e.item_id) > 1 as dated
  from (select t.item_id, coalesce(t.copy_id, i.best_copy_id) as copy_id, bool_or(t.copy_id is not null) as chosen_copy
    from tray_entries t join items i on i.id = t.item_id
    where t.job_id = ${jobId} ${items ? sql`and t.item_id in (${items})` : sql``} group by 1, 2) e
  where not exists (select 1 from restores s join restore_results r on r.restore_id = s.id
    where s.job_id = ${jobId} and s.state in ('queued', 'running', 'paused') and r.state in ('waiting', 'writing') and r.copy_id = e.copy_id))`;

/** Trays with more items are listed in the order of these, which needs no sorting. */
const SORTED = 20_000;
const TRAY_COLUMNS = sql`e.item_id, e.copy_id, e.chosen_copy, e.dated, case when c.condition = 'partial' then ${MISSING} else 0 end as missing,
  (c.layout is not null) as readable, c.absent, c.streams, c.name, c.size, c.modified, c.condition, f.home_id, f.path as folder,
  (select k.kind from items k where k.id = e.item_id) as kind`;
const ITEM_IDS = (jobId: number, after: number, offset: number, limit: number) =>
  sql`select distinct item_id from tray_entries where job_id = ${jobId} and item_id > ${after} order by item_id offset ${offset} limit ${limit}`;

/** Which of the tray's files a page shows: all, those of which bytes are missing, those that cannot be written. */
export const TRAY_PARTS = ["all", "gaps", "unwritable"] as const;
export type TrayPart = (typeof TRAY_PARTS)[number];
const WITH_GAPS = sql`(case when c.condition = 'partial' and ${WRITABLE} then ${MISSING} > 0 else false end)`;
const PARTS: Readonly<Record<TrayPart, SQL>> = { all: sql`true`, gaps: WITH_GAPS, unwritable: sql`(not ${WRITABLE})` };

/** A page of the tray, in an order that stays the same, and how many pages there are. */
export async function trayPage(
  db: Connection,
  jobId: number,
  page: number,
  size: number,
  part: TrayPart = "all",
): Promise<{ rows: TrayRow[]; pages: number }> {
  if (part !== "all") return partOfTray(db, jobId, page, size, part);
  const { rows: counts } = await db.execute<{ entries: number }>(
    sql`select count(*)::int as entries from tray_entries where job_id = ${jobId}`,
  );
  const entries = counts[0]?.entries ?? 0;
  const sorted = entries <= SORTED;
  const { rows } = await db.execute<TrayRow>(sql`
    select ${TRAY_COLUMNS}
    from ${trayCopies(jobId, sorted ? undefined : ITEM_IDS(jobId, 0, page * size, size))} e
    join copies c on c.id = e.copy_id join folders f on f.id = c.folder_id
    ${sorted ? sql`order by f.path, c.name, e.item_id, e.copy_id offset ${page * size} limit ${size}` : sql`order by e.item_id, e.copy_id`}`);
  return { rows, pages: Math.max(1, Math.ceil(entries / size)) };
}

/** A page of what a part has, in the order of its items. */
async function partOfTray(db: Connection, jobId: number, page: number, size: number, part: TrayPart) {
  const chosen = sql`${trayCopies(jobId)} e join copies c on c.id = e.copy_id`;
  const { rows: counts } = await db.execute<{ entries: number }>(sql`select count(*)::int as entries from ${chosen} where ${PARTS[part]}`);
  const { rows } = await db.execute<TrayRow>(sql`
    select ${TRAY_COLUMNS} from ${chosen} join folders f on f.id = c.folder_id where ${PARTS[part]}
    order by e.item_id, e.copy_id offset ${page * size} limit ${size}`);
  return { rows, pages: Math.max(1, Math.ceil((counts[0]?.entries ?? 0) / size)) };
}

/** All of the tray, a part at a time, so that it need not stand in memory. */
export async function* trayParts(db: Connection, jobId: number, step: number): AsyncGenerator<TrayRow[], void, void> {
  for (let after = 0; ; ) {
    const { rows: items } = await db.execute<{ item_id: string }>(ITEM_IDS(jobId, after, 0, step));
    const last = items[items.length - 1];
    if (!last) return;
    const ids = sql.raw(`select unnest('{${items.map(({ item_id }) => Number(item_id)).join(",")}}'::bigint[])`);
    const { rows } = await db.execute<TrayRow>(sql`
      select ${TRAY_COLUMNS} from ${trayCopies(jobId, ids)} e join copies c on c.id = e.copy_id join folders f on f.id = c.folder_id order by e.item_id, e.copy_id`);
    yield rows;
    after = Number(last.item_id);
  }
}

/** Sums over all of a tray. */
export interface TraySums {
  readonly entries: number;
  readonly writable: number;
  readonly withGaps: number;
  /** Of what can be written. */
  readonly bytes: number;
  /** Bytes of the blocks they fill. */
  readonly needed: number;
  readonly streams: number;
  readonly streamBytes: number;
  readonly withStreams: number;
  readonly readOnly: number;
  readonly hidden: number;
}

/** @param on bytes of a block there, and of the largest file */
export async function sumTray(
  db: Connection,
  jobId: number,
  on: { readonly block: number; readonly largestFile: number | null },
): Promise<TraySums> {
  const fits = sql`(${WRITABLE} and c.size <= ${on.largestFile ?? Number.MAX_SAFE_INTEGER})`;
  const { rows } = await db.execute<Record<keyof TraySums, string>>(sql`
    select count(*) as entries, count(*) filter (where ${fits}) as writable,
      count(*) filter (where ${WITH_GAPS}) as "withGaps",
      coalesce(sum(c.size) filter (where ${fits}), 0)::bigint as bytes,
      coalesce(sum(ceil(c.size::numeric / ${on.block}) * ${on.block}) filter (where ${fits}), 0)::bigint as needed, coalesce(sum(jsonb_array_length(c.streams)), 0)::bigint as streams,
      count(*) filter (where c.streams is not null) as "withStreams", count(*) filter (where c.marks & ${FILE_MARK.readOnly} <> 0) as "readOnly",
      count(*) filter (where c.marks & ${FILE_MARK.hidden} <> 0) as hidden,
      coalesce(sum(case when c.streams is null then 0 else (select sum((s->>'size')::bigint) from jsonb_array_elements(c.streams) s) end), 0)::bigint as "streamBytes"
    from ${trayCopies(jobId)} e join copies c on c.id = e.copy_id`);
  const sums = rows[0] as (typeof rows)[number];
  return {
    entries: Number(sums.entries),
    writable: Number(sums.writable),
    withGaps: Number(sums.withGaps),
    bytes: Number(sums.bytes),
    needed: Number(sums.needed),
    streams: Number(sums.streams),
    streamBytes: Number(sums.streamBytes),
    withStreams: Number(sums.withStreams),
    readOnly: Number(sums.readOnly),
    hidden: Number(sums.hidden),
  };
}

export interface RestoredHome {
  readonly id: number;
  readonly label: string;
  /** The first source that shows it. */
  readonly sourceName: string;
}

/** The homes of a job, as the folders of its restores are called after them. */
export async function restoredHomes(db: Connection, jobId: number): Promise<RestoredHome[]> {
  const { rows } = await db.execute<{ id: number; label: string; name: string | null }>(sql`
    select h.id, h.label, (select s.name from home_paths p join stores v on v.id = p.store_id join sources s on s.id = v.source_id
      where p.home_id = h.id order by v.id limit 1) as name from homes h where h.job_id = ${jobId} order by h.id`);
  return rows.map(({ id, label, name }) => ({ id, label, sourceName: name ?? label }));
}

/** The folder each home's files go to: its own name; where several are called alike, within a folder of their source. */
export function homeFolders(volumes: readonly RestoredHome[]): Map<number, readonly string[]> {
  const own = (volume: RestoredHome) => safeName(volume.label);
  const folders = new Map<number, readonly string[]>();
  const taken = new Set<string>();
  for (const volume of volumes) {
    const name = own(volume);
    const alone = volumes.filter((each) => fold(own(each)) === fold(name)).length === 1;
    const source = safeName(volume.sourceName.slice(0, volume.sourceName.length - extname(volume.sourceName).length) || volume.sourceName);
    let path = alone ? [name] : [source, name];
    for (let number = 2; taken.has(fold(path.join("/"))); number += 1) path = [...path.slice(0, -1), numberedName(name, number)];
    taken.add(fold(path.join("/")));
    folders.set(volume.id, path);
  }
  return folders;
}

/** Names that differ in case or Unicode form alone are one on many devices. */
export const fold = (name: string): string => name.normalize("NFC").toLowerCase();

/** A file's own name with the moment of its last change, for several copies of one file beside each other. */
export function datedName(name: string, modified: Date | null, timeZone: string): string {
  const moment = modified
    ? modified.toLocaleString("sv-SE", { timeZone, dateStyle: "short", timeStyle: "short" }).replace(":", ".")
    : "no date";
  const extension = extname(name);
  return `${name.slice(0, name.length - extension.length)} (${moment})${extension}`;
}

interface Placed {
  readonly folder: string;
  readonly name: string;
  readonly stream?: string | null;
  readonly dated: boolean;
  readonly modified: Date | null;
}

/** Names of folders and file below the destination: the volume's, then as it was on the volume; or as another layout has it. */
export function componentsOf(
  volumeFolder: readonly string[],
  { folder, name, stream, dated, modified }: Placed,
  { timeZone, layout }: { readonly timeZone: string; readonly layout: RestoreLayout },
): string[] {
  const own = dated ? datedName(name, modified, timeZone) : name;
  const written = stream == null ? own : streamFileName(own, stream);
  if (layout === "tree") return [...volumeFolder, ...safeComponents(`${folder}/${written}`)];
  const file = { path: `${folder}/${written}`, name: written, kind: kindOf(name), modified: localTime(modified, timeZone), number: 0 };
  return arrange(file, layout, null);
}

/** The folders a file's package has below the destination, its payload's the last: none for plain files. @param bag null: there is one package */
export const bagFolder = (form: RestoreForm, bag: number | null): string[] =>
  form === "files" ? [] : [...(bag === null ? [] : [`Package ${bag}`]), PAYLOAD];

/** A moment as the clocks of a zone had it, as if that were UTC; milliseconds. */
const localTime = (moment: Date | null, timeZone: string): number | null =>
  moment && Date.parse(`${moment.toLocaleString("sv-SE", { timeZone }).replace(" ", "T")}Z`);

/** Why a copy cannot be written; null: it can. A content of no bytes needs no place. */
export function problemOf(copy: { condition: string; readable: boolean; size: number; absent: Absence | null }): string | null {
  if (copy.condition === "name-only") return "Nothing of its content is left.";
  if (copy.absent) return ABSENCE_WORDS[copy.absent];
  return copy.readable || copy.size === 0 ? null : "Its content cannot be read; its notes say why.";
}
