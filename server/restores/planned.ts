import { type SQL, sql } from "drizzle-orm";
import { FILE_MARK } from "../../core/bytes/file-marks";
import { decodeLayout } from "../../core/bytes/layout-code";
import type { CopyFacts } from "../../core/copies/facts";
import { ABSENCE_WORDS, CONDITIONS, type Condition } from "../../core/copies/vocabulary";
import type { Absence } from "../../core/filesystems/file-record";
import type { Kind } from "../../core/formats/format";
import { type NamedStream, type TwoFiles, twoFileLayout } from "../../core/restore/two-files";
import type { Connection } from "../database/connection";
import { OPENS } from "../passes/best-copy";

/** What stands in place of a stream's number for all of them in the second file of the two-file form. */
export const SECOND = -1;
/** What stands there for the repaired form of a content that does not open. */
export const REPAIRED = -2;

/** The named streams of a copy, as they can be read. */
export const streamsOf = (streams: readonly StoredStream[] | null): NamedStream[] =>
  (streams ?? []).map(({ name, size, layout }) => ({
    name,
    size,
    layout: layout === null ? null : decodeLayout(Buffer.from(layout, "base64")),
  }));

/** The second file of a copy in the two-file form; null: nothing has a place in it. */
export const secondFileOf = (streams: readonly StoredStream[] | null): TwoFiles | null => twoFileLayout(streamsOf(streams));

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
  condition: Condition;
  readable: boolean;
  absent: Absence | null;
  missing: string;
  streams: StoredStream[] | null;
  home_id: number;
  dated: boolean;
  place_home: number | null;
  place_folder: string | null;
  place_name: string | null;
  kind: Kind;
  number: number;
  facts: CopyFacts | null;
  nameless: boolean;
  format: string | null;
  survival: number;
  live: boolean;
  opens: "yes" | "no" | "unknown" | null;
  /** The condition of the item's best copy, where that is another one and better. */
  better: Condition | null;
}

/** Bytes of a copy that are known to be missing. */
export const MISSING = sql`((c.evidence->>'usedByOthers')::bigint + (c.evidence->>'takenLater')::bigint + (c.evidence->>'lost')::bigint + (c.evidence->>'unreadable')::bigint)`;
/** Whether a copy can be written at all. */
export const WRITABLE = sql`(c.condition <> 'name-only' and c.absent is null and (c.layout is not null or c.size = 0))`;

/**
 * What is in a job's tray as (item_id, copy_id, chosen_copy, place_home, place_folder, place_name, dated): an entry without a copy means the
 * item's best one. What a running restore is writing is left out. `dated`: several copies of the item are chosen, and their names must be
 * distinguished.
 * @param items a query for the ids of the items to keep to; without it all of the tray
 */
export const trayCopies = (jobId: number, items?: SQL): SQL => sql`(
  select e.*, count(*) over (partition by e.item_id) > 1 as dated
  from (select t.item_id, coalesce(t.copy_id, i.best_copy_id) as copy_id, bool_or(t.copy_id is not null) as chosen_copy,
      max(t.place_home) as place_home, max(t.place_folder) as place_folder, max(t.place_name) as place_name
    from tray_entries t join items i on i.id = t.item_id
    where t.job_id = ${jobId} ${items ? sql`and t.item_id in (${items})` : sql``} group by 1, 2) e
  where not exists (select 1 from restores s join restore_results r on r.restore_id = s.id
    where s.job_id = ${jobId} and s.state in ('queued', 'running', 'paused') and r.state in ('waiting', 'writing') and r.copy_id = e.copy_id))`;

/** Trays with more items are listed in the order of these, which needs no sorting. */
const SORTED = 20_000;
/** What the name of a copy may go by, beside the name it had. */
export const NAMING_COLUMNS = sql`c.facts, octet_length(c.name_raw) = 0 as nameless, c.evidence->'content'->>'format' as format`;
const RANK = (row: string) =>
  `array_position(array[${CONDITIONS.map((condition) => `'${condition}'`).join(",")}], ${row}.condition), -${row}.survival`;
/** The best copy of a tray's item, where another one is chosen that is worse. */
const BETTER = sql.raw(`(select b.condition from items k join copies b on b.id = k.best_copy_id
  where k.id = e.item_id and b.id <> e.copy_id and (${RANK("b")}) < (${RANK("c")}))`);
const OPENED = sql.raw(OPENS("c"));
/** A copy whose content was looked into and does not open. */
export const DOES_NOT_OPEN = sql`((${OPENED} = 'no') is true)`;
const TRAY_COLUMNS = sql`c.survival, c.state = 'live' as live, ${OPENED} as opens, case when e.chosen_copy then ${BETTER} end as better, e.number, ${NAMING_COLUMNS}, e.item_id, e.copy_id, e.chosen_copy, e.dated, e.place_home, e.place_folder, e.place_name, case when c.condition = 'partial' then ${MISSING} else 0 end as missing,
  (c.layout is not null) as readable, c.absent, c.streams, c.name, c.size, c.modified, c.condition, f.home_id, f.path as folder,
  (select k.kind from items k where k.id = e.item_id) as kind`;
const ITEM_IDS = (jobId: number, after: number, offset: number, limit: number) =>
  sql`select distinct item_id from tray_entries where job_id = ${jobId} and item_id > ${after} order by item_id offset ${offset} limit ${limit}`;

/**
 * Which of the tray's files a page shows: all, those of which bytes are missing, that do not open, of which a better copy is known, that
 * cannot be written.
 */
export const TRAY_PARTS = ["all", "gaps", "unopened", "better", "unwritable"] as const;
export type TrayPart = (typeof TRAY_PARTS)[number];
const WITH_GAPS = sql`(case when c.condition = 'partial' and ${WRITABLE} then ${MISSING} > 0 else false end)`;
const PARTS: Readonly<Record<TrayPart, SQL>> = {
  all: sql`true`,
  gaps: WITH_GAPS,
  unopened: DOES_NOT_OPEN,
  better: sql`(e.chosen_copy and ${BETTER} is not null)`,
  unwritable: sql`(not ${WRITABLE})`,
};

/** The order in which the copies of a restore are numbered, where names go by that. */
export const NUMBERED_BY = sql`f.path, c.name, e.copy_id`;

/** The copies of a tray with their numbers: counting them means sorting all of them, so that they are 0 where no name goes by them. */
function numberedCopies(jobId: number, numbered: boolean, items?: SQL): SQL {
  if (!numbered) return sql`(select e.*, 0 as number from ${trayCopies(jobId, items)} e)`;
  const all = sql`(select e.*, row_number() over (order by ${NUMBERED_BY})::int as number
    from ${trayCopies(jobId)} e join copies c on c.id = e.copy_id join folders f on f.id = c.folder_id)`;
  return items ? sql`(select * from ${all} e where e.item_id in (${items}))` : all;
}

/** A page of the tray, in an order that stays the same, and how many pages there are. @param numbered names go by the number of a copy */
export async function trayPage(
  db: Connection,
  jobId: number,
  page: number,
  size: number,
  part: TrayPart = "all",
  numbered = false,
): Promise<{ rows: TrayRow[]; pages: number }> {
  if (part !== "all") return partOfTray(db, jobId, page, size, part, numbered);
  const { rows: counts } = await db.execute<{ entries: number }>(
    sql`select count(*)::int as entries from tray_entries where job_id = ${jobId}`,
  );
  const entries = counts[0]?.entries ?? 0;
  const sorted = entries <= SORTED;
  const { rows } = await db.execute<TrayRow>(sql`
    select ${TRAY_COLUMNS}
    from ${numberedCopies(jobId, numbered, sorted ? undefined : ITEM_IDS(jobId, 0, page * size, size))} e
    join copies c on c.id = e.copy_id join folders f on f.id = c.folder_id
    ${sorted ? sql`order by f.path, c.name, e.item_id, e.copy_id offset ${page * size} limit ${size}` : sql`order by e.item_id, e.copy_id`}`);
  return { rows, pages: Math.max(1, Math.ceil(entries / size)) };
}

/** A page of what a part has, in the order of its items. */
async function partOfTray(db: Connection, jobId: number, page: number, size: number, part: TrayPart, numbered: boolean) {
  const chosen = sql`${numberedCopies(jobId, numbered)} e join copies c on c.id = e.copy_id`;
  const { rows: counts } = await db.execute<{ entries: number }>(sql`select count(*)::int as entries from ${chosen} where ${PARTS[part]}`);
  const { rows } = await db.execute<TrayRow>(sql`
    select ${TRAY_COLUMNS} from ${chosen} join folders f on f.id = c.folder_id where ${PARTS[part]}
    order by e.item_id, e.copy_id offset ${page * size} limit ${size}`);
  return { rows, pages: Math.max(1, Math.ceil((counts[0]?.entries ?? 0) / size)) };
}

/** All of the tray, a part at a time, so that it need not stand in memory. */
export async function* trayParts(db: Connection, jobId: number, step: number, numbered = false): AsyncGenerator<TrayRow[], void, void> {
  for (let after = 0; ; ) {
    const { rows: items } = await db.execute<{ item_id: string }>(ITEM_IDS(jobId, after, 0, step));
    const last = items[items.length - 1];
    if (!last) return;
    const ids = sql.raw(`select unnest('{${items.map(({ item_id }) => Number(item_id)).join(",")}}'::bigint[])`);
    const { rows } = await db.execute<TrayRow>(sql`
      select ${TRAY_COLUMNS} from ${numberedCopies(jobId, numbered, ids)} e join copies c on c.id = e.copy_id join folders f on f.id = c.folder_id order by e.item_id, e.copy_id`);
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
  readonly unopened: number;
  readonly unopenedBytes: number;
  readonly better: number;
  /** Files of which it was not read what they say of themselves. */
  readonly unread: number;
  readonly readOnly: number;
  readonly hidden: number;
  /** Files that go where an application expects them. */
  readonly placed: number;
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
      count(*) filter (where ${PARTS.unopened}) as unopened,
      coalesce(sum(c.size) filter (where ${PARTS.unopened}), 0)::bigint as "unopenedBytes", count(*) filter (where ${PARTS.better}) as better,
      count(*) filter (where c.facts is null and ${WRITABLE} and c.size > 0) as unread,
      count(*) filter (where c.streams is not null) as "withStreams", count(*) filter (where c.marks & ${FILE_MARK.readOnly} <> 0) as "readOnly",
      count(*) filter (where c.marks & ${FILE_MARK.hidden} <> 0) as hidden,
      count(*) filter (where e.place_home in (select id from homes where job_id = ${jobId})) as placed,
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
    unopened: Number(sums.unopened),
    unopenedBytes: Number(sums.unopenedBytes),
    better: Number(sums.better),
    unread: Number(sums.unread),
    readOnly: Number(sums.readOnly),
    hidden: Number(sums.hidden),
    placed: Number(sums.placed),
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

/** Why a copy cannot be written; null: it can. A content of no bytes needs no place. */
export function problemOf(copy: { condition: string; readable: boolean; size: number; absent: Absence | null }): string | null {
  if (copy.condition === "name-only") return "Nothing of its content is left.";
  if (copy.absent) return ABSENCE_WORDS[copy.absent];
  return copy.readable || copy.size === 0 ? null : "Its content cannot be read; its notes say why.";
}
