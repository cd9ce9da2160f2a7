import fc from "fast-check";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Item, itemFilter, SIZES, type SizeClass } from "../../server/items/contract";
import { countFacets } from "../../server/items/facets";
import { changeJob } from "../../server/jobs/commands";
import { allItems } from "../support/all-items";
import { searchedJob, startTestBench, type TestBench } from "../support/bench";

let bench: TestBench;
let jobId: number;
let all: Item[];

const everything = (query: Record<string, unknown>) => allItems(bench.db, jobId, query);

beforeAll(async () => {
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-mbr");
  await changeJob(bench.db, jobId, { timeZone: "Pacific/Auckland" });
  all = await everything({ show: "all" });
}, 90_000);
afterAll(() => bench.close());

/** The year in the job's zone, by the platform's own calendar. */
const yearOf = (item: Item) =>
  item.modified ? new Intl.DateTimeFormat("en", { year: "numeric", timeZone: "Pacific/Auckland" }).format(item.modified) : "none";
const sizeOf = (item: Item) => (Object.entries(SIZES) as [SizeClass, number][]).find(([, most]) => item.size <= most)?.[0];

/** As the list calls it: a live file nobody has looked into is in place, and not whole. */
const conditionOf = (item: Item) => (item.condition === "whole" && item.live && item.opens === null ? "in-place" : item.condition);

interface Narrowing {
  kind?: string;
  condition?: string;
  year?: string;
  size?: string;
  folder?: string;
  q?: string;
}

/** Words without their accents, as Unicode decomposes them (UAX #15), and with a plain apostrophe. */
const plain = (words: string) =>
  words
    .normalize("NFKD")
    .replace(/\p{Mn}/gu, "")
    .replaceAll("’", "'")
    .toLowerCase();

/** The same question answered one item at a time, from the list of all of them. */
const fits = (item: Item, { kind, condition, year, size, folder, q }: Narrowing): boolean =>
  (!kind || item.kind === kind) &&
  (!condition || conditionOf(item) === condition) &&
  (!year || yearOf(item) === year) &&
  (!size || sizeOf(item) === size) &&
  (!folder || item.folder === folder || item.folder.startsWith(`${folder}/`)) &&
  (!q || plain(`${item.folder}\n${item.name}`).includes(plain(q)));

describe("items narrowed in any way", () => {
  const some = <T>(values: Iterable<T>) => [...new Set(values)];

  it("are the very ones that one by one would be chosen, and the counts beside each way say how many there would be", async () => {
    const folders = some(all.flatMap((item) => item.folder.split("/").map((_, i, parts) => parts.slice(0, i + 1).join("/")))).filter(
      Boolean,
    );
    const way = fc.record(
      {
        kind: fc.constantFrom(...some(all.map((item) => item.kind))),
        condition: fc.constantFrom(...some(all.map(conditionOf))),
        year: fc.constantFrom(...some(all.map(yearOf))),
        size: fc.constantFrom(...Object.keys(SIZES)),
        folder: fc.constantFrom(...folders),
        q: fc.constantFrom("neu", ".txt", "DOC", "100%", "a_b", "ü", "’", "\\"),
      },
      { requiredKeys: [] },
    );
    await fc.assert(
      fc.asyncProperty(way, async (narrowing) => {
        // A word that begins with a dot means the name's end.
        const { q, ...others } = narrowing;
        const own = (item: Item) =>
          q?.startsWith(".") ? fits(item, others) && item.name.toLowerCase().endsWith(q) : fits(item, narrowing);
        const wanted = all.filter(own).map((item) => item.id);
        const found = await everything({ show: "all", ...narrowing });
        expect(found.map((item) => item.id).sort((a, b) => a - b)).toEqual(wanted.sort((a, b) => a - b));
        const facets = await countFacets(bench.db, jobId, itemFilter.parse({ show: "all", ...narrowing }));
        expect(facets.total).toBe(all.length);
        // Each way of narrowing is counted without its own choice.
        for (const [name, value] of [
          ["kind", (item: Item) => item.kind],
          ["condition", conditionOf],
          ["year", yearOf],
          ["size", sizeOf],
        ] as const) {
          const { [name]: _, ...rest } = narrowing;
          const among = all.filter((item) =>
            q?.startsWith(".") ? fits(item, { ...rest, q: "" }) && item.name.toLowerCase().endsWith(q) : fits(item, rest),
          );
          const counts = new Map<string | undefined, number>();
          for (const item of among) counts.set(value(item), (counts.get(value(item)) ?? 0) + 1);
          expect(Object.fromEntries(facets[name].map((each) => [each.value, each.count])), name).toEqual(Object.fromEntries(counts));
        }
      }),
      { numRuns: 40, seed: 4 },
    );
  }, 90_000);
});
