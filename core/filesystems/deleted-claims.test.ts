import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { DeletedClaims } from "./deleted-claims";

const runs = fc.array(fc.record({ first: fc.integer({ min: 2, max: 60 }), count: fc.integer({ min: 1, max: 12 }) }), {
  minLength: 1,
  maxLength: 3,
});
const claim = fc.record({ runs, livedOn: fc.boolean() });

describe("claims of deleted files", () => {
  it("are contested exactly where a count cluster by cluster has two or more", () => {
    fc.assert(
      fc.property(
        fc.array(claim, { maxLength: 12 }),
        fc.integer({ min: 0, max: 70 }),
        fc.integer({ min: 1, max: 20 }),
        (claims, first, count) => {
          const claimed = new Map<number, number>();
          const tested = new DeletedClaims();
          for (const each of claims) {
            tested.add(each.runs, each.runs[0]?.first as number, each.livedOn);
            for (const run of each.runs)
              for (let cluster = run.first; cluster < run.first + run.count; cluster += 1)
                claimed.set(cluster, (claimed.get(cluster) ?? 0) + 1);
          }
          tested.settle();
          let twice = false;
          for (let cluster = first; cluster < first + count; cluster += 1) twice ||= (claimed.get(cluster) ?? 0) > 1;
          expect(tested.contested({ first, count })).toBe(twice);
        },
      ),
    );
  });

  it("give the longest file that begins at a cluster, and that of those that lived on", () => {
    const claims = new DeletedClaims();
    claims.add([{ first: 5, count: 3 }], 5, false);
    claims.add([{ first: 5, count: 2 }], 5, true);
    claims.add([], 9, true);
    claims.settle();
    expect([claims.startingAt(5, false), claims.startingAt(5, true), claims.startingAt(9, true), claims.startingAt(6, false)]).toEqual([
      3, 2, 0, 0,
    ]);
  });
});
