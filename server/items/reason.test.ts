import { describe, expect, it } from "vitest";
import { type Compared, reasonFor } from "./reason";

let ids = 0;
const copy = (change: Partial<Compared>): Compared => ({
  id: ++ids,
  best: false,
  condition: "whole",
  identical: [],
  state: "deleted",
  place: "file-record",
  found: null,
  modified: new Date("2026-03-01"),
  ...change,
});
const kept = { state: "live", place: "own-backup", found: { rule: "Backups", path: "/x.bak" } } as const;
const today = { state: "live", modified: new Date("2026-09-09") } as const;
const why = (...copies: Compared[]) => reasonFor(copies[0] as Compared, copies, { copies: copies.length, overruled: false });

describe("why a copy is the best of its item", () => {
  it("is never that it is the newest where the file as it is today is newer", () => {
    expect(why(copy({ best: true, ...kept }), copy(kept), copy(today))).toBe(
      "The newest of 2 kept copies that are whole; the file as it is today needs no rescue.",
    );
    expect(why(copy({ best: true, ...kept }), copy(today))).toBe("The kept one; the live file of this name needs no rescue.");
    expect(why(copy({ best: true }), copy(today))).toBe("The lost one; the live file of this name needs no rescue.");
    expect(why(copy(today), copy({ best: true, ...kept }))).toBe("The file as it is today; the best copy is one that was kept elsewhere.");
    expect(why(copy(today), copy({ best: true }))).toBe("The file as it is today; the best copy is the lost one.");
  });

  it("is that it is the newest only among its like", () => {
    const raw = copy({ place: "raw", modified: new Date("2026-12-01") });
    const temporary = copy({ ...kept, place: "temporary", modified: new Date("2026-12-01") });
    expect(why(copy({ best: true }), copy({ modified: new Date("2025-01-01") }), raw)).toBe("The newest of 2 lost copies that are whole.");
    expect(why(copy({ best: true }), raw)).toContain("the others are temporary, found by their content alone, or earlier states");
    expect(why(raw, copy({ best: true }))).toContain("Found by its content alone");
    expect(why(temporary, copy({ best: true, ...kept }))).toContain("A temporary copy");
    expect(why(copy({ best: true, ...today }), copy({ state: "live", place: "backup" }))).toBe("The newest of 2 copies that are whole.");
  });

  it("says of another one why it is not", () => {
    const best = copy({ best: true });
    expect(why(copy({ condition: "partial" }), best)).toBe("Another copy is better: that one is whole, this one partial.");
    expect(why(copy({ identical: [best.id] }), best)).toBe("Holds the same bytes as the best copy.");
    expect(why(copy({ modified: new Date("2025-01-01") }), best)).toBe("Another copy of the same condition is newer.");
    expect(why(copy({}), best)).toBe("As good as the best copy, and of the same date.");
    expect(why(copy({}))).toBe("The only copy found.");
  });
});
