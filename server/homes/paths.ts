/** Whether a path is a folder, or lies below it; "" is the root, below which all is. Texts are SQL expressions. */
const isBelow = (path: string, folder: string) =>
  `(${folder} = '' or lower(${path}) = lower(${folder}) or starts_with(lower(${path}), lower(${folder}) || '/'))`;

/** Folders whose place in the tree is not known stand beside it, in whichever home. */
const isLost = (path: string) => `${path} like '/?%'`;

/** Joins the home of a path of a store, as `h` (home_id, path). @param store, path SQL expressions @param paths the table, or one like it */
export const toHome = (store: string, path: string, paths = "home_paths") => `
  cross join lateral (
    select p.home_id, case when ${isLost(path)} then ${path} else p.at || substr(${path}, length(p.below) + 1) end as path
    from ${paths} p where p.store_id = ${store} and case when ${isLost(path)} then p.below = '' else ${isBelow(path, "p.below")} end
    order by length(p.below) desc limit 1) h`;

/** Joins the path in a store of a path of a home, as `s` (path): the way back. Paths of a home that the store does not show are left out. */
export const fromHome = (store: string, home: string, path: string, paths = "home_paths") => `
  cross join lateral (
    select case when ${isLost(path)} then ${path} else p.below || substr(${path}, length(p.at) + 1) end as path
    from ${paths} p where p.store_id = ${store} and p.home_id = ${home} and case when ${isLost(path)} then true else ${isBelow(path, "p.at")} end
    order by length(p.at) desc limit 1) s`;

/**
 * Gives the paths in a table their folders, making those that are new: `exact` as the path is written, `canonical` the first of all ways to
 * write it. @param table a table with (home_id, path, folded, exact, canonical), the last two empty
 */
export const findFolders = (table: string, job: string): string[] => [
  `update ${table} t set folded = folded_path(t.path, h.case_sensitive) from homes h where h.id = t.home_id`,
  `insert into folders (job_id, home_id, path, folded)
     select distinct on (home_id, folded) ${job}::int, home_id, path, folded from ${table} order by home_id, folded, path on conflict do nothing`,
  `insert into folders (job_id, home_id, path, folded, same_as)
     select distinct ${job}::int, t.home_id, t.path, t.folded, c.id
     from ${table} t join folders c on c.home_id = t.home_id and c.folded = t.folded and c.same_as is null and c.path <> t.path on conflict do nothing`,
  `update ${table} t set canonical = c.id, exact = case when c.path = t.path then c.id
       else (select e.id from folders e where e.home_id = t.home_id and md5(e.path) = md5(t.path)) end
     from folders c where c.home_id = t.home_id and c.folded = t.folded and c.same_as is null`,
];
