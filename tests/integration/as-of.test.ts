import { afterAll, beforeAll, expect, it } from "vitest";
import type { Copy } from "../../core/copies/copy";
import { type ItemQuery, itemFilter, itemQuery } from "../../server/items/contract";
import { countFacets, sinceFacet } from "../../server/items/facets";
import { listItems, spineOf } from "../../server/items/list";
import { setKey } from "../../server/passes/copy-rows";
import { changeTray } from "../../server/tray/commands";
import { trayChange } from "../../server/tray/contract";
import { jobWith, startTestBench, type TestBench } from "../support/bench";
import { copyAt } from "../support/copies";
import { storeBatch } from "../support/stored";

let bench: TestBench;
let jobId: number;
let storeId: number;

const day = (text: string) => Date.parse(`${text}T12:00:00Z`);
const OFFICE = JSON.stringify(["dated-trees", "/office", "DESK", null]);
const LAPTOP = JSON.stringify(["dated-trees", "/laptop", "LAPTOP", null]);

/** A version of a file as a set kept it. */
const version = (set: string, name: string, from: string, until: string | null, facts: Partial<Copy> = {}) =>
  copyAt(`/Users/anna/${name}`, {
    place: "backup",
    state: "live",
    set,
    sameAs: `${name} ${facts.size ?? 10}`,
    reference: `${set} ${name} ${from}`,
    modified: day("2025-12-01"),
    present: { from: day(from), until: until === null ? null : day(until) },
    ...facts,
  });
/** A file of the drive itself, as it is now. */
const now = (name: string, facts: Partial<Copy> = {}) =>
  copyAt(`/Users/anna/${name}`, {
    state: "live",
    created: day("2025-05-05"),
    modified: day("2025-12-01"),
    reference: `now ${name}`,
    ...facts,
  });

beforeAll(async () => {
  bench = await startTestBench();
  const made = await jobWith(bench, "fat12");
  jobId = made.jobId;
  storeId = made.source.volumes[0]?.id as number;
  const copies = [
    // The drive itself is known: it says what became of a version, whatever the sets' spans say.
    version(OFFICE, "edited.txt", "2026-01-02", null),
    now("edited.txt", { size: 20, modified: day("2026-04-01") }),
    version(OFFICE, "untouched.txt", "2026-01-02", null),
    now("untouched.txt"),
    // Only sets know these.
    version(OFFICE, "removed.txt", "2026-01-02", "2026-03-09"),
    version(OFFICE, "kept.txt", "2026-01-02", null),
    version(OFFICE, "rewritten.txt", "2026-01-02", "2026-03-09"),
    version(OFFICE, "rewritten.txt", "2026-03-10", null, { size: 30, modified: day("2026-03-09") }),
    // Another set begins later, and has the same content: nothing has changed.
    version(OFFICE, "in both.txt", "2026-01-02", null),
    version(LAPTOP, "in both.txt", "2026-03-01", null),
    // The first set lost it; the other one, begun later, still has it.
    version(OFFICE, "moved over.txt", "2026-01-02", "2026-02-20"),
    version(LAPTOP, "moved over.txt", "2026-03-01", null),
    version(LAPTOP, "laptop only.txt", "2026-01-02", null),
    // Two sets have other versions of one path at one moment.
    version(OFFICE, "two versions.txt", "2026-01-02", null, { size: 11, modified: day("2025-11-01") }),
    version(LAPTOP, "two versions.txt", "2026-01-02", null, { size: 12, modified: day("2025-12-24") }),
    // No state tells of these, only dates do.
    now("older.txt"),
    now("written since.txt", { modified: day("2026-06-01") }),
    copyAt("/Users/anna/deleted since.txt", { created: day("2025-05-05"), deletedAt: day("2026-05-05"), reference: "1" }),
  ];
  await storeBatch(bench, jobId, storeId, "earlier-states", copies);
  await bench.pool.query(`update stores set sets = $2 where id = $1`, [
    storeId,
    JSON.stringify(
      [OFFICE, LAPTOP].map((id) => {
        const [kind, root, machine, user] = JSON.parse(id) as string[];
        return { id, kind, root, machine, user, covers: null, states: 3, unfinished: 0, first: null, last: null, read: 3 };
      }),
    ),
  ]);
}, 60_000);
afterAll(() => bench.close());

const FEBRUARY = "2026-02-01T12:00:00Z";
const setOf = (id: string) => `${storeId}-${setKey(id)}`;
const listed = async (change: Partial<ItemQuery>) =>
  (await listItems(bench.db, jobId, itemQuery.parse({ show: "all", asOf: FEBRUARY, ...change }))).items;

const BECAME = {
  changed: ["edited.txt", "rewritten.txt", "written since.txt"],
  gone: ["deleted since.txt", "removed.txt"],
  kept: ["in both.txt", "kept.txt", "laptop only.txt", "moved over.txt", "two versions.txt"],
  same: ["older.txt", "untouched.txt"],
} as const;

it("says of each file what became of it, by the present file, else by later states, else by dates", async () => {
  const found: Record<string, string[]> = {};
  for (const { name, since } of await listed({})) {
    found[since ?? "none"] ??= [];
    found[since ?? "none"]?.push(name);
  }
  expect(found).toEqual(BECAME);
});

it("narrows by what became of them, and counts each choice as the list then has it", async () => {
  const { since: counts } = await sinceFacet(bench.db, jobId, itemFilter.parse({ show: "all", asOf: FEBRUARY }));
  expect(Object.fromEntries(counts.map(({ value, count }) => [value, count]))).toEqual(
    Object.fromEntries(Object.entries(BECAME).map(([since, names]) => [since, names.length])),
  );
  for (const [since, names] of Object.entries(BECAME)) {
    expect((await listed({ since: since as keyof typeof BECAME })).map(({ name }) => name)).toEqual(names);
    // A chosen one leaves the others to be chosen instead.
    const chosen = await countFacets(bench.db, jobId, itemFilter.parse({ show: "all", asOf: FEBRUARY, since }));
    expect((await sinceFacet(bench.db, jobId, itemFilter.parse({ show: "all", asOf: FEBRUARY, since }))).since).toEqual(counts);
    expect(chosen.kind.reduce((sum, { count }) => sum + count, 0)).toBe(names.length);
  }
  // Without a moment there is no “since”.
  const whole = itemFilter.parse({ show: "all", since: "gone" });
  expect((await sinceFacet(bench.db, jobId, whole)).since).toEqual([]);
  expect((await listed({ asOf: undefined, since: "gone" })).length).toBe((await listed({ asOf: undefined })).length);
});

it("a version of which only the present file is known is not taken for what stood then", async () => {
  const [item] = await listed({ q: '"written since"' });
  expect(item).toMatchObject({ since: "changed" });
  expect(item?.copyThen).toBeUndefined();
});

it("narrowed to a set, it is what that set had then, in its own versions", async () => {
  const office = await listed({ set: setOf(OFFICE) });
  expect(office.map(({ name }) => name)).toEqual([
    "edited.txt",
    "in both.txt",
    "kept.txt",
    "moved over.txt",
    "removed.txt",
    "rewritten.txt",
    "two versions.txt",
    "untouched.txt",
  ]);
  expect((await listed({ set: setOf(LAPTOP) })).map(({ name }) => name)).toEqual(["laptop only.txt", "two versions.txt"]);
  const sizes = async (change: Partial<ItemQuery>) => (await listed({ q: '"two versions"', ...change })).map(({ size }) => size);
  expect(await sizes({ set: setOf(OFFICE) })).toEqual([11]);
  expect(await sizes({ set: setOf(LAPTOP) })).toEqual([12]);
  // In all of them the newest each knew.
  expect(await sizes({})).toEqual([12]);
  const facets = await countFacets(bench.db, jobId, itemFilter.parse({ show: "all", asOf: FEBRUARY, set: setOf(LAPTOP) }));
  expect(facets.set).toEqual([
    { value: setOf(OFFICE), count: 8, words: "DESK: dated folder trees" },
    { value: setOf(LAPTOP), count: 2, words: "LAPTOP: dated folder trees" },
  ]);
  // As it is now the set has all it ever had.
  expect((await listed({ asOf: undefined, set: setOf(LAPTOP) })).map(({ name }) => name)).toEqual([
    "in both.txt",
    "laptop only.txt",
    "moved over.txt",
    "two versions.txt",
  ]);
});

it("what is chosen in a list as of a moment is the copy the list shows, in one row and in all that match", async () => {
  const inTray = async () =>
    (
      await bench.pool.query<{ name: string; size: string; set_key: string | null }>(
        "select c.name, c.size, c.set_key from tray_entries t join copies c on c.id = t.copy_id where t.job_id = $1 order by c.name",
        [jobId],
      )
    ).rows;
  const [item] = await listed({ q: '"two versions"', set: setOf(OFFICE) });
  const one = trayChange.parse({ items: [item?.id], asOf: FEBRUARY, set: setOf(OFFICE), chosen: true });
  await changeTray(bench.db, jobId, one);
  expect(await inTray()).toEqual([{ name: "two versions.txt", size: "11", set_key: setKey(OFFICE) }]);
  expect((await listed({ q: '"two versions"', set: setOf(OFFICE) }))[0]?.inTray).toBe(true);
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  // Of what was changed since and not kept, the content of then is not here: all of the list leaves it out.
  await changeTray(bench.db, jobId, trayChange.parse({ matching: { show: "all", asOf: FEBRUARY }, chosen: true }));
  const chosen = (await listed({})).filter(({ inTray: isChosen }) => isChosen).map(({ name }) => name);
  expect((await listed({})).map(({ name }) => name).filter((name) => !chosen.includes(name))).toEqual(["written since.txt"]);
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  const all = trayChange.parse({ matching: { show: "all", asOf: FEBRUARY, set: setOf(LAPTOP) }, chosen: true });
  await changeTray(bench.db, jobId, all);
  expect((await inTray()).map(({ name, size, set_key: key }) => [name, size, key])).toEqual([
    ["laptop only.txt", "10", setKey(LAPTOP)],
    ["two versions.txt", "12", setKey(LAPTOP)],
  ]);
});

it("is ordered, narrowed and counted by what it shows of then, not by what the files are now", async () => {
  const bySize = await listed({ sort: "size", order: "up" });
  expect(bySize.map(({ size }) => size)).toEqual(bySize.map(({ size }) => size).sort((a, b) => a - b));
  // The file is of 20 and 30 bytes now.
  expect(bySize.find(({ name }) => name === "edited.txt")?.size).toBe(10);
  const times = (await listed({ sort: "changed", order: "down" })).map(({ modified }) => modified?.getTime() ?? 0);
  expect(times).toEqual([...times].sort((a, b) => b - a));
  // Pages follow one another in that order, whatever stands at their ends.
  const paged: number[] = [];
  let after: string | undefined;
  do {
    const page = await listItems(
      bench.db,
      jobId,
      itemQuery.parse({ show: "all", asOf: FEBRUARY, sort: "size", order: "up", limit: 3, after }),
    );
    paged.push(...page.items.map(({ id }) => id));
    after = page.next ?? undefined;
  } while (after);
  expect(paged).toEqual(bySize.map(({ id }) => id));
  const spine = await spineOf(bench.db, jobId, itemQuery.parse({ show: "all", asOf: FEBRUARY, sort: "size" }));
  expect(spine.count).toBe(bySize.length);

  for (const name of ["year", "size", "condition"] as const) {
    const counts = (await countFacets(bench.db, jobId, itemFilter.parse({ show: "all", asOf: FEBRUARY })))[name];
    expect(counts.reduce((sum, { count }) => sum + count, 0)).toBe(bySize.length);
    for (const { value, count } of counts) {
      const filter = itemFilter.parse({ show: "all", asOf: FEBRUARY, [name]: value });
      const shown = (await listItems(bench.db, jobId, itemQuery.parse(filter))).items;
      expect(shown.length, `${name} ${value}`).toBe(count);
      // A chosen one leaves the others to be chosen instead.
      expect((await countFacets(bench.db, jobId, filter))[name]).toEqual(counts);
      if (name === "year") for (const { modified } of shown) expect(String(modified?.getUTCFullYear() ?? "none")).toBe(value);
      if (name === "condition")
        for (const { condition, live } of shown) expect([condition, "in-place"]).toContain(live ? "in-place" : value);
    }
  }
  // Written in June: of then there is no version, so that the file itself is shown, by its date of now.
  expect((await listed({ year: "2026" })).map(({ name }) => name)).toEqual(["written since.txt"]);
});

it("says of the version whether it opens, not of the file that is there now", async () => {
  const look = (stood: boolean, content: object) =>
    bench.pool.query(
      `update copies set evidence = jsonb_set(evidence, '{content}', $1::jsonb) where name = 'edited.txt' and (present is not null) = $2`,
      [JSON.stringify(content), stood],
    );
  await look(true, { finding: "damaged", format: "text", at: 3, reason: "it breaks off" });
  await look(false, { finding: "agrees", format: "text", checked: true });
  expect((await listed({ q: "edited" }))[0]).toMatchObject({ name: "edited.txt", opens: "no" });
  await look(true, { finding: "agrees", format: "text", checked: true });
  expect((await listed({ q: "edited" }))[0]).toMatchObject({ name: "edited.txt", opens: "yes" });
});
