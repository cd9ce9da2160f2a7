import { type SQL, sql } from "drizzle-orm";
import { diskRuns, type Layout } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import type { Connection } from "../database/connection";
import { Problem } from "../problem";
import type { Copy, Facets, Item, ItemDetail, ItemPage, ItemQuery } from "./contract";

/** Folders whose path holds a word; more than this and the word is no help in folders. */
const MAX_FOLDERS = 2000;
const MAX_RUNS_SHOWN = 500;

interface ItemRow extends Record<string, unknown> {
  id: string;
  name: string;
  folder: string;
  kind: string;
  lost: boolean;
  copies: number;
  best_copy_id: string;
  size: string;
  modified: Date | null;
  condition: Item["condition"];
  survival: number;
  in_tray: boolean;
  sort_name: string;
}

const itemOf = (row: ItemRow): Item => ({
  id: Number(row.id),
  name: row.name,
  folder: row.folder,
  kind: row.kind,
  lost: row.lost,
  copies: row.copies,
  bestCopyId: Number(row.best_copy_id),
  size: Number(row.size),
  modified: row.modified ? new Date(row.modified) : null,
  condition: row.condition,
  survival: row.survival,
  inTray: row.in_tray,
});

const ITEM_COLUMNS = sql`i.id, i.name, f.path as folder, i.kind, i.lost, i.copies, i.best_copy_id, i.size, i.modified, i.condition,
  i.survival, (t.item_id is not null) as in_tray, lower(i.name) as sort_name`;
const ITEM_TABLES = sql`items i join folders f on f.id = i.folder_id left join tray_entries t on t.job_id = i.job_id and t.item_id = i.id`;

/** The words of a search: parts in double quotes stay together. */
export function searchWords(query: string): string[] {
  return [...query.matchAll(/"([^"]+)"|(\S+)/g)]
    .map((match) => (match[1] ?? match[2] ?? "").trim())
    .filter(Boolean)
    .slice(0, 12);
}

const likePattern = (word: string) => `%${word.replace(/[\\%_]/g, "\\$&")}%`;

/** Each word must stand in the name or in the path of the folder. */
async function condition(db: Connection, jobId: number, query: ItemQuery, withKind: boolean): Promise<SQL> {
  const parts: SQL[] = [sql`i.job_id = ${jobId}`];
  if (query.show === "lost") parts.push(sql`i.lost`);
  if (withKind && query.kind) parts.push(sql`i.kind = ${query.kind}`);
  for (const word of searchWords(query.q)) {
    const pattern = likePattern(word);
    const { rows } = await db.execute<{ id: number }>(
      sql`select id from folders where job_id = ${jobId} and path ilike ${pattern} limit ${MAX_FOLDERS}`,
    );
    const inFolders = rows.length > 0 ? sql` or i.folder_id = any(${sql.raw(`'{${rows.map((row) => row.id).join(",")}}'::int[]`)})` : sql``;
    parts.push(sql`(i.name ilike ${pattern}${inFolders})`);
  }
  return sql.join(parts, sql` and `);
}

/** A page of items in the order of their names, from after a cursor. */
export async function listItems(db: Connection, jobId: number, query: ItemQuery): Promise<ItemPage> {
  const where = await condition(db, jobId, query, true);
  const after = query.after ? readCursor(query.after) : null;
  const beyond = after ? sql`and (lower(i.name), i.id) > (${after.name}, ${after.id})` : sql``;
  const { rows } = await db.execute<ItemRow>(sql`
    select ${ITEM_COLUMNS} from ${ITEM_TABLES}
    where ${where} ${beyond} order by lower(i.name), i.id limit ${query.limit + 1}`);
  const page = rows.slice(0, query.limit);
  const last = page[page.length - 1];
  return { items: page.map(itemOf), next: rows.length > query.limit && last ? writeCursor(last) : null };
}

const writeCursor = (row: ItemRow) => Buffer.from(JSON.stringify([row.sort_name, Number(row.id)])).toString("base64url");

function readCursor(cursor: string): { name: string; id: number } {
  try {
    const [name, id] = JSON.parse(Buffer.from(cursor, "base64url").toString()) as [unknown, unknown];
    if (typeof name === "string" && typeof id === "number") return { name, id };
  } catch {
    // Falls through to the same answer as a cursor of the wrong shape.
  }
  throw new Problem("The place to go on from is not valid. Load the list anew.");
}

/** How many items match, in all and by kind. */
export async function countItems(db: Connection, jobId: number, query: ItemQuery): Promise<Facets> {
  const where = await condition(db, jobId, query, false);
  const { rows } = await db.execute<{ kind: string; count: number }>(
    sql`select i.kind, count(*)::int as count from items i where ${where} group by i.kind`,
  );
  const { rows: totals } = await db.execute<{ count: number }>(sql`select count(*)::int as count from items i where i.job_id = ${jobId}`);
  const kinds = rows.map(({ kind, count }) => ({ kind, count })).sort((a, b) => b.count - a.count);
  const matching = kinds.filter((each) => !query.kind || each.kind === query.kind).reduce((sum, each) => sum + each.count, 0);
  return { total: totals[0]?.count ?? 0, matching, kinds };
}

interface CopyRow extends Record<string, unknown> {
  id: string;
  place: string;
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
}

/** One item with all its copies, the best first. */
export async function findItem(db: Connection, itemId: number): Promise<ItemDetail | null> {
  const { rows } = await db.execute<ItemRow & { volume_label: string | null; number: number; source_name: string }>(sql`
    select ${ITEM_COLUMNS}, v.label as volume_label, v.number, s.name as source_name
    from ${ITEM_TABLES} join volumes v on v.id = i.volume_id join sources s on s.id = v.source_id where i.id = ${itemId}`);
  const [row] = rows;
  if (!row) return null;
  const { rows: list } = await db.execute<CopyRow>(sql`
    select c.*, v.source_id from copies c join volumes v on v.id = c.volume_id where c.item_id = ${itemId}
    order by (c.id = ${row.best_copy_id}) desc, c.modified desc nulls last limit 500`);
  const copies = list.map((copy): Copy => ({ ...copyOf(copy), best: copy.id === row.best_copy_id }));
  return {
    ...itemOf(row),
    volumeLabel: row.volume_label ?? `volume ${row.number}`,
    sourceName: row.source_name,
    reason: reasonFor(copies),
    list: copies,
  };
}

const date = (value: string | Date | null) => (value === null ? null : new Date(value));

function copyOf(row: CopyRow): Omit<Copy, "best"> {
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
    runs: layout ? placedRuns(layout) : [],
    notes: row.notes,
    sourceId: row.source_id,
  };
}

function placedRuns(layout: Layout): { at: number; length: number }[] {
  const held = layout.segments.flatMap((segment) => (segment.kind === "held" ? [{ at: segment.at, length: segment.length }] : []));
  return [...diskRuns(layout), ...held].slice(0, MAX_RUNS_SHOWN);
}

function reasonFor(copies: readonly Copy[]): string {
  const [best, ...others] = copies;
  if (!best) return "No copy is known.";
  if (others.length === 0) return "The only copy found.";
  const rivals = others.filter((copy) => copy.condition === best.condition);
  return rivals.length > 0
    ? `The newest of ${rivals.length + 1} copies that are ${best.condition}.`
    : `The only one of ${copies.length} copies that is ${best.condition}.`;
}

export interface StoredCopy {
  readonly id: number;
  readonly name: string;
  readonly size: number;
  readonly layout: Layout | null;
  readonly sourcePath: string;
  readonly jobId: number;
  readonly condition: string;
}

/** What is needed to read a copy's content. */
export async function findStoredCopy(db: Connection, copyId: number): Promise<StoredCopy | null> {
  const { rows } = await db.execute<{
    id: string;
    name: string;
    size: string;
    layout: Buffer | null;
    path: string;
    job_id: number;
    condition: string;
  }>(sql`
    select c.id, c.name, c.size, c.layout, s.path, c.job_id, c.condition from copies c
    join volumes v on v.id = c.volume_id join sources s on s.id = v.source_id where c.id = ${copyId}`);
  const [row] = rows;
  if (!row) return null;
  return {
    id: Number(row.id),
    name: row.name,
    size: Number(row.size),
    layout: row.layout ? decodeLayout(row.layout) : null,
    sourcePath: row.path,
    jobId: row.job_id,
    condition: row.condition,
  };
}
