import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Copy } from "../../core/copies/copy";
import { type ItemQuery, itemFilter, itemQuery, type Since } from "../../server/items/contract";
import { countFacets } from "../../server/items/facets";
import { listItems, spineOf } from "../../server/items/list";
import { listMoments } from "../../server/items/moments";
import { SET_KIND_WORDS } from "../../server/words/contract";
import { startTestBench, type TestBench } from "../support/bench";
import { CONDITIONS, DAY, type DrawnFile, inAddress, KEYS, SETS, START, storeDrawnFiles, type Values } from "../support/drawn-files";

/** More than a page's first look goes through, so that what it may miss would show. */
const FILES = 4000;

let bench: TestBench;
let jobId: number;
let storeId: number;
let files: DrawnFile[];
beforeAll(async () => {
  bench = await startTestBench();
  ({ jobId, storeId, files } = await storeDrawnFiles(bench, 20261201, FILES));
}, 120_000);
afterAll(() => bench.close());

/** What a list as of a moment is to say of a file, by the words of its rules; null: it is not in it. */
function expected({ now, copies }: DrawnFile, at: number, sets: readonly string[]): { shown: Values; since: Since } | null {
  const stoodAt = ({ present }: Copy) => present != null && (present.from ?? 0) <= at && (present.until ?? Number.POSITIVE_INFINITY) >= at;
  const inScope = copies.filter((copy) => sets.length === 0 || sets.includes(copy.set ?? ""));
  const byDates = ({ present, state, deletedAt = null }: Copy) => present == null && (state === "live" || (deletedAt ?? 0) > at);
  if (!inScope.some((copy) => stoodAt(copy) || byDates(copy))) return null;
  const date = ({ modified }: Copy) => modified ?? Number.NEGATIVE_INFINITY;
  const [version] = inScope
    .filter(stoodAt)
    .sort((a, b) => CONDITIONS.indexOf(a.condition) - CONDITIONS.indexOf(b.condition) || date(b) - date(a));
  const live = copies.find(({ place, state, present }) => place === "file-record" && state === "live" && present == null);
  const alike = (other: Copy) => other.size === version?.size && other.modified === version.modified;
  const later = copies.filter(({ present }) => present != null && (present.from ?? 0) > at && present.until === null);
  const since = (): Since => {
    if (!version) return !live ? "gone" : (live.modified ?? Number.POSITIVE_INFINITY) <= at ? "same" : "changed";
    if (live) return alike(live) ? "same" : "changed";
    if (later.some((copy) => !alike(copy))) return "changed";
    if (version.present?.until === null || later.some(alike)) return "kept";
    const moved = copies.some(({ movedTo, present }) => movedTo && (present?.from ?? 0) >= (version.present?.from ?? 0));
    return moved ? "moved" : "gone";
  };
  return { shown: version ?? now, since: since() };
}

describe("lists as of a moment, of files drawn by lot", () => {
  const all = [null, "gone", "moved", "changed", "kept", "same"] as const;
  const cases = [60, 150].flatMap((day) => all.map((since) => ({ day, since })));

  it.each(cases)(
    "on day $day, $since: each order has what stood then, page by page, none twice and none left out",
    async ({ day, since }) => {
      const at = START + day * DAY + DAY / 2;
      // Each way of narrowing with one order, and all orders with none; sets by themselves, one or several, with some.
      for (const sets of since === null || since === "gone" ? [[], SETS.slice(0, 1), SETS.slice(1)] : [[]])
        for (const sort of since === null ? (["size", "changed", "condition"] as const) : (["size"] as const))
          for (const order of ["up", "down"] as const) {
            const wanted = files
              .flatMap((file) => {
                const then = expected(file, at, sets);
                return then && (since === null || then.since === since) ? [{ id: file.id, key: KEYS[sort](then.shown) }] : [];
              })
              .sort((a, b) => (a.key === b.key ? a.id - b.id : a.key < b.key ? -1 : 1) * (order === "up" ? 1 : -1))
              .map(({ id }) => id);
            const query: Partial<ItemQuery> = {
              show: "all",
              q: "file",
              asOf: new Date(at).toISOString(),
              sort,
              order,
              limit: 150,
              ...(since && { since }),
              ...(sets.length > 0 && { set: inAddress(storeId, sets) }),
            };
            const words = `${sort} ${order} ${sets.length > 0 ? sets : "all sets"}`;
            const given: number[] = [];
            let after: string | undefined;
            for (let page = 0; page < 3; page += 1) {
              const { items, next } = await listItems(bench.db, jobId, itemQuery.parse({ ...query, after }));
              given.push(...items.map(({ id }) => id));
              if (next === null) break;
              after = next;
            }
            expect(given, words).toEqual(wanted.slice(0, 450));
            expect((await spineOf(bench.db, jobId, itemQuery.parse(query))).count, words).toBe(wanted.length);
          }
    },
  );
});

describe("the moments of sets", () => {
  it.each([[], [0], [0, 2], [0, 1, 2]])("are those at which something of the chosen ones changed: %j", async (...which) => {
    const sets = which.map((index) => SETS[index] as string);
    const counts = new Map<number, number>();
    for (const { set, present } of files.flatMap(({ copies }) => copies)) {
      if (!present || (sets.length > 0 && !sets.includes(set ?? ""))) continue;
      for (const at of [present.from ?? 0, ...(present.until === null ? [] : [present.until + 1])])
        counts.set(at, (counts.get(at) ?? 0) + 1);
    }
    const wanted = [...counts].map(([at, count]) => ({ at, count })).sort((a, b) => a.at - b.at);
    expect(wanted.length).toBeGreaterThan(200);
    const { moments } = await listMoments(bench.db, jobId, sets.length > 0 ? { set: inAddress(storeId, sets) } : {});
    expect(moments.filter(({ at }) => at < Date.now())).toEqual(wanted.filter(({ at }) => at < Date.now()));
  });

  it("are counted apart for a list as of one; a chosen set with nothing of then stays there", async () => {
    const chosen = SETS.slice(0, 2);
    const countsAt = async (at: number) => {
      const filter = { show: "all", asOf: new Date(at).toISOString(), set: inAddress(storeId, chosen) };
      const { set } = await countFacets(bench.db, jobId, itemFilter.parse(filter));
      return Object.fromEntries(set.map(({ value, words, count }) => [value, [words, count]]));
    };
    const at = START + 60 * DAY + DAY / 2;
    const wanted = SETS.map((set, index) => {
      const count = files.filter((file) => expected(file, at, [set])).length;
      expect(count).toBeGreaterThan(100);
      return [inAddress(storeId, [set]), [`machine ${index}: ${SET_KIND_WORDS["dated-trees"]}`, count]];
    });
    expect(await countsAt(at)).toEqual(Object.fromEntries(wanted));
    const before = Object.values(await countsAt(START - DAY));
    expect(before.map(([, count]) => count)).toEqual([0, 0]);
  });
});
