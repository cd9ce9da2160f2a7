import { execFileSync } from "node:child_process";
import { describe, expect, it } from "vitest";
import { type ChainedEntry, followChain, hashEntry } from "./log-chain";

const ENTRIES = [
  { at: "2026-03-12T10:00:00.000Z", what: "Job made", detail: { title: "Thesis, “lost”", client: "Rowan Ash" } },
  { at: "2026-03-12T10:01:00.500Z", what: "Pass started", detail: { pass: 1, nested: { b: [1, 2.5, null], a: "\n" } } },
  { at: "2026-03-12T10:01:00.500Z", what: "Pass finished", detail: {} },
  { at: "2026-03-12T10:02:00.000Z", what: "Restore started", detail: { files: 200_000, destination: "Ordner für Ünal" } },
];

function chain(entries: readonly Omit<ChainedEntry, "hash">[]): ChainedEntry[] {
  let before: string | null = null;
  return entries.map((entry) => {
    before = hashEntry(before, entry);
    return { ...entry, hash: before };
  });
}

describe("the chain of a log", () => {
  it("is what sha256sum makes of the hash before, a line end and the entry as JSON", () => {
    const general = (text: string) => execFileSync("sha256sum", { input: text, encoding: "utf8" }).slice(0, 64);
    const first = general('\n["2026-03-12T10:00:00.000Z","Job made",{"client":"Rowan Ash","title":"Thesis, “lost”"}]');
    const second = general(`${first}\n["2026-03-12T10:01:00.500Z","Pass started",{"nested":{"a":"\\n","b":[1,2.5,null]},"pass":1}]`);
    expect(
      chain(ENTRIES)
        .slice(0, 2)
        .map(({ hash }) => hash),
    ).toEqual([first, second]);
  });

  it("holds, whatever order names stand in and whether times are dates or text", () => {
    const moved = chain(ENTRIES).map((entry) => ({
      ...entry,
      at: new Date(entry.at),
      detail: Object.fromEntries(Object.entries(entry.detail as object).reverse()),
    }));
    expect(followChain(moved)).toMatchObject({ agreed: 4, broken: [], unchained: 0, last: moved[3]?.hash });
  });

  it.each([
    ["a word changed", (all: ChainedEntry[]) => all.with(1, { ...(all[1] as ChainedEntry), what: "Pass paused" }), [2]],
    ["a number changed", (all: ChainedEntry[]) => all.with(3, { ...(all[3] as ChainedEntry), detail: { files: 199_999 } }), [4]],
    ["a time changed", (all: ChainedEntry[]) => all.with(0, { ...(all[0] as ChainedEntry), at: "2026-03-12T10:00:00.001Z" }), [1]],
    ["an entry taken out", (all: ChainedEntry[]) => all.toSpliced(1, 1), [2]],
    ["the first taken out", (all: ChainedEntry[]) => all.slice(1), [1]],
    ["two exchanged", (all: ChainedEntry[]) => [all[0], all[2], all[1], all[3]] as ChainedEntry[], [2, 3, 4]],
    ["one added", (all: ChainedEntry[]) => all.toSpliced(2, 0, { at: 0 as never, what: "x", detail: {}, hash: "00" }), [3, 4]],
    ["a hash taken off", (all: ChainedEntry[]) => all.with(2, { ...(all[2] as ChainedEntry), hash: null }), [3, 4]],
  ] as const)("breaks where there is %s", (_, change, broken) => {
    expect(followChain(change(chain(ENTRIES))).broken).toEqual(broken);
  });

  it("says which entries were written before it began, and does not call them proven", () => {
    const old = ENTRIES.slice(0, 2).map((entry) => ({ ...entry, hash: null }));
    expect(followChain([...old, ...chain(ENTRIES.slice(2))])).toMatchObject({ unchained: 2, agreed: 2, broken: [] });
  });

  it("with its last entries cut off, ends with another hash", () => {
    const all = chain(ENTRIES);
    expect(followChain(all.slice(0, 3)).last).not.toBe(all[3]?.hash);
  });
});
