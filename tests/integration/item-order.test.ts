import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { open } from "../../server/database/connection";
import { type ItemQuery, itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { manyItems } from "../support/million";
import { scratchDatabase } from "../support/scratch-database";

/** More than are walked through for a page. */
const COUNT = 25_000;

let opened: ReturnType<typeof open>;
let job: number;

beforeAll(async () => {
  const url = await scratchDatabase();
  opened = open(url);
  job = await manyItems(url, COUNT);
  // From here on the database's statistics are what this test makes them.
  await opened.pool.query("alter table items set (autovacuum_enabled = false)");
});
afterAll(() => opened?.pool.end());

const asked = (query: Record<string, unknown>): ItemQuery => itemQuery.parse({ show: "all", limit: 50, ...query });

/** The names a plain sort of all that match gives. */
async function sorted(like: string, order: "asc" | "desc"): Promise<string[]> {
  const { rows } = await opened.pool.query<{ name: string }>(
    `select name from items where job_id = $1 and name ilike $2 order by lower(name) collate "C" ${order}, id ${order}`,
    [job, like],
  );
  return rows.map(({ name }) => name);
}

/** The names of the first pages, each gone on from where the one before ended. */
async function paged(query: ItemQuery, pages: number): Promise<string[]> {
  const names: string[] = [];
  let after: string | undefined;
  for (let page = 0; page < pages; page += 1) {
    const { items, next } = await listItems(opened.db, job, after ? { ...query, after } : query);
    names.push(...items.map(({ name }) => name));
    if (next === null) break;
    after = next;
  }
  return names;
}

describe("a page of very many items", () => {
  it.each([
    ["many match", "night"],
    ["some match", '"star 7'],
    ["few match", '"star 777'],
    ["one matches", '"log 4321 of"'],
  ])("is what a plain sort gives, page after page: %s", async (_, q) => {
    for (const [order, direction] of [
      ["up", "asc"],
      ["down", "desc"],
    ] as const) {
      const all = await sorted(`%${q.replaceAll('"', "")}%`, direction);
      expect(await paged(asked({ q, sort: "name", order }), 4)).toEqual(all.slice(0, 200));
    }
  });

  it("is so where the statistics count a hundred times too many, and the matches stand at the end of the order", async () => {
    await opened.pool.query("update items set name = 'Everywhere ' || name where job_id = $1", [job]);
    await opened.pool.query("analyze items");
    await opened.pool.query(
      "update items set name = case when n > $2 then 'Zodiac everywhere ' || n else 'Plate ' || n end from (select id as of, row_number() over (order by id) n from items where job_id = $1) s where id = of",
      [job, COUNT - 120],
    );
    const all = await sorted("%everywhere%", "asc");
    expect(all).toHaveLength(120);
    expect(await paged(asked({ q: "everywhere", sort: "name", order: "up" }), 10)).toEqual(all);
    expect(await paged(asked({ q: "everywhere", sort: "name", order: "down" }), 10)).toEqual(all.toReversed());
  });

  it("is so where the statistics know of none", async () => {
    await opened.pool.query("analyze items");
    await opened.pool.query("update items set name = 'Nowhere ' || name where job_id = $1", [job]);
    const all = await sorted("%nowhere%", "asc");
    expect(all).toHaveLength(COUNT);
    expect(await paged(asked({ q: "nowhere", sort: "name", order: "up" }), 3)).toEqual(all.slice(0, 150));
  });
});
