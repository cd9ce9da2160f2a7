import { type SQL, sql } from "drizzle-orm";
import { diskRuns, type Layout, placedRuns } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import type { Absence } from "../../core/filesystems/file-record";
import { SHIPPED_RULES } from "../../core/places/rules";
import type { FileAt } from "../../io/folder-source";
import type { SourceAt } from "../../io/open-source";
import type { Connection } from "../database/connection";
import { findLiveHolders } from "../sources/owners";
import { SOURCE_COLUMNS, type SourceColumns, toSourceAt } from "../sources/source-at";
import type { Copy, ItemDetail, PlacedRun } from "./contract";
import { ITEM_COLUMNS, ITEM_TABLES, type ItemRow, itemOf } from "./item-row";
import { reasonFor } from "./reason";
import { setWords } from "./set-words";

const MAX_RUNS_SHOWN = 500;
/** Copies of one item given at once. Any other one is given beside them when it is asked for. */
const MAX_COPIES_SHOWN = 500;

interface CopyRow extends Record<string, unknown> {
  id: string;
  place: Copy["place"];
  state: "live" | "deleted";
  reference: string;
  size: string;
  created: string | null;
  modified: string | null;
  changed: string | null;
  condition: Copy["condition"];
  survival: number;
  evidence: Copy["evidence"];
  layout: Buffer | null;
  notes: string[];
  source_id: number;
  deleted_at: string | null;
  streams: { name: string; size: number }[] | null;
  links: number;
  absent: Copy["absent"];
  file: string | null;
  file_size: string | null;
  file_further: FileAt[] | null;
  rule: string | null;
  found_path: string | null;
  facts: Copy["facts"];
  hash: string | null;
  same_as: string | null;
  present_from: string | null;
  present_until: string | null;
  in_tray: boolean;
  store_id: number;
  set_key: string | null;
}

/**
 * Finds one item with its copies, the best first: with all of them, or of an item that has very many with the newest.
 * @param asked copies that are given in any case, if they are of this item
 */
export async function findItem(db: Connection, itemId: number, asked: readonly number[] = []): Promise<ItemDetail | null> {
  const { rows } = await db.execute<
    ItemRow & {
      job_id: number;
      overruled: boolean;
      sought: boolean;
      volume_label: string | null;
      number: number;
      source_name: string;
      home_id: number;
    }
  >(sql`
    select ${ITEM_COLUMNS}, i.job_id, i.overruled, (i.id = (select found_item_id from jobs where id = i.job_id)) is true as sought, v.label as volume_label, v.number, s.name as source_name,
      (select o.home_id from folders o where o.id = i.folder_id) as home_id
    from ${ITEM_TABLES} join copies b on b.id = i.best_copy_id join stores v on v.id = b.store_id join sources s on s.id = v.source_id where i.id = ${itemId}`);
  const [row] = rows;
  if (!row) return null;
  const { rows: list } = await db.execute<CopyRow>(sql`
    select c.*, encode(c.sha256, 'hex') as hash, v.source_id, lower(c.present) as present_from, upper(c.present) as present_until,
      exists (select 1 from tray_entries t where t.job_id = c.job_id and t.item_id = c.item_id and coalesce(t.copy_id, ${row.best_copy_id}) = c.id) as in_tray
    from copies c join stores v on v.id = c.store_id where c.item_id = ${itemId}
    order by (c.id = ${row.best_copy_id}) desc, (c.id = any(${sql.param(asked)}::bigint[])) desc,
      coalesce(c.modified, lower(c.present)) desc nulls last, c.id
    limit ${MAX_COPIES_SHOWN}`);
  const words = list.some((copy) => copy.set_key !== null) ? await setWords(db, row.job_id) : null;
  const standing = list.map((copy): Standing => ({ row: copy, at: standingOf(copy) }));
  const copies = await Promise.all(
    list.map(
      async (copy, index): Promise<Copy> => ({
        ...copyOf(copy),
        set: words?.get(`${copy.store_id}-${copy.set_key}`) ?? null,
        // Of an item with very many copies it is worked out for the likeliest.
        takenBy: index < MOST_ASKED ? await takenBy(db, row.job_id, copy) : [],
        best: copy.id === row.best_copy_id,
        inTray: copy.in_tray,
        identical: standing
          .filter((each, other) => other !== index && sameBytes(each, standing[index] as Standing))
          .map(({ row }) => Number(row.id)),
        reason: "",
      }),
    ),
  );
  return {
    ...itemOf(row),
    volumeLabel: row.volume_label ?? `volume ${row.number}`,
    homeId: row.home_id,
    sourceName: row.source_name,
    overruled: row.overruled,
    sought: row.sought,
    list: copies.map((copy) => ({ ...copy, reason: reasonFor(copy, copies, row) })),
  };
}

const date = (value: string | Date | null) => (value === null ? null : new Date(value));

/** Where the bytes of a copy stand, as a text that two copies in the very same place share; null: not known. */
const standingOf = ({ store_id, file, file_further, size, layout }: CopyRow): string | null =>
  layout && JSON.stringify([store_id, file, file_further, size, layout.toString("base64")]);

/** Whether two copies are known to hold the same bytes: by their hashes, because their store knows them to be one version, or because they stand in the very same place. */
function sameBytes(one: Standing, other: Standing): boolean {
  if (one.row.hash && other.row.hash) return one.row.hash === other.row.hash;
  // A store knows its own versions: the same mark in another one says nothing.
  if (one.row.same_as !== null && one.row.same_as === other.row.same_as && one.row.store_id === other.row.store_id) return true;
  return one.at !== null && one.at === other.at;
}

interface Standing {
  readonly row: CopyRow;
  readonly at: string | null;
}

function copyOf(row: CopyRow): Omit<Copy, "best" | "set" | "takenBy" | "inTray" | "identical" | "reason"> {
  const layout = row.layout ? decodeLayout(row.layout) : null;
  return {
    id: Number(row.id),
    place: row.place,
    state: row.state,
    reference: row.reference,
    size: Number(row.size),
    created: date(row.created),
    modified: date(row.modified),
    changed: date(row.changed),
    condition: row.condition,
    survival: row.survival,
    evidence: row.evidence,
    runs: runsOf(layout, row.file !== null),
    deletedAt: date(row.deleted_at),
    present: row.present_from === null ? null : { from: new Date(row.present_from), until: date(row.present_until) },
    streams: (row.streams ?? []).map(({ name, size }) => ({ name, size })),
    links: row.links,
    absent: row.absent,
    file: row.file,
    inArchive: row.file !== null && row.file_size !== null,
    notes: row.notes,
    facts: row.facts,
    found:
      row.rule && row.found_path
        ? { rule: SHIPPED_RULES.find((rule) => rule.id === row.rule)?.title ?? row.rule, path: row.found_path }
        : null,
    sourceId: row.source_id,
  };
}

const MOST_ASKED = 50;

/** The live files that use clusters of a deleted copy now. */
async function takenBy(db: Connection, jobId: number, row: CopyRow): Promise<string[]> {
  if (row.evidence.usedByOthers === 0 || !row.layout) return [];
  return findLiveHolders(db, jobId, row.source_id, diskRuns(decodeLayout(row.layout)), Number(row.id));
}

/** Where a copy's bytes stand. @param ofFolder it is a file in a folder of this computer: where its drive has its bytes is not known */
export function runsOf(layout: Layout | null, ofFolder: boolean): PlacedRun[] {
  const runs = layout ? placedRuns(layout, MAX_RUNS_SHOWN) : [];
  return ofFolder ? runs.map((run) => ({ ...run, start: null })) : runs;
}

/** The best copies of lost pictures after a given one, for making small pictures of them. */
export async function lostPictures(db: Connection, jobId: number, after: number, limit: number): Promise<number[]> {
  const { rows } = await db.execute<{ id: string }>(sql`
    select best_copy_id as id from items where job_id = ${jobId} and lost and kind = 'pictures' and size > 0 and condition <> 'name-only'
      and best_copy_id > ${after} order by best_copy_id limit ${limit}`);
  return rows.map((row) => Number(row.id));
}

export interface StoredCopy extends SourceAt {
  readonly id: number;
  readonly name: string;
  readonly size: number;
  readonly layout: Layout | null;
  readonly sourceId: number;
  /** In a folder of this computer: the file below it. */
  readonly file: FileAt | null;
  readonly jobId: number;
  readonly condition: string;
  /** Why there is no content; null: there is one, be it of no bytes. */
  readonly absent: Absence | null;
}

/** The columns of a copy that say which file of a folder it is, as it was when it was read. */
export interface FileColumns extends Record<string, unknown> {
  file: string | null;
  file_modified: string | null;
  file_created: string | null;
  /** Bytes of the file that holds the content, where that is not the content alone. */
  file_size: string | null;
  file_further: FileAt[] | null;
}
// A copy of a known place may have the date of what it is a copy of.
export const FILE_COLUMNS = sql`c.file, c.file_size, c.file_further, coalesce(c.file_modified, case when c.rule is null then c.modified end) as file_modified,
  case when c.file_size is null then c.created else c.file_created end as file_created`;

export function toFileAt(row: FileColumns, layout: Layout | null): FileAt | null {
  const time = (text: string | null) => (text === null ? null : new Date(text).getTime());
  return row.file === null
    ? null
    : {
        path: row.file,
        size: Number(row.file_size ?? layout?.size ?? 0),
        modified: time(row.file_modified),
        created: time(row.file_created),
        ...(row.file_further ? { further: row.file_further } : {}),
      };
}

/** What is needed to read a copy's content. */
export async function findStoredCopy(db: Connection, copyId: number): Promise<StoredCopy | null> {
  return (await findStoredCopies(db, sql`c.id = ${copyId}`))[0] ?? null;
}

/** The copies of a database's log and journal, as far as they stand in its folder: in its own state first, then the newest. */
export async function besideOf(db: Connection, copyId: number): Promise<StoredCopy[]> {
  const { rows } = await db.execute<{ id: string }>(sql`
    select distinct on (b.name) b.id from copies c join copies b on b.store_id = c.store_id and b.folder_id = c.folder_id
    where c.id = ${copyId} and b.name in (c.name || '-wal', c.name || '-journal') and b.layout is not null
    order by b.name, (b.state = c.state) desc, b.modified desc nulls last, b.id desc`);
  return rows.length === 0 ? [] : findStoredCopies(db, sql`c.id in ${rows.map(({ id }) => Number(id))}`);
}

async function findStoredCopies(db: Connection, which: SQL): Promise<StoredCopy[]> {
  const { rows } = await db.execute<
    {
      id: string;
      name: string;
      size: string;
      layout: Buffer | null;
      job_id: number;
      condition: string;
      absent: Absence | null;
    } & SourceColumns &
      FileColumns
  >(sql`
    select c.id, c.name, c.size, c.layout, ${FILE_COLUMNS}, ${SOURCE_COLUMNS}, c.job_id, c.condition, c.absent from copies c
    join stores v on v.id = c.store_id join sources s on s.id = v.source_id where ${which}`);
  return rows.map((row) => {
    const layout = row.layout ? decodeLayout(row.layout) : null;
    return {
      id: Number(row.id),
      name: row.name,
      size: Number(row.size),
      layout,
      ...toSourceAt(row),
      file: toFileAt(row, layout),
      jobId: row.job_id,
      condition: row.condition,
      absent: row.absent,
    };
  });
}
