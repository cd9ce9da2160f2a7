import type pg from "pg";

/**
 * Whether a copy `c` is the same version of an item as what comes in, `i`: another pass knows another part of its span, one that keeps to some states
 * for instance. Of a store that is new to the database's statistics it would go through all copies: hence the sum. @param store SQL expression
 */
export const sameVersion = (store: string): string =>
  `(c.store_id + 0 = ${store} and c.set_key = i.set_key and c.same_as = i.same_as and c.name = i.name and c.present && i.present)`;

/** Whether a pass `p` keeps to some of the states. */
const NARROWED = "(p.options ? 'statesFrom' or p.options ? 'statesTo')";

const matched = (store: string) => `from incoming i join incoming_folders f on f.folder_path = i.folder_path
    join items t on t.folder_id = coalesce(i.own_folder, f.canonical) and t.key = i.item_key, passes p
  where p.id = c.pass_id and c.item_id = t.id and c.place = i.place and ${sameVersion(store)}`;
const TOUCHED = "insert into touched select distinct item_id from widened";

/** What a pass over all states says of a version counts, whatever was said before. */
const BY_ALL = `with widened as (
    update copies c set pass_id = $1, present = i.present, state = i.state, notes = i.notes, moved_to = i.moved_to
    ${matched("$2")} and (${NARROWED} or c.present <> i.present or c.state <> i.state or c.notes <> i.notes or c.moved_to is distinct from i.moved_to)
    returning c.item_id
  ) ${TOUCHED}`;

const ENDS_LATER = "(upper_inf(i.present) or upper(i.present) > upper(c.present))";

/** Of two passes over some states each knows a part of a span, and the later part says what became of the version. */
const BY_SOME = `with widened as (
    update copies c set present = range_merge(c.present, i.present), state = case when ${ENDS_LATER} then i.state else c.state end,
      notes = case when ${ENDS_LATER} then i.notes else c.notes end, moved_to = case when ${ENDS_LATER} then i.moved_to else c.moved_to end
    ${matched("$1")} and ${NARROWED} and range_merge(c.present, i.present) <> c.present
    returning c.item_id
  ) ${TOUCHED}`;

/** Whether somebody has chosen or restored a copy. */
const held = (
  copy: string,
) => `(exists (select 1 from restore_results where copy_id = ${copy}.id) or exists (select 1 from share_choices where copy_id = ${copy}.id)
    or exists (select 1 from tray_entries where copy_id = ${copy}.id) or exists (select 1 from items where best_copy_id = ${copy}.id and overruled))`;

/** Two parts of a span turn out to be one version's: one copy is enough. */
const JOINED = `with joined as (
    delete from copies d using (select distinct id from touched) t where d.item_id = t.id and d.store_id + 0 = $1 and d.present is not null and not ${held("d")}
      and exists (select 1 from copies k where k.item_id = d.item_id and k.store_id + 0 = d.store_id and k.id <> d.id and k.place = d.place and k.name = d.name
        and k.set_key = d.set_key and k.same_as = d.same_as and k.present && d.present and (k.id < d.id or ${held("k")}))
    returning d.id
  ), pictures as (delete from thumbnails p using joined where p.copy_id = joined.id)
  delete from copy_checks k using joined where k.copy_id = joined.id`;

/**
 * Brings the versions that other passes have stored up to what a batch (the tables `incoming`, `incoming_folders`) says of the same ones. Items it
 * concerns are added to the table `touched`.
 */
export async function widenVersions(client: pg.PoolClient, passId: number, storeId: number): Promise<void> {
  const { rows } = await client.query<{ narrowed: boolean }>(`select ${NARROWED} as narrowed from passes p where p.id = $1`, [passId]);
  await (rows[0]?.narrowed ? client.query(BY_SOME, [storeId]) : client.query(BY_ALL, [passId, storeId]));
  await client.query(JOINED, [storeId]);
}
