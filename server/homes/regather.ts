import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { lockGathering } from "../items/join";
import { gatherCopies, OPENS, summed } from "../passes/best-copy";
import { EXTENSION } from "../passes/store-copies";
import { findFolders, fromHome, toHome } from "./paths";

/**
 * Gathers the copies of stores anew after `change` has changed which homes their paths are those of. Folders that go over as a whole get their
 * new home, and nothing in them is touched; of the others each copy finds its item anew by folder and name. Copies that were joined to an item for
 * other reasons than their path stay with it. What was chosen stays chosen, and what was restored is known again.
 */
export async function regather(tx: Connection, jobId: number, storeIds: readonly number[], change: () => Promise<void>): Promise<void> {
  const run = (statement: string) => tx.execute(sql.raw(statement));
  const stores = `'{${storeIds.map(Math.trunc).join(",")}}'::int[]`;
  await lockGathering(tx, jobId);
  // Passes that store copies hold these rows for each batch.
  await run(`select 1 from home_paths where home_id in (select home_id from home_paths where store_id = any(${stores})) for update`);
  await run(`create temp table old_paths on commit drop as select * from home_paths where store_id = any(${stores})`);
  await change();
  await run(`create temp table moving on commit drop as
    select c.store_id, c.folder_id, coalesce(f.same_as, f.id) as old_canonical, f.home_id as old_home, f.path as old_path, h.home_id, h.path,
      null::uuid as folded, null::int as exact, null::int as canonical
    from (select distinct store_id, folder_id from copies where job_id = ${jobId} and store_id = any(${stores})) c
    join folders f on f.id = c.folder_id
    ${fromHome("c.store_id", "f.home_id", "f.path", "old_paths")}
    ${toHome("c.store_id", "s.path")}
    where (h.home_id, h.path) <> (f.home_id, f.path)`);
  await run("analyze moving");
  await run(REPOINTED(jobId, stores));
  await run("delete from moving m using repointed r where r.folder_id = m.old_canonical");
  await run(`update folders f set home_id = r.home_id, path = m.path, folded = folded_path(m.path, h.case_sensitive)
    from repointed r join homes h on h.id = r.home_id, repointed_paths m where m.old_canonical = r.folder_id and f.id = m.folder_id`);
  for (const statement of findFolders("moving", String(jobId))) await run(statement);
  await run("analyze moving");
  for (const statement of MOVED(jobId)) await run(statement);
  await run(gatherCopies("select t.id from changed_items t join items i on i.id = t.id"));
  // Who chose the best copy of an item goes on with the best one, unless that is another one now.
  await run(`update tray_entries e set copy_id = null from chosen c join items i on i.id = c.item_id
    where e.job_id = c.job_id and e.item_id = c.item_id and e.copy_id = c.meant and c.copy_id is null and i.best_copy_id = c.meant
      and not exists (select 1 from tray_entries o where o.job_id = e.job_id and o.item_id = e.item_id and o.copy_id is null)`);
  // Folders in which nothing is any more.
  await run(`delete from folders f using moving m where f.id = m.folder_id and not exists (select 1 from folders v where v.same_as = f.id)
    and f.id not in (select folder_id from copies where job_id = ${jobId}) and f.id not in (select folder_id from items where job_id = ${jobId})`);
  await run(`delete from homes h where h.job_id = ${jobId} and not exists (select 1 from home_paths p where p.home_id = h.id)
    and not exists (select 1 from folders f where f.home_id = h.id)`);
  await run("drop table old_paths, moving, repointed, repointed_paths, moved, made_items, chosen, changed_items");
}

/**
 * Folders, in all ways they are written, that go over as a whole: only the moving stores have copies in them, all of them go to one folder of
 * one home, and that home has none of this path.
 */
const REPOINTED = (jobId: number, stores: string) => `
  create temp table repointed on commit drop as
  with shared as (
    select distinct coalesce(f.same_as, f.id) as id from copies c join folders f on f.id = c.folder_id
    where c.job_id = ${jobId} and not c.store_id = any(${stores}) and f.home_id in (select old_home from moving)
  ), groups as (
    select m.old_canonical as folder_id, min(m.home_id) as home_id, min(h.case_sensitive::int) as sensitive,
      array_agg(distinct m.folder_id) as members, array_agg(distinct folded_path(m.path, h.case_sensitive)) as folded
    from moving m join homes h on h.id = m.home_id join homes o on o.id = m.old_home
    group by 1 having min(m.home_id) = max(m.home_id) and bool_and(h.case_sensitive = o.case_sensitive)
  ), alone as (
    select g.*, count(*) over (partition by home_id, folded[1]) as rivals from groups g
    where cardinality(folded) = 1 and folder_id not in (select id from shared)
      and (select count(*) from folders f where f.id = g.folder_id or f.same_as = g.folder_id) = cardinality(members)
  )
  select folder_id, home_id from alone a where rivals = 1
    and not exists (select 1 from folders f where f.home_id = a.home_id and f.folded = a.folded[1] and f.same_as is null and f.id <> a.folder_id);
  create temp table repointed_paths on commit drop as
  select distinct m.old_canonical, m.folder_id, m.path from moving m join repointed r on r.folder_id = m.old_canonical`;

/** A key of an item in a folder of a home, distinct from one of another home: names fold where the home folds them. */
const KEY = `case when h.case_sensitive = o.case_sensitive then i.key
  when o.case_sensitive then lower(i.key)
  when starts_with(i.key, lower(normalize(c.name, NFC))) then normalize(c.name, NFC) || substr(i.key, length(lower(normalize(c.name, NFC))) + 1) else i.key end`;

/** Finds the items that are there already. */
const FIND_ITEMS =
  "update moved m set item_id = t.id from items t where m.by_path and m.item_id is null and t.folder_id = m.item_folder and t.key = m.key";

/** Moves the copies in `moving` to their folders, and to the items in them. */
const MOVED = (jobId: number): string[] => [
  // A copy belongs to its item by its path when it is in the item's folder. A file distinguished by its capitals alone has the folder as it is written.
  `create temp table moved on commit drop as
     select c.id, c.item_id as old_item, c.name, m.exact, case when i.key ~ '#[0-9a-f]{32}$' then m.exact else m.canonical end as item_folder, ${KEY} as key,
       i.folder_id in (c.folder_id, m.old_canonical) as by_path, null::bigint as item_id
     from moving m join copies c on c.job_id = ${jobId} and c.folder_id = m.folder_id and c.store_id = m.store_id
     join homes h on h.id = m.home_id join homes o on o.id = m.old_home left join items i on i.id = c.item_id`,
  "analyze moved",
  FIND_ITEMS,
  "create temp table made_items (id bigint not null) on commit drop",
  `with ${summed("moved m join copies c on c.id = m.id and m.by_path and m.item_id is null", "m.item_folder, m.key")}, overruled as (
       select m.item_folder, m.key, min(i.best_copy_id) as id from moved m join items i on i.id = m.old_item and i.best_copy_id = m.id
       where m.by_path and i.overruled group by 1, 2
     ), first as (select item_folder, key, min(old_item) as old_item from moved where by_path and item_id is null group by 1, 2), made as (
       insert into items (job_id, folder_id, key, name, kind, lost, copies, places, stores, best_copy_id, overruled, size, modified, condition, survival,
         facts, live, opens, created, deleted_at, extension)
       select ${jobId}, r.item_folder, r.key, r.name, i.kind, n.lost, n.copies, n.places, n.stores, coalesce(o.id, r.id), o.id is not null,
         b.size, b.modified, b.condition, b.survival, b.facts, b.state = 'live', ${OPENS("b")}, b.created, b.deleted_at, ${EXTENSION("r.name")}
       from ranked r join counted n on (n.item_folder, n.key) = (r.item_folder, r.key) join first f on (f.item_folder, f.key) = (r.item_folder, r.key)
       join items i on i.id = f.old_item left join overruled o on (o.item_folder, o.key) = (r.item_folder, r.key) join copies b on b.id = coalesce(o.id, r.id)
       on conflict do nothing returning id
     ) insert into made_items select id from made`,
  FIND_ITEMS,
  "create index on moved (id)",
  "create index on moved (old_item)",
  // What was joined to an item for another reason goes with it when nothing in the item's own place stays.
  `create temp table following on commit drop as
     select c.id, c.item_id as old_item, t.item_id, c.folder_id
     from (select old_item, min(item_id) as item_id from moved where by_path group by 1) t join copies c on c.item_id = t.old_item
     where not exists (select 1 from moved m where m.id = c.id and m.by_path)
       and not exists (
         select 1 from copies k join items i on i.id = k.item_id join folders f on f.id = k.folder_id
         where k.item_id = t.old_item and i.folder_id in (f.id, f.same_as) and not exists (select 1 from moved m where m.id = k.id and m.by_path))`,
  "update moved m set item_id = f.item_id, by_path = true from following f where f.id = m.id",
  `insert into moved (id, old_item, by_path, item_id, exact)
     select id, old_item, true, item_id, folder_id from following f where not exists (select 1 from moved m where m.id = f.id)`,
  `create temp table changed_items on commit drop as
     select distinct id from (select old_item as id from moved where by_path union all select item_id from moved where by_path) t
     where not exists (select 1 from made_items n where n.id = t.id)`,
  // What went along is counted too.
  "insert into changed_items select distinct f.item_id from following f join made_items n on n.id = f.item_id",
  "drop table following",
  // A choice goes with the copy that was meant by it.
  `create temp table chosen on commit drop as
     select e.job_id, m.item_id, m.id as meant, e.copy_id, e.added_at, e.place_home, e.place_folder, e.place_name, e.item_id as old_item from tray_entries e join items i on i.id = e.item_id
     join moved m on m.id = coalesce(e.copy_id, i.best_copy_id) and m.by_path where e.job_id = ${jobId} and m.item_id <> e.item_id`,
  `delete from tray_entries e using chosen c where e.job_id = c.job_id and e.item_id = c.old_item and e.copy_id is not distinct from c.copy_id`,
  `insert into tray_entries (job_id, item_id, copy_id, added_at, place_home, place_folder, place_name)
     select job_id, item_id, meant, added_at, place_home, place_folder, place_name from chosen on conflict do nothing`,
  `update jobs j set found_item_id = m.item_id from items i join moved m on m.id = i.best_copy_id and m.by_path where j.id = ${jobId} and i.id = j.found_item_id`,
  `update restore_results r set item_id = m.item_id from restores s, moved m where s.job_id = ${jobId} and r.restore_id = s.id and m.id = r.copy_id and m.by_path`,
  `update copies c set folder_id = m.exact, item_id = case when m.by_path then m.item_id else c.item_id end from moved m where m.id = c.id`,
  `delete from items i using changed_items t where i.id = t.id and not exists (select 1 from copies c where c.item_id = i.id)`,
  `update items i set overruled = false from changed_items t
     where i.id = t.id and i.overruled and not exists (select 1 from copies c where c.id = i.best_copy_id and c.item_id = i.id)`,
];
