import { describe, expect, it } from "vitest";
import type { Pass, PassPlace } from "@/server/passes/contract";
import type { Source } from "@/server/sources/contract";
import { narrowedWords, openPasses } from "./NotReadYet";

const source = (container: string, readable = true) =>
  ({
    id: 1,
    name: "a",
    container,
    connected: true,
    volumes: [{ id: 7, number: 0, readable, label: null, filesystem: "ntfs", standing: "present" }],
  }) as unknown as Source;
const pass = (place: PassPlace, state: Pass["state"], options: Pass["options"] = {}) => ({ volumeId: 7, place, state, options }) as Pass;
const open = (sources: readonly Source[], passes: readonly Pass[]) => openPasses(sources, passes).map((each) => each.place);

describe("passes that can still be started", () => {
  it("are those of each place that were not begun", () => {
    expect(open([source("raw")], [])).toEqual(["known-places", "file-record", "leftover-record"]);
    expect(open([source("raw")], [pass("file-record", "done")])).toEqual(["known-places", "leftover-record"]);
    expect(open([source("raw")], [pass("known-places", "running")])).toEqual(["file-record", "leftover-record"]);
  });

  it("come back when they were stopped, failed, or narrowed", () => {
    for (const each of [pass("file-record", "stopped"), pass("file-record", "failed"), pass("file-record", "done", { folder: "/Users" })])
      expect(open([source("raw")], [each])).toContain("file-record");
  });

  it("of a folder leave out what only an image has, and of a closed volume everything", () => {
    expect(open([source("folder")], [])).toEqual(["known-places", "file-record"]);
    expect(open([source("raw", false)], [])).toEqual([]);
  });
});

describe("what a pass was narrowed to", () => {
  it("is told in words, and not at all for a whole one", () => {
    expect(narrowedWords({})).toBe("");
    expect(narrowedWords({ folder: "/Users/mo", from: 75, kinds: ["pictures", "video"] })).toBe(
      "below /Users/mo, 75 to 100 %, pictures, video",
    );
    expect(narrowedWords({ places: ["bin", "own-backup"] })).toBe("bin, own backup");
  });
});
