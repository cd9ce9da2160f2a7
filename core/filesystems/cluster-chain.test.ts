import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { followChain } from "./cluster-chain";

describe("a chain of clusters", () => {
  const following = (table: Record<number, number | "end" | "bad">) => (cluster: number) => table[cluster] ?? 0;

  it("is gathered into runs up to its end, or as far as is asked", () => {
    const table = following({ 5: 6, 6: 7, 7: 3, 3: "end" });
    expect(followChain(5, 100, 20, table)).toEqual({
      runs: [
        { first: 5, count: 3 },
        { first: 3, count: 1 },
      ],
      clusters: 4,
      problem: null,
    });
    expect(followChain(5, 2, 20, table)).toEqual({ runs: [{ first: 5, count: 2 }], clusters: 2, problem: null });
  });

  it.each([
    ["breaks off", { 5: 6 }, 2],
    ["marked bad", { 5: "bad" }, 1],
    ["does not exist", { 5: 99 }, 1],
    ["in a circle", { 5: 6, 6: 5 }, 0],
  ] as const)("that %s gives what is sound and says so", (words, table, clusters) => {
    const chain = followChain(5, 100, 20, following(table));
    expect([chain.problem?.includes(words), chain.clusters]).toEqual([true, clusters]);
  });

  it("never leaves the volume nor goes on for ever, whatever the table holds", () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 0, max: 40 }), { maxLength: 30 }), fc.integer({ min: -5, max: 50 }), (table, first) => {
        const chain = followChain(first, 1000, 20, (cluster) => table[cluster] ?? 0);
        for (const run of chain.runs) expect(run.first >= 2 && run.first + run.count <= 22).toBe(true);
        expect(chain.runs.reduce((sum, run) => sum + run.count, 0)).toBe(chain.clusters);
      }),
    );
  });
});
