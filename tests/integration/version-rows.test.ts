import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Copy } from "../../core/copies/copy";
import { seeded } from "../../demo/draw";
import { type Item, type ItemQuery, itemFilter, itemQuery, PAGE, type Rows, SORTS } from "../../server/items/contract";
import { countFacets } from "../../server/items/facets";
import { listItems, positionOf, spineOf } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { changeTray } from "../../server/tray/commands";
import { SET_KIND_WORDS } from "../../server/words/contract";
import { startTestBench, type TestBench } from "../support/bench";
import { copyAt } from "../support/copies";
import { CONDITIONS, DAY, type DrawnFile, inAddress, KEYS, SETS, START, storeDrawnFiles } from "../support/drawn-files";
import { storeBatch } from "../support/stored";

/** More versions than a page's first look goes through. */
const FILES = 3000;

let bench: TestBench;
let jobId: number;
let storeId: number;

/** A version as it was drawn, with the ids it has in the database. */
interface Version {
  readonly id: number;
  readonly file: DrawnFile;
  readonly copy: Copy;
}
let versions: Version[];

beforeAll(async () => {
  bench = await startTestBench();
  const stored = await storeDrawnFiles(bench, 20261202, FILES);
  ({ jobId, storeId } = stored);
  const { rows } = await bench.pool.query("select id, reference from copies where job_id = $1 and name like 'file %'", [jobId]);
  const ids = new Map(rows.map(({ id, reference }) => [reference as string, Number(id)]));
  versions = stored.files.flatMap((file) => file.copies.map((copy) => ({ file, copy, id: ids.get(copy.reference) ?? 0 })));
  expect(new Set(versions.map(({ id }) => id)).size).toBe(versions.length);
}, 120_000);
afterAll(() => bench.close());

const changedOf = ({ modified, present }: Copy) => modified ?? present?.from ?? Number.NEGATIVE_INFINITY;

/** The versions a list has rows for, by the words of its rules: those kept in the sets, or any where none is chosen; of each file the newest, or each. */
function listed(rows: Rows, sets: readonly string[]): Version[] {
  const inScope = versions.filter(({ copy }) => sets.length === 0 || sets.includes(copy.set ?? ""));
  if (rows === "each") return inScope;
  const newestFirst = [...inScope].sort(
    (a, b) =>
      changedOf(b.copy) - changedOf(a.copy) || CONDITIONS.indexOf(a.copy.condition) - CONDITIONS.indexOf(b.copy.condition) || a.id - b.id,
  );
  const newest = new Map<DrawnFile, Version>();
  for (const version of newestFirst) if (!newest.has(version.file)) newest.set(version.file, version);
  return [...newest.values()];
}

/** Versions in an order of the list. Those of one name stand the newest first. */
function inOrder(of: readonly Version[], sort: ItemQuery["sort"], order: ItemQuery["order"]): number[] {
  const sign = order === "up" ? 1 : -1;
  const key = (version: Version) => (sort === "name" ? version.copy.name : KEYS[sort](version.copy));
  return [...of]
    .sort((a, b) => {
      const [one, other] = [key(a), key(b)];
      if (one !== other) return (one < other ? -1 : 1) * sign;
      if (a.file !== b.file) return (a.file.id - b.file.id) * sign;
      const newness = sort === "name" ? changedOf(b.copy) - changedOf(a.copy) : 0;
      return newness || (a.id - b.id) * sign;
    })
    .map(({ id }) => id);
}

const sorted = (of: readonly number[]) => [...of].sort((a, b) => a - b);
const query = (change: Partial<ItemQuery>) => itemQuery.parse({ show: "all", q: "file", ...change });
const idsOf = ({ items }: Awaited<ReturnType<typeof listItems>>) => items.map(({ version }) => version?.copyId);
const scope = (sets: readonly string[]) => (sets.length > 0 ? { set: inAddress(storeId, sets) } : {});

describe("a list of versions, of files drawn by lot", () => {
  const cases = (["each", "newest"] as const).flatMap((rows) => SORTS.map((sort) => ({ rows, sort })));

  it.each(cases)("has $rows by $sort, page by page, none twice and none left out", { timeout: 120_000 }, async ({ rows, sort }) => {
    const random = seeded(SORTS.indexOf(sort) + 7);
    for (const sets of [[], SETS.slice(0, 1), SETS.slice(1)])
      for (const order of ["up", "down"] as const) {
        const wanted = inOrder(listed(rows, sets), sort, order);
        expect(wanted.length).toBeGreaterThan(900);
        const asked = query({ rows, sort, order, limit: 150, ...scope(sets) });
        const words = `${order}, ${sets.length} sets`;
        const given: unknown[] = [];
        let after: string | undefined;
        for (let page = 0; page < 3; page += 1) {
          const found = await listItems(bench.db, jobId, { ...asked, after });
          given.push(...idsOf(found));
          after = found.next ?? undefined;
        }
        expect(given, words).toEqual(wanted.slice(0, 450));
        const spine = await spineOf(bench.db, jobId, asked);
        expect(spine.count, words).toBe(wanted.length);
        expect(spine.starts.length).toBe(Math.floor((wanted.length - 1) / PAGE));
        const page = Math.floor(random() * spine.starts.length);
        const far = await listItems(bench.db, jobId, { ...asked, limit: PAGE, after: spine.starts[page] });
        expect(idsOf(far), words).toEqual(wanted.slice((page + 1) * PAGE, (page + 2) * PAGE));
        const index = Math.floor(random() * wanted.length);
        expect(await positionOf(bench.db, jobId, asked, wanted[index] ?? 0), words).toBe(index);
      }
  });

  it("has few that match wherever they stand in the order, and none where none do", async () => {
    for (const q of ["file 1234", "file 99", "no such file"]) {
      const wanted = inOrder(
        versions.filter(({ copy }) => q.split(" ").every((word) => copy.name.includes(word))),
        "changed",
        "down",
      );
      const found = await listItems(bench.db, jobId, query({ rows: "each", q, sort: "changed", order: "down", limit: 1000 }));
      expect(idsOf(found), q).toEqual(wanted);
    }
  });

  it("says of each row what is so of that version alone", async () => {
    const byId = new Map(versions.map((version) => [version.id, version]));
    const { items } = await listItems(bench.db, jobId, query({ rows: "each", limit: 1000 }));
    expect(items.length).toBe(1000);
    for (const { version, id, size, modified, condition, survival, live, copies, marks } of items) {
      const drawn = byId.get(version?.copyId ?? 0) as Version;
      const { copy, file } = drawn;
      expect([id, size, modified?.getTime() ?? null, condition, survival, copies]).toEqual([
        file.id,
        copy.size,
        copy.modified,
        copy.condition,
        copy.survival,
        file.copies.length,
      ]);
      // Only the file itself is called live, not what a backup has of it.
      expect(live).toBe(copy.state === "live" && copy.present == null);
      expect(version?.place).toBe(copy.place);
      const set = SETS.indexOf(copy.set ?? "");
      expect(version?.set).toBe(set < 0 ? null : `machine ${set}: ${SET_KIND_WORDS["dated-trees"]}`);
      expect(version?.stood && [version.stood.from.getTime(), version.stood.until?.getTime() ?? null]).toEqual(
        copy.present ? [copy.present.from, copy.present.until] : null,
      );
      expect(marks).toHaveLength(1);
    }
  });

  it.each(["each", "newest"] as const)(
    "counts %s by every way of narrowing as the list then has it",
    { timeout: 120_000 },
    async (rows) => {
      for (const sets of [[], SETS.slice(0, 2)]) {
        const base = { show: "all", q: "file", rows, ...scope(sets) };
        const { total, ...facets } = await countFacets(bench.db, jobId, itemFilter.parse(base));
        const wanted = listed(rows, sets).length;
        // Of what is not whole a size of 0 says nothing: it is in no class of sizes.
        const unsized = listed(rows, sets).filter(({ copy }) => copy.size === 0 && copy.condition !== "whole").length;
        expect(unsized).toBeGreaterThan(0);
        if (rows === "each") expect(total).toBeGreaterThanOrEqual(versions.length);
        for (const name of ["kind", "place", "condition", "year", "size", "standing", "deleted", "type", "volume", "source"] as const) {
          expect(
            facets[name].reduce((sum, { count }) => sum + count, 0),
            name,
          ).toBe(name === "size" ? wanted - unsized : wanted);
          for (const { value, count } of facets[name].slice(0, 4)) {
            const narrowed = await spineOf(bench.db, jobId, itemQuery.parse({ ...base, [name]: value }));
            // The newest of a volume or source is looked for in it alone.
            if (rows === "each" || !["volume", "source"].includes(name)) expect(narrowed.count, `${name} ${value}`).toBe(count);
          }
        }
        const ofSets = Object.fromEntries(facets.set.map(({ value, count }) => [value, count]));
        const kept = listed(rows, []).filter(({ copy }) => copy.set != null);
        for (const set of SETS) expect(ofSets[inAddress(storeId, [set])], "set").toBe(kept.filter(({ copy }) => copy.set === set).length);
      }
      const small = listed(rows, []).filter(({ copy }) => copy.size === 0 && copy.condition === "whole" && copy.place === "backup");
      const { count } = await spineOf(bench.db, jobId, query({ rows, size: "empty", place: "backup" }));
      expect(count).toBe(small.length);
      expect(count).toBeGreaterThan(20);
      expect((await spineOf(bench.db, jobId, query({ rows, size: "empty", condition: "partial", place: "backup" }))).count).toBe(0);
    },
  );

  it.each([undefined, "each", "newest"] as const)(
    "narrowed to a year or a size, %s in its order are those in any other",
    { timeout: 120_000 },
    async (rows) => {
      const pages = async (asked: Partial<ItemQuery>) => {
        const given: Item[] = [];
        let after: string | undefined;
        do {
          const found = await listItems(bench.db, jobId, query({ rows, q: "", limit: 1000, ...asked, after }));
          given.push(...found.items);
          after = found.next ?? undefined;
        } while (after);
        return given;
      };
      const ids = (items: readonly Item[]) => sorted(items.map(({ id, version }) => version?.copyId ?? id));
      const { year, size } = await countFacets(bench.db, jobId, itemFilter.parse({ show: "all", rows }));
      const ways = [
        ...year.map(({ value }) => ({ sort: "changed" as const, narrowed: { year: value } })),
        ...size.map(({ value }) => ({ sort: "size" as const, narrowed: itemFilter.pick({ size: true }).parse({ size: value }) })),
        // No date can be of these, and none of them makes a list fail.
        ...["0000", "0999", "9999"].map((value) => ({ sort: "changed" as const, narrowed: { year: value } })),
      ];
      expect(year.length).toBeGreaterThan(2);
      for (const { sort, narrowed } of ways)
        for (const order of ["up", "down"] as const) {
          const inOwnOrder = await pages({ ...narrowed, sort, order });
          expect(ids(inOwnOrder), JSON.stringify(narrowed)).toEqual(ids(await pages(narrowed)));
          const keys = inOwnOrder.map((item) => KEYS[sort]({ ...item, modified: item.modified?.getTime() ?? null }));
          expect(order === "up" ? sorted(keys) : sorted(keys).reverse()).toEqual(keys);
        }
    },
  );

  it("is of all moments: together with one it is refused", async () => {
    const refused = listItems(bench.db, jobId, query({ rows: "each", asOf: "2026-03-01T00:00:00Z" }));
    await expect(refused).rejects.toThrow("Take the moment away");
  });
});

describe("versions put into the tray", () => {
  const chosen = async () => {
    const { rows } = await bench.pool.query(
      "select coalesce(t.copy_id, i.best_copy_id) as id from tray_entries t join items i on i.id = t.item_id where t.job_id = $1",
      [jobId],
    );
    return rows.map(({ id }) => Number(id)).sort((a, b) => a - b);
  };
  it("are those of the list: all that match, a range of them, one; and the same are taken out", async () => {
    const set = SETS.slice(0, 1);
    const matching = query({ rows: "newest", ...scope(set) });
    await changeTray(bench.db, jobId, { matching, chosen: true });
    const newest = listed("newest", set).map(({ id }) => id);
    expect(await chosen()).toEqual(sorted(newest));
    const { items } = await listItems(bench.db, jobId, { ...matching, limit: 5 });
    expect(items.every(({ inTray, alsoInTray }) => inTray && alsoInTray === 0)).toBe(true);

    // Several versions of one file stand there together.
    const byName = query({ rows: "each", ...scope(set) });
    const order = inOrder(listed("each", set), "name", "up");
    const [from, to] = [order[40] as number, order[90] as number];
    await changeTray(bench.db, jobId, { matching: byName, between: [to, from], chosen: true });
    expect(await chosen()).toEqual(sorted([...new Set([...newest, ...order.slice(40, 91)])]));

    await changeTray(bench.db, jobId, { matching, chosen: false });
    expect(await chosen()).toEqual(sorted(order.slice(40, 91).filter((id) => !newest.includes(id))));
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    expect(await chosen()).toEqual([]);
  });
});

it("gives of an item that has very many copies any that is asked for, and counts them all", async () => {
  const made = 740;
  const copies = Array.from({ length: made }, (_, index) =>
    copyAt("/Users/anna/Diary.txt", {
      place: "backup",
      state: "live",
      set: SETS[0] as string,
      sameAs: `diary ${index}`,
      reference: `diary ${index}`,
      modified: null,
      size: 100 + index,
      present: { from: START + index * DAY, until: START + (index + 1) * DAY },
    }),
  );
  await storeBatch(bench, jobId, storeId, "earlier-states", copies);
  const { rows } = await bench.pool.query("select id, item_id, reference from copies where job_id = $1 and reference like 'diary %'", [
    jobId,
  ]);
  const idOf = new Map(rows.map(({ id, reference }) => [reference as string, Number(id)]));
  const itemId = Number(rows[0].item_id);
  const referencesOf = async (...asked: number[]) =>
    (await findItem(bench.db, itemId, asked))?.list.map(({ reference }) => reference) ?? [];

  const shown = await findItem(bench.db, itemId);
  expect([shown?.copies, shown?.list.length]).toEqual([made, 500]);
  expect(shown?.list[0]?.reason).toContain(`${made} copies`);
  // The best, and beside it the newest: by the states they are of where they have no date of their own.
  const [best, ...others] = shown?.list.map(({ size }) => size - 100) ?? [];
  const newest = Array.from({ length: made }, (_, index) => made - 1 - index).filter((index) => index !== best);
  expect(others).toEqual(newest.slice(0, 499));
  for (const index of [3, 57, 239]) {
    expect(await referencesOf()).not.toContain(`diary ${index}`);
    expect(await referencesOf(idOf.get(`diary ${index}`) ?? 0)).toContain(`diary ${index}`);
  }
  expect(await referencesOf(idOf.get("diary 1") ?? 0, idOf.get("diary 2") ?? 0)).toEqual(expect.arrayContaining(["diary 1", "diary 2"]));
  // A copy of another item is not given as one of this.
  const another = versions.find(({ copy }) => copy.name === "file 7.txt");
  expect(await referencesOf(another?.id ?? 0)).toEqual(await referencesOf());
});
