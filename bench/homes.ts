import { open } from "../server/database/connection";
import { migrateDatabase } from "../server/database/migrate";
import { changeHomes } from "../server/homes/commands";
import { listHomes } from "../server/homes/queries";
import { manyItems } from "../tests/support/million";

/** Two drives of very many files are joined and parted: with the same paths, and with paths of their own. The seconds are printed as JSON. */
async function main(): Promise<void> {
  const [, , url = "", count = "1000000"] = process.argv;
  await migrateDatabase(url);
  const { db, pool } = open(url);
  const job = await manyItems(url, Number(count));
  const { rows } = await pool.query<{ store: number; home: number }>(
    "select p.store_id as store, p.home_id as home from home_paths p join homes h on h.id = p.home_id where h.job_id = $1",
    [job],
  );
  const { store, home } = rows[0] as { store: number; home: number };
  const same = await second(`f.path`);
  const other = await second(`'/Elsewhere' || f.path`);
  const seconds: Record<string, number> = {};
  const timed = async (what: string, work: () => Promise<unknown>) => {
    const before = performance.now();
    await work();
    seconds[what] = Math.round((performance.now() - before) / 100) / 10;
  };
  await timed("list homes and what may be the same", () => listHomes(db, job));
  await timed("join with other paths", () => changeHomes(db, job, { join: other.home, into: home }));
  await timed("part with other paths", () => changeHomes(db, job, { part: other.store, below: "" }));
  await timed("join with the same paths", () => changeHomes(db, job, { join: same.home, into: home }));
  await timed("part with the same paths", () => changeHomes(db, job, { part: same.store, below: "" }));
  console.log(JSON.stringify({ copies: Number(count), seconds }));
  await pool.end();

  /** A second store with a home of its own and as many files, in folders of these paths. */
  async function second(path: string): Promise<{ store: number; home: number }> {
    const one = async (sql: string, values: unknown[]) => Number((await pool.query<{ id: string }>(sql, values)).rows[0]?.id);
    const made = await one(
      `insert into stores (source_id, number, offset_bytes, length_bytes, filesystem, readable, notes)
       select source_id, 1, 0, 1, filesystem, true, '[]' from stores where id = $1 returning id`,
      [store],
    );
    const own = await one("insert into homes (job_id, label) values ($1, 'second') returning id", [job]);
    await pool.query("insert into home_paths (store_id, home_id) values ($1, $2)", [made, own]);
    await pool.query(
      `insert into folders (job_id, home_id, path, folded) select $1, $2, p.path, folded_path(p.path, false) from folders f, lateral (select ${path} as path) p where f.home_id = $3`,
      [job, own, home],
    );
    await pool.query("analyze folders");
    await pool.query(
      `with names as (
         select c.*, n.id as new_folder, nextval('copies_id_seq') as new_id, nextval('items_id_seq') as new_item
         from copies c join folders f on f.id = c.folder_id join folders n on n.home_id = $3 and n.path = ${path} where c.job_id = $1 and c.store_id = $4
       ), made as (
         insert into items (id, job_id, stores, folder_id, key, name, kind, lost, places, best_copy_id, condition, survival, size, modified)
         select new_item, job_id, array[$2::int], new_folder, (select key from items where id = names.item_id), name, 'documents', true, '{file-record}', new_id, condition, survival, size, modified
         from names
       )
       insert into copies (id, job_id, pass_id, store_id, item_id, folder_id, place, state, type, reference, name, name_raw, condition, survival, size, modified, evidence, notes)
       select new_id, job_id, 0, $2, new_item, new_folder, place, state, type, reference, name, '', condition, survival, size, modified, evidence, notes from names`,
      [job, made, own, store],
    );
    await pool.query("analyze items; analyze copies");
    return { store: made, home: own };
  }
}

await main();
