import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { MemorySource } from "../bytes/byte-source";
import { AllocationMap } from "./allocation-map";
import { type LiveFile, treeFindings } from "./tree-findings";

const CLUSTERS = 48;
const SIZE = 512;

/** A map in which the given clusters (counted from 2) are used. */
function mapOf(used: ReadonlySet<number>): AllocationMap {
  const bytes = new Uint8Array(CLUSTERS / 8);
  for (const cluster of used) bytes[(cluster - 2) >>> 3] = (bytes[(cluster - 2) >>> 3] as number) | (1 << ((cluster - 2) & 7));
  return new AllocationMap(new MemorySource(bytes), CLUSTERS);
}

const file = (path: string, clusters: readonly number[], size: number | null, problem: string | null = null): LiveFile => ({
  path,
  size,
  chain: {
    runs: clusters.map((first) => ({ first, count: 1 })),
    clusters: clusters.length,
    problem,
  },
});
const countOf = (findings: ReturnType<typeof treeFindings>, words: RegExp) =>
  findings.find((finding) => words.test(finding.what))?.count ?? 0;

describe("what does not add up in a tree of folders", () => {
  it("is nothing where everything does", () => {
    const used = new Set([2, 3, 4, 5]);
    expect(
      treeFindings([file("/a", [2, 3], 700), file("/b", [4], null)], {
        clusters: CLUSTERS,
        clusterSize: SIZE,
        map: mapOf(used),
        bookkeeping: [{ first: 5, count: 1 }],
      }),
    ).toEqual([]);
  });

  it("names chains that are short, broken or too long, and empty files among them", () => {
    const findings = treeFindings(
      [file("/short", [2], 3 * SIZE), file("/broken", [3], SIZE, "a loop"), file("/long", [4, 5, 6], SIZE), file("/empty", [], 0)],
      { clusters: CLUSTERS, clusterSize: SIZE, map: mapOf(new Set([2, 3, 4, 5, 6])), bookkeeping: [] },
    );
    expect(countOf(findings, /does not reach/)).toBe(2);
    expect(countOf(findings, /more clusters than/)).toBe(1);
    expect(findings.flatMap((finding) => finding.examples).join(" ")).toMatch(/short: 1 clusters instead of 3.*broken: a loop/);
  });

  it("counts clusters claimed twice, free ones in use and used ones nobody owns, as a count one by one does", () => {
    const cluster = fc.integer({ min: 2, max: CLUSTERS + 1 });
    fc.assert(
      fc.property(fc.array(fc.array(cluster, { maxLength: 8 }), { maxLength: 6 }), fc.array(cluster, { maxLength: 30 }), (files, used) => {
        const map = new Set(used);
        const owners = new Map<number, number>();
        for (const clusters of files) for (const each of clusters) owners.set(each, (owners.get(each) ?? 0) + 1);
        const twice = [...owners.values()].reduce((sum, count) => sum + count - 1, 0);
        const free = files.flat().filter((each) => !map.has(each)).length;
        const unowned = [...map].filter((each) => !owners.has(each)).length;
        const findings = treeFindings(
          files.map((clusters, index) => file(`/f${index}`, clusters, clusters.length * SIZE)),
          { clusters: CLUSTERS, clusterSize: SIZE, map: mapOf(map), bookkeeping: [] },
        );
        expect([
          countOf(findings, /two files claim/),
          countOf(findings, /calls them free/),
          countOf(findings, /no file or folder leads/),
        ]).toEqual([twice, free, unowned]);
      }),
    );
  });
});
