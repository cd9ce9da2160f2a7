import { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import type pg from "pg";
import { from as copyFrom } from "pg-copy-streams";
import { findFolders, toHome } from "../homes/paths";
import { BEST_COPY, lostAlone, OPENS } from "./best-copy";
import type { PassKinds, PassPlace } from "./contract";
import { asTime, COPY_COLUMNS } from "./copy-rows";
import { sameVersion, widenVersions } from "./same-versions";

/** The pass a batch belongs to. */
interface OfPass {
  readonly id: number;
  readonly jobId: number;
  readonly place: PassPlace;
  /** How often it was begun. */
  readonly epoch: number;
  readonly volume: { readonly id: number };
}

/**
 * A record that another pass over the same place has stored already, a narrowed one before a whole one for instance. What was found by its content is
 * the same only in the same pieces. A version of an earlier state is the same in the same pass too, which may have begun anew.
 */
const NOT_STORED = `not exists (
  select 1 from copies c where c.item_id = t.id and c.place = i.place
    and ((c.pass_id <> $3 and c.reference = i.reference and c.name = i.name and (i.place <> 'raw' or c.layout is not distinct from i.layout)) or ${sameVersion("$2")}))`;

/** What a batch has brought: live files, and lost ones by place and kind. */
interface Brought {
  readonly live: number;
  readonly lost: PassKinds;
}

/** Kinds of pass that give the same records: those of backup files, and each with itself. */
const sameRecords = (place: PassPlace): PassPlace[] =>
  place === "thorough" || place === "file-record" ? ["file-record", "thorough"] : [place];

/** How the copies stand that another pass stored before, by what this batch says of the same records. */
const DEEPENED = `with judged as (
    update copies c set condition = i.condition, survival = i.survival, evidence = i.evidence, layout = i.layout, absent = i.absent, notes = i.notes
    from incoming i join incoming_folders f on f.folder_path = i.folder_path
      join items t on t.folder_id = coalesce(i.own_folder, f.canonical) and t.key = i.item_key
    where c.item_id = t.id and c.store_id = $2 and c.pass_id <> $1 and c.place = i.place and c.reference = i.reference and c.name = i.name and c.size = i.size
    returning c.item_id
  ) insert into touched select distinct item_id from judged where item_id is not null`;

const INCOMING = COPY_COLUMNS.map(({ name, type }) => `${name} ${type}`).join(", ");
const STORED = COPY_COLUMNS.filter(({ stored }) => stored !== null);

/** The folder an item is in, and the one its copy is in: `own_folder` where the row says so, otherwise that of its path. */
const ITEM_FOLDER = "coalesce(i.own_folder, f.canonical)";
const COPY_FOLDER = "coalesce(i.own_folder, f.exact)";

/** Stores the copies of a batch and gathers them into items, within the caller's transaction. */
export async function storeCopies(client: pg.PoolClient, pass: OfPass, rows: Uint8Array): Promise<Brought> {
  if (rows.length === 0) return { live: 0, lost: [] };
  const { jobId, id: passId } = pass;
  const storeId = pass.volume.id;
  const others = await client.query("select 1 from passes where store_id = $1 and place = any($2) and id <> $3 and done > 0 limit 1", [
    storeId,
    sameRecords(pass.place),
    passId,
  ]);
  // A pass that is done in one go and begins anew meets what it has stored itself.
  const earlier = others.rows.length > 0 || (pass.place === "earlier-states" && pass.epoch > 1);
  await client.query(`create temp table incoming (
    id bigint not null default nextval('copies_id_seq'), own_folder int, ${INCOMING}) on commit drop`);
  const into = client.query(copyFrom(`copy incoming (${COPY_COLUMNS.map(({ name }) => name).join(", ")}) from stdin`));
  await pipeline(Readable.from([rows]), into);
  // A batch is small beside what it meets: row by row it looks up its item and its folder. Left to itself, the database would now and then go
  // through all items, or all folders, instead: its statistics lag behind tables that grow this fast.
  await client.query("set local enable_seqscan = off");
  if (pass.place === "raw") {
    await client.query(CONFIRMS_RECORD, [jobId, storeId]);
    await client.query(OWNED_BY_RECORD, [jobId, storeId]);
  }
  await placeInHomes(client, jobId, storeId);
  const insertItems = `insert into items (job_id, folder_id, key, name, kind, lost, places, stores, best_copy_id, size, modified, condition, survival, facts, live, opens,
       created, deleted_at, extension)
     select distinct on (item_folder, item_key) $1::int, item_folder, item_key, name, kind, ${lostAlone("i")}, array[i.place], array[$2::int], i.id, size,
       ${asTime("i.modified")}, condition, survival, facts, i.state = 'live', ${OPENS("i")}, ${asTime("i.created")}, ${asTime("i.deleted_at")}, ${EXTENSION("name")}
     from (select i.*, ${ITEM_FOLDER} as item_folder from incoming i join incoming_folders f on f.folder_path = i.folder_path where item_key is not null) i
     order by item_folder, item_key
     on conflict (folder_id, key) do nothing`;
  const { rowCount: inserted } = await client.query(insertItems, [jobId, storeId]);
  const [counted] = (await client.query<{ count: number }>("select count(item_key)::int as count from incoming")).rows;
  // Where each row has brought an item of its own, none can be the twin of another one.
  if ((counted?.count ?? 0) > (inserted ?? 0)) {
    const { rowCount: twins } = await client.query(TWINS, [passId]);
    if (twins) await client.query(insertItems, [jobId, storeId]);
  }
  await client.query("create temp table touched (id bigint not null) on commit drop");
  const brought = await client.query<{ place: string; kind: string; lost: boolean; count: number }>(
    `with matched as materialized (
       select i.*, t.id as item_id, t.best_copy_id, ${COPY_FOLDER} as folder_id
       from incoming i
       join incoming_folders f on f.folder_path = i.folder_path
       left join lateral (select id, best_copy_id from items where folder_id = ${ITEM_FOLDER} and key = i.item_key limit 1) t on true
       ${earlier ? `where ${NOT_STORED}` : ""}
     ), stored as (
       insert into copies (id, job_id, pass_id, store_id, item_id, folder_id, ${STORED.map(({ name }) => name).join(", ")})
       select id, $1::int, $3::int, $2::int, item_id, folder_id, ${STORED.map(({ stored }) => stored).join(", ")}
       from matched
     ), gathered as (
       insert into touched select distinct item_id from matched where best_copy_id <> id
     )
     select place, kind, (state = 'deleted' or rule is not null or evidence->>'kept' is not null) as lost, count(*)::int as count from matched where item_id is not null group by 1, 2, 3`,
    [jobId, storeId, passId],
  );
  // What a light reading of a backup file has found is kept, and judged by what the thorough one sees of it.
  if (earlier && pass.place === "thorough") await client.query(DEEPENED, [passId, storeId]);
  if (earlier && pass.place === "earlier-states") await widenVersions(client, passId, storeId);
  await client.query(BEST_COPY);
  return {
    live: brought.rows.reduce((sum, { lost, count }) => sum + (lost ? 0 : count), 0),
    lost: brought.rows.filter(({ lost }) => lost).map(({ place, kind, count }) => ({ place, kind, count })),
  };
}

/** Finds where the folders of a batch stand in the homes of their store. Whoever joins or parts homes waits for the batch, and it for them. */
async function placeInHomes(client: pg.PoolClient, jobId: number, storeId: number): Promise<void> {
  const { rows: paths } = await client.query<{ below: string; exact: boolean }>(
    "select p.below, h.case_sensitive as exact from home_paths p join homes h on h.id = p.home_id where p.store_id = $1 for share of p",
    [storeId],
  );
  if (!paths.some(({ below }) => below === "")) throw new Error(`store ${storeId} has no home`);
  await client.query(`create temp table incoming_folders on commit drop as
    select d.folder_path, h.home_id, h.path, null::uuid as folded, null::int as exact, null::int as canonical
    from (select distinct folder_path from incoming) d ${toHome(String(storeId), "d.folder_path")}`);
  for (const statement of findFolders("incoming_folders", String(jobId))) await client.query(statement);
  if (paths.some(({ exact }) => exact)) await client.query(EXACT_NAMES);
}

/** On a home that distinguishes capitals, keys have names as they are written. */
const EXACT_NAMES = `
  update incoming i set item_key = normalize(i.name, NFC) || substr(i.item_key, length(lower(normalize(i.name, NFC))) + 1)
  from incoming_folders f join homes h on h.id = f.home_id
  where f.folder_path = i.folder_path and h.case_sensitive and starts_with(i.item_key, lower(normalize(i.name, NFC)))`;

/**
 * Live files of one pass whose paths differ in capitals or Unicode form alone are different files, on a volume that distinguishes these: all but
 * the first become items of their own. (A number added to a column keeps the database from going through all of a pass for each: of a pass that has just
 * begun its statistics know nothing.)
 */
const TWINS = `
  with placed as (
    select i.id, i.reference, i.name, i.item_key, f.exact, f.canonical from incoming i join incoming_folders f on f.folder_path = i.folder_path
    where i.state = 'live' and i.place = 'file-record' and i.item_key is not null and i.own_folder is null
  ), first as (
    select id, reference, name, exact, first_value(reference) over same as first_reference, first_value(exact) over same as first_folder,
      first_value(name) over same as first_name
    from placed window same as (partition by canonical, item_key order by id)
  ), twins as (
    select p.id, p.exact from placed p join first w on w.id = p.id
    where (w.first_reference <> w.reference and (w.first_folder <> w.exact or w.first_name <> w.name))
      or exists (
        select 1 from items t join copies c on c.item_id = t.id
        where t.folder_id = p.canonical and t.key = p.item_key and c.pass_id + 0 = $1 and c.state = 'live' and c.place = 'file-record'
          and c.reference <> p.reference and (c.name <> p.name or c.folder_id <> p.exact))
  )
  update incoming i set item_key = i.item_key || '#' || md5(i.reference), own_folder = twins.exact from twins where twins.id = i.id`;

/** The extension of a name, as items keep it. */
export const EXTENSION = (name: string) => `coalesce(lower(substring(${name} from '[^.]\\.([^.[:space:]]{1,12})$')), '')`;

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
  update incoming i set item_key = t.key, name = t.name, own_folder = t.folder_id, local_times = c.local_times,
    modified = extract(epoch from c.modified) * 1000, created = extract(epoch from c.created) * 1000
  from copies c join items t on t.id = c.item_id
  where c.job_id = $1 and c.store_id = $2 and c.first_at = i.first_at and c.place <> 'raw' and c.type = 'file' and t.kind = i.kind
    and i.facts->>'inside' is null`;
