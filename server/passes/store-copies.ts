import { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import type pg from "pg";
import { from as copyFrom } from "pg-copy-streams";
import { BEST_COPY, lostIf, OPENS } from "./best-copy";
import type { PassKinds, PassPlace } from "./contract";

/** The pass a batch belongs to. */
interface OfPass {
  readonly id: number;
  readonly jobId: number;
  readonly place: PassPlace;
  readonly volume: { readonly id: number };
}

/** The columns of a batch's rows, in PostgreSQL's COPY text form. */
export const INCOMING_COLUMNS = [
  "place",
  "item_key",
  "folder_path",
  "kind",
  "state",
  "type",
  "reference",
  "name",
  "name_raw",
  "size",
  "created",
  "modified",
  "changed",
  "deleted_at",
  "condition",
  "survival",
  "evidence",
  "layout",
  "first_at",
  "span",
  "streams",
  "links",
  "encrypted",
  "notes",
  "file",
  "rule",
  "found_path",
  "facts",
  "local_times",
] as const;

/** A record that another pass over the same place has stored already, a narrowed one before a whole one for instance. */
const NOT_STORED = `not exists (
  select 1 from copies c where c.item_id = t.id and c.pass_id <> $3 and c.place = i.place and c.reference = i.reference and c.name = i.name)`;

/** Times come as milliseconds: numbers are read faster than dates. */
const TIME = (column: string) => `to_timestamp(${column} / 1000)`;

/** What a batch brought: live files, and lost ones by place and kind. */
/** What a batch has brought. */
interface Brought {
  readonly live: number;
  readonly lost: PassKinds;
}

/** Stores the copies of a batch and gathers them into items, within the caller's transaction. */
export async function storeCopies(client: pg.PoolClient, pass: OfPass, rows: Uint8Array): Promise<Brought> {
  if (rows.length === 0) return { live: 0, lost: [] };
  const others = await client.query("select 1 from passes where store_id = $1 and place = $2 and id <> $3 and done > 0 limit 1", [
    pass.volume.id,
    pass.place,
    pass.id,
  ]);
  const earlier = others.rows.length > 0;
  await client.query(`create temp table incoming (
    id bigint not null default nextval('copies_id_seq'), place text, item_key text collate "C", folder_path text, kind text, state text, type text,
    reference text, name text, name_raw bytea, size bigint, created float8, modified float8, changed float8, deleted_at float8,
    condition text, survival float8, evidence jsonb, layout bytea, first_at bigint, span int8range, streams jsonb, links int, encrypted boolean, notes jsonb,
    file text, rule text, found_path text, facts jsonb, local_times boolean) on commit drop`);
  const into = client.query(copyFrom(`copy incoming (${INCOMING_COLUMNS.join(", ")}) from stdin`));
  await pipeline(Readable.from([rows]), into);
  const { jobId, id: passId } = pass;
  const storeId = pass.volume.id;
  if (pass.place === "raw") {
    await client.query(CONFIRMS_RECORD, [jobId, storeId]);
    await client.query(OWNED_BY_RECORD, [jobId, storeId]);
  }
  await client.query(
    `insert into folders (job_id, store_id, path) select distinct $1::int, $2::int, folder_path from incoming
     on conflict (store_id, md5(path)) do nothing`,
    [jobId, storeId],
  );
  const insertItems = `insert into items (job_id, store_id, folder_id, key, name, kind, lost, places, best_copy_id, size, modified, condition, survival, facts, live, opens,
       created, deleted_at, extension)
     select distinct on (item_key) $1::int, $2::int, f.id, item_key, name, kind, ${lostIf("i")}, array[i.place], i.id, size, ${TIME("i.modified")}, condition, survival, facts,
       i.state = 'live', ${OPENS("i")}, ${TIME("i.created")}, ${TIME("i.deleted_at")}, ${EXTENSION}
     from incoming i join folders f on f.store_id = $2 and md5(f.path) = md5(i.folder_path)
     where item_key is not null order by item_key
     on conflict (job_id, key) do nothing`;
  const { rowCount: inserted } = await client.query(insertItems, [jobId, storeId]);
  const [counted] = (await client.query<{ count: number }>("select count(item_key)::int as count from incoming")).rows;
  // Where each row has brought an item of its own, none can be the twin of another one.
  if ((counted?.count ?? 0) > (inserted ?? 0)) {
    const { rowCount: twins } = await client.query(TWINS, [jobId, passId]);
    if (twins) await client.query(insertItems, [jobId, storeId]);
  }
  // A batch is small beside what it meets: row by row it looks up its item and its folder, and it does so once, for the copies and for
  // what is to be gathered. Left to itself, the database would now and then go through all items, or all folders, instead: its statistics
  // lag behind tables that grow this fast.
  await client.query("set local enable_seqscan = off");
  await client.query("create temp table touched (id bigint not null) on commit drop");
  const brought = await client.query<{ place: string; kind: string; lost: boolean; count: number }>(
    `with matched as materialized (
       select i.*, t.id as item_id, t.best_copy_id, f.id as folder_id
       from incoming i
       cross join lateral (select id from folders where store_id = $2 and md5(path) = md5(i.folder_path) limit 1) f
       left join lateral (select id, best_copy_id from items where job_id = $1 and key = i.item_key limit 1) t on true
       ${earlier ? `where ${NOT_STORED}` : ""}
     ), stored as (
       insert into copies (id, job_id, pass_id, store_id, item_id, folder_id, place, state, type, reference, name, name_raw, size,
         created, modified, changed, deleted_at, condition, survival, evidence, layout, first_at, span, streams, links, encrypted, notes,
         file, rule, found_path, facts, local_times)
       select id, $1::int, $3::int, $2::int, item_id, folder_id, place, state, type, reference, name, name_raw, size,
         ${["created", "modified", "changed", "deleted_at"].map(TIME).join(", ")}, condition, survival, evidence, layout, first_at, span, streams, links,
         encrypted, notes, file, rule, found_path, facts, local_times
       from matched
     ), gathered as (
       insert into touched select distinct item_id from matched where best_copy_id <> id
     )
     select place, kind, (state = 'deleted' or rule is not null) as lost, count(*)::int as count from matched where item_id is not null group by 1, 2, 3`,
    [jobId, storeId, passId],
  );
  await client.query(BEST_COPY);
  return {
    live: brought.rows.reduce((sum, { lost, count }) => sum + (lost ? 0 : count), 0),
    lost: brought.rows.filter(({ lost }) => lost).map(({ place, kind, count }) => ({ place, kind, count })),
  };
}

/**
 * Live files of one pass whose paths differ in capitals or Unicode form alone are different files, on a volume that tells these apart: all but
 * the first become items of their own.
 */
const TWINS = `
  with first as (
    select id, reference, folder_path, name, first_value(reference) over same as first_reference,
      first_value(folder_path || '/' || name) over same as first_path
    from incoming where state = 'live' and place = 'file-record' and item_key is not null window same as (partition by item_key order by id)
  ), twins as (
    select i.id from incoming i join first w on w.id = i.id
    where (w.first_reference <> i.reference and w.first_path <> i.folder_path || '/' || i.name)
      or exists (
        select 1 from items t join copies c on c.item_id = t.id join folders f on f.id = c.folder_id
        where t.job_id = $1 and t.key = i.item_key and c.pass_id = $2 and c.state = 'live' and c.place = 'file-record'
          and c.reference <> i.reference and (c.name <> i.name or f.path <> i.folder_path))
  )
  update incoming i set item_key = i.item_key || '#' || md5(i.reference) from twins where twins.id = i.id`;

const EXTENSION = `coalesce(lower(substring(name from '[^.]\\.([^.[:space:]]{1,12})$')), '')`;

/**
 * Content that stands in the very clusters of a record's file, and is as long, is that file's own copy and no second one: it confirms what
 * the record says, and keeps the record's dates.
 */
const CONFIRMS_RECORD = `
  with same as (
    select distinct on (i.id) i.id, c.id as copy_id, i.evidence->'content' as content from incoming i
    join copies c on c.job_id = $1 and c.store_id = $2 and c.first_at = i.first_at and c.place <> 'raw' and c.type = 'file' and c.size = i.size
      and c.span is not distinct from i.span
    where i.facts->>'inside' is null order by i.id, (c.state = 'deleted') desc, c.id
  ), gone as (delete from incoming i using same where i.id = same.id)
  update copies c set notes = c.notes || '["Raw content found at the same place confirms it."]'::jsonb
  from same where c.id = same.copy_id and not c.notes ? 'Raw content found at the same place confirms it.'`;

/**
 * Content that begins where a file record's does, and is of its kind, is that file's: the record's name, folder and dates win. What lies
 * inside another find is no file of a record.
 */
const OWNED_BY_RECORD = `
  update incoming i set item_key = t.key, name = t.name, folder_path = f.path, local_times = c.local_times,
    modified = extract(epoch from c.modified) * 1000, created = extract(epoch from c.created) * 1000
  from copies c join items t on t.id = c.item_id join folders f on f.id = t.folder_id
  where c.job_id = $1 and c.store_id = $2 and c.first_at = i.first_at and c.place <> 'raw' and c.type = 'file' and t.kind = i.kind
    and i.facts->>'inside' is null`;
