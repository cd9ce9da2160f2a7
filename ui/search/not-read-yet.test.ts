import { describe, expect, it } from "vitest";
import type { Pass, PassPlace } from "@/server/passes/contract";
import type { Source } from "@/server/sources/contract";
import { narrowedWords } from "../instruments/words";
import { openPasses, together } from "./NotReadYet";

const source = (container: string, readable = true) =>
  ({
    id: 1,
    name: "a",
    container,
    connected: true,
    volumes: [{ id: 7, number: 0, readable, label: null, filesystem: "ntfs", standing: "present" }],
  }) as unknown as Source;
const pass = (place: PassPlace, state: Pass["state"], options: Pass["options"] = {}) => ({ storeId: 7, place, state, options }) as Pass;
const open = (sources: readonly Source[], passes: readonly Pass[]) => openPasses(sources, passes).map((each) => each.place);

describe("passes that can still be started", () => {
  it("are those of each place that were not begun", () => {
    expect(open([source("raw")], [])).toEqual(["known-places", "file-record", "earlier-states", "leftover-record"]);
    expect(open([source("raw")], [pass("file-record", "done")])).toEqual(["known-places", "earlier-states", "leftover-record"]);
    expect(open([source("raw")], [pass("known-places", "running")])).toEqual(["file-record", "earlier-states", "leftover-record"]);
  });

  it("come back when they were stopped, failed, or narrowed", () => {
    for (const each of [pass("file-record", "stopped"), pass("file-record", "failed"), pass("file-record", "done", { folder: "/Users" })])
      expect(open([source("raw")], [each])).toContain("file-record");
  });

  it("of a folder leave out what only an image has, and of a closed volume everything", () => {
    expect(open([source("folder")], [])).toEqual(["known-places", "file-record", "earlier-states"]);
    expect(open([source("raw", false)], [])).toEqual([]);
  });
});

describe("the volumes of a source", () => {
  const many = (count: number, id = 1) =>
    ({
      ...source("raw"),
      id,
      volumes: Array.from({ length: count }, (_, number) => ({ ...source("raw").volumes[0], id: id * 100 + number, number })),
    }) as unknown as Source;
  const sizes = (sources: readonly Source[]) => together(openPasses(sources, [])).map((group) => [group[0]?.place, group.length]);

  it("stand one by one while they are few, and together when they are many; each source by itself", () => {
    expect(sizes([many(2)]).length).toBe(8);
    expect(sizes([many(40)])).toEqual([
      ["known-places", 40],
      ["file-record", 40],
      ["earlier-states", 40],
      ["leftover-record", 40],
    ]);
    expect(sizes([many(5), many(1, 2)]).filter(([place]) => place === "file-record")).toEqual([
      ["file-record", 5],
      ["file-record", 1],
    ]);
    // Twenty sources are a page, and not sixty rows.
    expect(sizes(Array.from({ length: 20 }, (_, index) => many(2, index + 1)))).toEqual([
      ["known-places", 40],
      ["file-record", 40],
      ["earlier-states", 40],
      ["leftover-record", 40],
    ]);
    const all = openPasses([many(7), many(6, 2)], []);
    expect(together(all).flat()).toEqual(all);
  });
});

describe("what a pass was narrowed to", () => {
  it("is reported in words, and not at all for a whole one", () => {
    expect(narrowedWords({})).toBe("");
    expect(narrowedWords({ folder: "/Users/mo", from: 75, kinds: ["pictures", "video"] })).toBe(
      "below /Users/mo, 75 to 100 %, pictures, video",
    );
    expect(narrowedWords({ places: ["bin", "own-backup"] })).toBe("bin, own backup");
  });
});
