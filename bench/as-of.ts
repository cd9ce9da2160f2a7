import { type Database, open } from "../server/database/connection";
import { migrateDatabase } from "../server/database/migrate";
import { type ItemQuery, itemQuery } from "../server/items/contract";
import { countFacets, sinceFacet } from "../server/items/facets";
import { listItems, spineOf } from "../server/items/list";
import { listMoments } from "../server/items/moments";
import { manyItems } from "../tests/support/million";

/** States of the two sets together. */
const STATES = 40;
const FIRST = Date.UTC(2024, 0, 1);
const WEEK = 7 * 86_400_000;
const SET = "0123456789ab";

/**
 * Steps through the states of a job whose every file has two versions, kept in one of two sets. The milliseconds until the page, the spine of the
 * list and the counts are there, half of them and 95 % of them, are printed as JSON; then the same of the lists of all these versions.
 */
async function main(): Promise<void> {
  const [, , url = "", count = "1000000"] = process.argv;
  await migrateDatabase(url);
  const { db, pool } = open(url);
  const job = await manyItems(url, Number(count));
  const { rows } = await pool.query<{ id: number }>("select s.id from stores s join sources o on o.id = s.source_id where o.job_id = $1", [
    job,
  ]);
  const store = rows[0]?.id;
  for (const half of [0, 1])
    await pool.query(
      `insert into copies (job_id, pass_id, store_id, item_id, folder_id, place, state, type, reference, name, name_raw, condition, survival, size, modified,
         evidence, notes, same_as, set_key, present)
       select job_id, 0, store_id, id, folder_id, 'backup', 'live', 'file', 'version ' || $3::int, name, '', 'whole', 1, size + $3::int, modified,
         '{"usedByOthers":0,"takenLater":0,"lost":0,"unreadable":0,"content":null}', '[]', 'version ' || $3::int, case when id % 2 = 0 then $4 end,
         case when $3::int = 0 then tstzrange($5::timestamptz + (id % 10) * interval '7 days', $5::timestamptz + (10 + id % 20) * interval '7 days', '[)')
           else tstzrange($5::timestamptz + (10 + id % 20) * interval '7 days', case when id % 3 > 0 then null else $5::timestamptz + (31 + id % 9) * interval '7 days' end, '[)') end
       from (select i.*, $2::int as store_id from items i where i.job_id = $1) i`,
      [job, store, half, SET, new Date(FIRST)],
    );
  await pool.query("analyze copies");
  const times: Record<string, number[]> = {};
  const timed = async (what: string, work: () => Promise<unknown>) => {
    const before = performance.now();
    await work();
    times[what] ??= [];
    times[what]?.push(performance.now() - before);
  };
  await timed("moments", () => listMoments(db, job, {}));
  const at = (state: number, more: Partial<ItemQuery> = {}) =>
    itemQuery.parse({ show: "all", asOf: new Date(FIRST + state * WEEK).toISOString(), ...more });
  for (let state = 1; state < STATES; state += 1) {
    await timed("page", () => listItems(db, job, at(state)));
    for (const since of ["gone", "changed"] as const) await timed(`page, ${since} since`, () => listItems(db, job, at(state, { since })));
    await timed("page, one set", () => listItems(db, job, at(state, { set: `${store}-${SET}` })));
    await timed("page, by size", () => listItems(db, job, at(state, { sort: "size", order: "down" })));
    await timed("page, by date", () => listItems(db, job, at(state, { sort: "changed" })));
    await timed("page, of a year", () => listItems(db, job, at(state, { year: "2019" })));
    await timed("page, a word", () => listItems(db, job, at(state, { q: "star 777" })));
    if (state % 8 !== 0) continue;
    await timed("page, by size, gone since", () => listItems(db, job, at(state, { sort: "size", since: "gone" })));
    await timed("spine", () => spineOf(db, job, at(state)));
    await timed("counts", () => countFacets(db, job, at(state)));
    await timed("counts of what became of them", () => sinceFacet(db, job, at(state)));
  }
  await timeVersions(db, job, `${store}-${SET}`, timed);
  const shown = Object.entries(times).map(([what, all]): [string, { p50: number; p95: number; runs: number }] => {
    const sorted = all.sort((a, b) => a - b);
    const percentile = (share: number) => Math.round(sorted[Math.min(sorted.length - 1, Math.floor(share * sorted.length))] ?? 0);
    return [what, { p50: percentile(0.5), p95: percentile(0.95), runs: all.length }];
  });
  console.log(JSON.stringify({ items: Number(count), versions: 2 * Number(count), milliseconds: Object.fromEntries(shown) }));
  await pool.end();
}

/** The lists that have a row for each version, or for the newest of each file: first pages, pages far down, and what counts them. */
async function timeVersions(
  db: Database,
  job: number,
  set: string,
  timed: (what: string, work: () => Promise<unknown>) => Promise<void>,
): Promise<void> {
  for (const rows of ["each", "newest"] as const) {
    const words = rows === "each" ? "all versions" : "newest versions";
    for (const sort of ["name", "changed", "size"] as const) {
      const asked = itemQuery.parse({ show: "all", rows, sort, order: sort === "name" ? "up" : "down" });
      let starts: readonly string[] = [];
      await timed(`${words}, spine`, async () => {
        starts = (await spineOf(db, job, asked)).starts;
      });
      for (let turn = 0; turn < 20; turn += 1) {
        await timed(`${words} by ${sort}, a page`, () =>
          listItems(db, job, { ...asked, after: starts[Math.floor((starts.length * turn) / 20)] }),
        );
        await timed(`${words} by ${sort}, one set`, () => listItems(db, job, { ...asked, set }));
        await timed(`${words} by ${sort}, of a year`, () => listItems(db, job, { ...asked, year: "2019" }));
        await timed(`${words} by ${sort}, a word`, () => listItems(db, job, { ...asked, q: `star ${777 + turn}` }));
      }
    }
    await timed(`${words}, counts`, () => countFacets(db, job, itemQuery.parse({ show: "all", rows })));
    await timed(`${words}, counts of a word`, () => countFacets(db, job, itemQuery.parse({ show: "all", rows, q: "star 777" })));
  }
}

await main();
