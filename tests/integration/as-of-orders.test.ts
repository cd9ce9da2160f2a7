import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Copy } from "../../core/copies/copy";
import type { Condition } from "../../core/copies/vocabulary";
import { seeded } from "../../demo/draw";
import { type ItemQuery, itemFilter, itemQuery, type Since } from "../../server/items/contract";
import { countFacets } from "../../server/items/facets";
import { listItems, spineOf } from "../../server/items/list";
import { listMoments } from "../../server/items/moments";
import { setKey } from "../../server/passes/copy-rows";
import { SET_KIND_WORDS } from "../../server/words/contract";
import { jobWith, startTestBench, type TestBench } from "../support/bench";
import { copyAt } from "../support/copies";
import { storeBatch } from "../support/stored";

const DAY = 86_400_000;
const START = Date.parse("2026-01-01T00:00:00Z");
/** More than a page's first look goes through, so that what it may miss would show. */
const FILES = 4000;
const SETS = ["/one", "/two", "/three"].map((root) => JSON.stringify(["dated-trees", root, null, null]));

let bench: TestBench;
let jobId: number;
let storeId: number;
/** The copies of each file as they were drawn, and the item they became. */
let files: { id: number; now: Values; copies: readonly Copy[] }[];

type Values = { readonly size: number; readonly modified: number | null; readonly survival: number; readonly condition: Condition };

const random = seeded(20261201);
const below = (most: number) => Math.floor(random() * most);
/** Sizes of which many are the same. */
const sizeOf = () => (random() < 0.4 ? 0 : below(300) * 1000);
/** A date that no other copy of its file has, so that which of two is first is plain; sometimes none. */
const dateOf = (turn: number) => (turn === 0 && random() < 0.05 ? null : START - below(900) * DAY - turn);
const condition = (): Condition => (random() < 0.7 ? "whole" : random() < 0.5 ? "partial" : "not-checked");

/** A file drawn by lot: what its drive has of it, and versions of it in three sets. */
function drawFile(name: string): Copy[] {
  const path = `/Users/anna/Box ${below(40)}/${name}`;
  const copies: Copy[] = [];
  const add = (facts: Partial<Copy>) => {
    const turn = copies.length;
    copies.push(
      copyAt(path, {
        size: sizeOf(),
        modified: dateOf(turn),
        condition: condition(),
        survival: below(5) / 4,
        reference: `${name} ${turn}`,
        created: START - 1000 * DAY,
        ...facts,
      }),
    );
  };
  const drive = random();
  if (drive < 0.35) add({ state: "live" });
  else if (drive < 0.6) add({ state: "deleted", deletedAt: random() < 0.5 ? START + below(300) * DAY : null });
  else if (drive < 0.65) add({ state: "live", place: "raw", deletedAt: START + below(300) * DAY });
  for (const set of SETS) {
    let from = below(200);
    for (let left = below(3); left > 0; left -= 1) {
      const until = left === 1 && random() < 0.5 ? null : from + 1 + below(60);
      // Often what the drive has, too.
      const same = copies[0] && random() < 0.4 ? { size: copies[0].size, modified: copies[0].modified } : {};
      add({
        place: "backup",
        state: "live",
        set,
        sameAs: `${name} ${copies.length}`,
        present: { from: START + from * DAY, until: until === null ? null : START + until * DAY },
        ...(until !== null && random() < 0.1 ? { movedTo: `${path} elsewhere` } : {}),
        ...same,
      });
      if (until === null) break;
      from = until + 1 + below(20);
    }
  }
  if (copies.length === 0) add({ state: "live" });
  return copies;
}

beforeAll(async () => {
  bench = await startTestBench();
  const made = await jobWith(bench, "fat12");
  jobId = made.jobId;
  storeId = made.source.volumes[0]?.id as number;
  const drawn = Array.from({ length: FILES }, (_, index) => drawFile(`file ${index}.txt`));
  await storeBatch(bench, jobId, storeId, "earlier-states", drawn.flat());
  const facts = SETS.map((id, index) => ({ id, kind: "dated-trees", machine: `machine ${index}`, user: null, root: "/" }));
  await bench.pool.query("update stores set sets = $1 where id = $2", [JSON.stringify(facts), storeId]);
  // As the database does by itself some time after.
  await bench.pool.query("analyze items; analyze copies");
  const { rows } = await bench.pool.query(
    "select id, name, size, modified, survival, condition from items where job_id = $1 and name like 'file %'",
    [jobId],
  );
  const byName = new Map(rows.map((row) => [row.name as string, row]));
  files = drawn.map((copies) => {
    const row = byName.get(copies[0]?.name ?? "");
    const modified = row.modified === null ? null : (row.modified as Date).getTime();
    return { id: Number(row.id), now: { ...row, size: Number(row.size), modified }, copies };
  });
}, 120_000);
afterAll(() => bench.close());

const CONDITIONS = ["whole", "partial", "not-checked", "name-only"];

/** What a list as of a moment is to say of a file, by the words of its rules; null: it is not in it. */
function expected({ now, copies }: (typeof files)[number], at: number, sets: readonly string[]): { shown: Values; since: Since } | null {
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

const inAddress = (sets: readonly string[]) => sets.map((set) => `${storeId}-${setKey(set)}`).join(",");

const KEYS: Readonly<Record<Exclude<ItemQuery["sort"], "name">, (values: Values) => number>> = {
  size: ({ size }) => size,
  changed: ({ modified }) => modified ?? Number.NEGATIVE_INFINITY,
  condition: ({ survival }) => survival,
};

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
              ...(sets.length > 0 && { set: inAddress(sets) }),
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
    const { moments } = await listMoments(bench.db, jobId, sets.length > 0 ? { set: inAddress(sets) } : {});
    expect(moments.filter(({ at }) => at < Date.now())).toEqual(wanted.filter(({ at }) => at < Date.now()));
  });

  it("are counted apart for a list as of one; a chosen set with nothing of then stays there", async () => {
    const chosen = SETS.slice(0, 2);
    const countsAt = async (at: number) => {
      const filter = { show: "all", asOf: new Date(at).toISOString(), set: inAddress(chosen) };
      const { set } = await countFacets(bench.db, jobId, itemFilter.parse(filter));
      return Object.fromEntries(set.map(({ value, words, count }) => [value, [words, count]]));
    };
    const at = START + 60 * DAY + DAY / 2;
    const wanted = SETS.map((set, index) => {
      const count = files.filter((file) => expected(file, at, [set])).length;
      expect(count).toBeGreaterThan(100);
      return [inAddress([set]), [`machine ${index}: ${SET_KIND_WORDS["dated-trees"]}`, count]];
    });
    expect(await countsAt(at)).toEqual(Object.fromEntries(wanted));
    const before = Object.values(await countsAt(START - DAY));
    expect(before.map(([, count]) => count)).toEqual([0, 0]);
  });
});
