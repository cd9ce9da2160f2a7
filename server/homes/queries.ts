import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { USER_FOLDER_SQL } from "../items/filter";
import type { HomeList, Suggestion } from "./contract";

/** The homes of a job with what shows them, and what may be the same. */
export async function listHomes(db: Connection, jobId: number): Promise<HomeList> {
  const { rows: homes } = await db.execute<{ id: number; label: string; items: string }>(sql`
    select h.id, h.label, coalesce(c.items, 0) as items from homes h
    left join (select f.home_id, count(*) as items from items i join folders f on f.id = i.folder_id where i.job_id = ${jobId} group by 1) c on c.home_id = h.id
    where h.job_id = ${jobId} order by h.id`);
  const { rows: shown } = await db.execute<HomeList["homes"][number]["stores"][number] & { homeId: number }>(sql`
    select p.home_id as "homeId", p.store_id as "storeId", coalesce(v.label, 'volume ' || v.number) as store, s.name as source, v.standing, p.below, p.at, p.reason
    from home_paths p join stores v on v.id = p.store_id join sources s on s.id = v.source_id where s.job_id = ${jobId}
    order by p.reason is not null, p.store_id, p.below`);
  return {
    homes: homes.map(({ id, label, items }) => ({
      id,
      label,
      items: Number(items),
      stores: shown.filter(({ homeId }) => homeId === id).map(({ homeId: _, ...store }) => store),
    })),
    suggestions: [...(await alikeHomes(db, jobId)), ...(await foldersOfHomes(db, jobId))].slice(0, MOST_SUGGESTED),
  };
}

const MOST_SUGGESTED = 20;
/** So many folders of users in common, and such a share of the smaller one's, make two homes worth a question. */
const FEW_FOLDERS = 3;
const SHARE = 0.3;

/**
 * Pairs of homes that have folders of users in common. Whatever the system itself puts on every drive says nothing.
 * A drive that is shown by one store alone is the one that may join the other.
 */
async function alikeHomes(db: Connection, jobId: number): Promise<Suggestion[]> {
  const { rows } = await db.execute<Omit<Suggestion, "reason" | "below" | "at"> & { same: number; label: boolean }>(sql`
    with deep as materialized (
      select f.home_id, f.folded from folders f where f.job_id = ${jobId} and f.same_as is null and f.path ~* ${`${USER_FOLDER_SQL}/`}
    ), sizes as (select home_id, count(*) as n from deep group by 1),
    pairs as (
      select a.home_id as one, b.home_id as other, count(*) as same from deep a join deep b on b.folded = a.folded and b.home_id > a.home_id group by 1, 2
    )
    select p.store_id as "storeId", coalesce(v.label, 'volume ' || v.number) as store, h.id as "homeId", h.label as home, pairs.same::int as same,
      o.label = h.label as label
    from pairs join sizes a on a.home_id = one join sizes b on b.home_id = other
    join homes h on h.id = one join homes o on o.id = other
    join lateral (select min(store_id) as store_id from home_paths where home_id = other and below = '' having count(*) = 1) p on true
    join stores v on v.id = p.store_id
    where same >= ${FEW_FOLDERS} and same >= ${SHARE}::float8 * least(a.n, b.n) order by same desc limit ${MOST_SUGGESTED}`);
  return rows.map(({ same, label, ...pair }) => ({
    ...pair,
    below: "",
    at: "",
    reason: `${same} folders of users have the same paths${label ? ", and the label is the same" : ""}.`,
  }));
}

/** Folders of a store below which the users of a home have theirs: a copy or a backup of it. */
async function foldersOfHomes(db: Connection, jobId: number): Promise<Suggestion[]> {
  const { rows } = await db.execute<Omit<Suggestion, "reason" | "at"> & { users: string[] }>(sql`
    with users as materialized (
      select distinct f.home_id, (regexp_match(f.path, '^(.*?)/(?:Users|Documents and Settings|home)/[^/]+(?:/|$)', 'i'))[1] as above,
        (regexp_match(f.path, '^.*?(/(?:Users|Documents and Settings|home)/[^/]+)(?:/|$)', 'i'))[1] as user_folder
      from folders f where f.job_id = ${jobId} and f.same_as is null and f.path not like '/?%'
    ), ordinary as (
      select distinct lower(user_folder) as user_folder from users where lower(user_folder) ~ '/(public|default|default user|all users|shared)$'
    ), pairs as (
      select o.home_id as other, o.above, h.home_id, array_agg(distinct regexp_replace(o.user_folder, '^.*/', '')) as users
      from users o join users h on lower(h.user_folder) = lower(o.user_folder) and h.home_id <> o.home_id and h.above = ''
      where o.above <> '' and lower(o.user_folder) not in (select user_folder from ordinary) group by 1, 2, 3
    )
    select p.store_id as "storeId", coalesce(v.label, 'volume ' || v.number) as store, pairs.above as below, h.id as "homeId", h.label as home, pairs.users
    from pairs join homes h on h.id = pairs.home_id
    join home_paths p on p.home_id = pairs.other and p.below = '' and p.at = '' join stores v on v.id = p.store_id
    order by cardinality(pairs.users) desc, 1, 3 limit ${MOST_SUGGESTED}`);
  return rows.map(({ users, ...pair }) => ({
    ...pair,
    at: "",
    reason: `It holds folders of ${users.slice(0, 3).join(", ")}${users.length > 3 ? " and others" : ""}, who ${users.length > 1 ? "are" : "is"} on ${pair.home} too.`,
  }));
}
