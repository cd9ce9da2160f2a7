import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Copy } from "../../core/copies/copy";
import type { Condition } from "../../core/copies/vocabulary";
import { seeded } from "../../demo/draw";
import { type ItemQuery, itemQuery, type Since } from "../../server/items/contract";
import { listItems, spineOf } from "../../server/items/list";
import { setKey } from "../../server/passes/copy-rows";
import { jobWith, startTestBench, type TestBench } from "../support/bench";
import { copyAt } from "../support/copies";
import { storeBatch } from "../support/stored";

const DAY = 86_400_000;
const START = Date.parse("2026-01-01T00:00:00Z");
/** More than a page's first look goes through, so that what it may miss would show. */
const FILES = 4000;
const SETS = ["/one", "/two"].map((root) => JSON.stringify(["dated-trees", root, null, null]));

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

/** A file drawn by lot: what its drive has of it, and versions of it in two sets. */
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
function expected({ now, copies }: (typeof files)[number], at: number, set: string | null): { shown: Values; since: Since } | null {
  const stoodAt = ({ present }: Copy) => present != null && (present.from ?? 0) <= at && (present.until ?? Number.POSITIVE_INFINITY) >= at;
  const inScope = copies.filter((copy) => set === null || copy.set === set);
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
      // Each way of narrowing with one order, and all orders and a set by itself with none.
      for (const set of since === null || since === "gone" ? [null, SETS[0] as string] : [null])
        for (const sort of since === null ? (["size", "changed", "condition"] as const) : (["size"] as const))
          for (const order of ["up", "down"] as const) {
            const wanted = files
              .flatMap((file) => {
                const then = expected(file, at, set);
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
              ...(set && { set: `${storeId}-${setKey(set)}` }),
            };
            const words = `${sort} ${order} ${set ?? "all sets"}`;
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
