import { describe, expect, it } from "vitest";
import { isNarrowed, PASS_PLACES, passKind, passOptions, startPass } from "./contract";

describe("a pass", () => {
  it("is narrowed by what leaves something out, not by the order in which it reads", () => {
    expect([{}, { newestFirst: true }].map(isNarrowed)).toEqual([false, false]);
    expect([{ folder: "/a" }, { newestFirst: true, statesFrom: "2026-03-01" }].map(isNarrowed)).toEqual([true, true]);
  });
});

describe("kinds of pass", () => {
  it("name only options that there are", () => {
    const known = Object.keys(
      passOptions.parse({
        folder: "/a",
        from: 0,
        to: 1,
        kinds: [],
        places: [],
        statesFrom: "2026-03-01",
        statesTo: "2026-03-10",
        newestFirst: true,
        unused: true,
        everyByte: true,
        longer: true,
        again: true,
      }),
    );
    for (const place of PASS_PLACES) expect(known).toEqual(expect.arrayContaining([...passKind(place).options]));
  });

  it("refuse what they cannot be narrowed by, instead of seeming to follow it", () => {
    const refusal = (place: string, options: object) => startPass.safeParse({ storeId: 1, place, options }).error?.issues[0]?.message;
    expect(refusal("known-places", { from: 20, to: 40 })).toBe("A pass over known places cannot be narrowed by “from”.");
    expect(refusal("raw", { folder: "/Users" })).toBe("A pass over raw content cannot be narrowed by “folder”.");
    expect(refusal("file-record", { everyByte: true })).toContain("everyByte");
    expect(refusal("file-record", { longer: true })).toContain("longer");
    expect(refusal("file-record", { statesFrom: "2026-03-01" })).toContain("statesFrom");
    expect(refusal("earlier-states", { statesFrom: "2026-03-01", statesTo: "2026-03-10", folder: "/Users" })).toBeUndefined();
    expect(refusal("earlier-states", { statesFrom: "2026-03-11", statesTo: "2026-03-10" })).toContain("must not come before");
    expect(refusal("earlier-states", { newestFirst: true })).toBeUndefined();
    expect(refusal("file-record", { newestFirst: true })).toContain("newestFirst");
    expect(refusal("file-record", { from: 20, to: 40, folder: "/Users", kinds: ["pictures"] })).toBeUndefined();
    expect(refusal("raw", { unused: true, everyByte: true, longer: true, again: true, kinds: ["pictures"] })).toBeUndefined();
    for (const place of PASS_PLACES) expect(refusal(place, {})).toBeUndefined();
  });
});
