import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, expect, it } from "vitest";
import type { Copy } from "../../core/copies/copy";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { jobWith, startTestBench, type TestBench } from "../support/bench";
import { copyAt } from "../support/copies";
import { storeBatch } from "../support/stored";
import { fixture } from "../support/volume-truth";

let bench: TestBench;
let jobId: number;
let storeId: number;

const store = (into: number, copies: readonly Copy[]) => storeBatch(bench, jobId, into, "file-record", copies);

const day = (text: string) => Date.parse(`${text}T12:00:00Z`);
/** A version of a letter, with the states it stands for. */
const version = (name: string, from: string, until: string | null, facts: Partial<Copy> = {}) =>
  copyAt(`/Users/anna/${name}`, {
    state: "live",
    reference: `${name} ${from}`,
    present: { from: day(from), until: until === null ? null : day(until) },
    ...facts,
  });

beforeAll(async () => {
  bench = await startTestBench();
  const made = await jobWith(bench, "fat12");
  jobId = made.jobId;
  storeId = made.source.volumes[0]?.id as number;
  const copies = [
    version("letter.txt", "2026-01-02", "2026-03-09", { sameAs: "inode 7", size: 100 }),
    // The same version once more, from another set.
    version("letter.txt", "2026-02-01", "2026-02-20", { sameAs: "inode 7", size: 100, reference: "set 2" }),
    version("letter.txt", "2026-03-10", null, { sameAs: "inode 9", size: 120 }),
    version("draft.txt", "2026-01-02", "2026-01-02"),
    // Files that tell of one state alone: a live one, a deleted one with the moment of deletion, and one without.
    copyAt("/Users/anna/old.txt", { state: "live", created: day("2025-05-05"), modified: day("2026-06-01"), reference: "1" }),
    copyAt("/Users/anna/gone.txt", { created: day("2025-05-05"), deletedAt: day("2026-02-02"), reference: "2" }),
    copyAt("/Users/anna/unknown.txt", { created: day("2025-05-05"), reference: "3" }),
  ];
  await store(storeId, copies);
}, 60_000);
afterAll(() => bench.close());

const namesAt = async (asOf: string) =>
  (await listItems(bench.db, jobId, itemQuery.parse({ show: "all", asOf: `${asOf}T12:00:00Z` }))).items.map(({ name }) => name);

it("a copy stands for all states of its span, both ends included, and for none beside them", async () => {
  expect(await namesAt("2026-01-01")).toEqual(["gone.txt", "old.txt"]);
  expect(await namesAt("2026-01-02")).toEqual(["draft.txt", "gone.txt", "letter.txt", "old.txt"]);
  expect(await namesAt("2026-01-03")).toEqual(["gone.txt", "letter.txt", "old.txt"]);
  expect(await namesAt("2026-02-03")).toEqual(["letter.txt", "old.txt"]);
  // Between the two versions no state has it: nobody can say that it was there.
  expect(await namesAt("2026-03-09")).toEqual(["letter.txt", "old.txt"]);
  expect(await namesAt("2030-01-01")).toEqual(["letter.txt", "old.txt"]);
  expect(await namesAt("2025-01-01")).toEqual([]);
});

it("a version is stored once for its span, and copies of one version are known to hold the same", async () => {
  const { items } = await listItems(bench.db, jobId, itemQuery.parse({ show: "all", q: "letter" }));
  expect(items.map(({ copies }) => copies)).toEqual([3]);
  const list = (await findItem(bench.db, items[0]?.id as number))?.list ?? [];
  const [first, second, third] = ["letter.txt 2026-01-02", "set 2", "letter.txt 2026-03-10"].map((reference) =>
    list.find((copy) => copy.reference === reference),
  );
  expect(first?.identical).toContain(second?.id);
  expect(first?.identical).not.toContain(third?.id);
});

it("the same mark in another store says nothing of the content", async () => {
  const path = join(bench.sources, "the same card, later.img");
  writeFileSync(path, fixture("fat12.img.gz"));
  await addSource(bench.db, jobId, path);
  const other = (await listSources(bench.db, jobId)).find((source) => source.path === path)?.volumes[0]?.id as number;
  await store(other, [version("letter.txt", "2026-01-02", null, { sameAs: "inode 7", size: 100, reference: "other store" })]);
  const { items } = await listItems(bench.db, jobId, itemQuery.parse({ show: "all", q: "letter" }));
  // The same serial number and label: the card gathers with what it was.
  expect(items.map(({ copies }) => copies)).toEqual([4]);
  const list = (await findItem(bench.db, items[0]?.id as number))?.list ?? [];
  expect(list.find(({ reference }) => reference === "other store")?.identical).toEqual([]);
});
