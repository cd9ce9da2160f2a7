import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import type { FileRecord } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import { type Kept, type Moment, newestFirst, oldestFirst, type VersionRules, type VersionWalk } from "./versions";

type Tree = Readonly<Record<string, string>>;

const tree = {} as FileTree;
/** A file whose content is written as "identity content". */
const fileOf = (path: string, content: string) => ({ type: "file", state: "live", system: false, path, reference: content }) as FileRecord;
const momentOf = (label: string, files: Tree, complete = true): Moment => ({
  asOf: Date.parse(`2026-01-${label.padStart(2, "0")}`),
  complete,
  label,
  tree,
  files: () => Object.entries(files).map(([path, content]) => ({ record: fileOf(path, content), path })),
});

/** What a walk finds, in words, sorted. */
function found(walk: VersionWalk, kept: Kept, present?: Moment): string[] {
  const rules: VersionRules = {
    keyOf: ({ reference }) => reference,
    identityOf: ({ reference }) => reference.split(" ")[0] ?? null,
    ...(present && { present }),
  };
  const given: string[] = [];
  const ended: string[] = [];
  const steps = walk(rules, kept, {
    saw: () => undefined,
    ended: ({ label }) => ended.push(label),
    give: (path, { key, from, until, ended: to, cut, movedFrom, movedTo, record }, became) => {
      expect(record.path).toBe(path);
      given.push(
        `${path} “${key}” ${from.label}–${until.label} ${became}${to ? ` at ${to.label}` : ""}${cut ? " cut" : ""}${movedTo ? ` to ${movedTo}` : ""}${movedFrom ? ` from ${movedFrom}` : ""}`,
      );
    },
  });
  for (const _ of steps);
  expect(ended).toHaveLength(kept.moments.length);
  return given.sort();
}

describe("versions of files in a series of moments", () => {
  const moments = [
    momentOf("1", { a: "x 1", b: "y 1", c: "z 1" }),
    momentOf("2", { a: "x 2", b: "y 1", d: "z 1" }),
    momentOf("3", { a: "x 2", d: "z 1" }, false),
    momentOf("4", { a: "x 2", b: "y 1", e: "w 1" }),
  ];

  it.each([
    ["oldest", oldestFirst],
    ["newest", newestFirst],
  ])("are each given once, with the moments they stood in and what became of them, the %s first", (_, walk) => {
    expect(found(walk, { moments })).toEqual([
      "a “x 1” 1–1 changed at 2",
      "a “x 2” 2–4 last",
      // The state that was broken off says nothing of what it does not have.
      "b “y 1” 1–4 last",
      "c “z 1” 1–1 moved at 2 to d",
      "d “z 1” 2–3 gone at 4 from c",
      "e “w 1” 4–4 last",
    ]);
  });

  it("are given as soon as they are known: the last ones first where the newest moment is read first", () => {
    const order: string[] = [];
    const rules: VersionRules = { keyOf: ({ reference }) => reference };
    const sink = {
      saw: () => undefined,
      ended: ({ label }: Moment) => order.push(`read ${label}`),
      give: (path: string, { key }: { key: string }) => order.push(`${path} ${key}`),
    };
    for (const _ of newestFirst(rules, { moments }, sink));
    expect(order.slice(0, 3)).toEqual(["read 4", "read 3", "e w 1"]);
    expect(order.indexOf("a x 2")).toBeLessThan(order.indexOf("read 1"));
  });

  it("are the same in both orders, for series drawn by lot: with broken off states, gaps, moves, and the volume as it is now", () => {
    const random = seeded(20261130);
    const below = (most: number) => Math.floor(random() * most);
    const kinds = new Map<string, number>();
    for (let round = 0; round < 4000; round += 1) {
      const count = 1 + below(7);
      const drawn = Array.from({ length: count }, (_, index) => {
        const files: Record<string, string> = {};
        for (const path of ["a", "b", "c", "d"]) if (random() < 0.6) files[path] = `${"xyz"[below(3)]} ${below(2)}`;
        return momentOf(String(index + 1), files, index === count - 1 || random() < 0.75);
      });
      const newest = drawn.at(-1) as Moment;
      const present = random() < 0.3 ? newest : undefined;
      const afterGap = count > 1 && random() < 0.3 ? newest : undefined;
      const kept = { moments: drawn, afterGap };
      const forth = found(oldestFirst, kept, present);
      expect(found(newestFirst, kept, present), `round ${round}`).toEqual(forth);
      for (const words of forth)
        for (const kind of ["gone", "missing", "changed", "moved", "same", "last", "cut", "from"])
          if (words.includes(` ${kind}`)) kinds.set(kind, (kinds.get(kind) ?? 0) + 1);
    }
    // Each way in which a version ends was among them.
    for (const kind of ["gone", "missing", "changed", "moved", "same", "last", "cut", "from"])
      expect(kinds.get(kind), kind).toBeGreaterThan(100);
  });
});
