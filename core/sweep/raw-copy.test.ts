import { describe, expect, it } from "vitest";
import { breaksAt, cannotTell, type Extent, endsAt, type Format, type Summary } from "../formats/format";
import { formatById } from "../formats/registry";
import type { Find } from "./find";
import { findName } from "./find-name";
import { rawCopy } from "./raw-copy";

const format = (id: string) => formatById.get(id) as Format;
const find = (id: string, extent: Extent, summary: Summary = {}, change: Partial<Find> = {}): Find => ({
  format: format(id),
  at: 8192,
  size: extent.size,
  segments: [{ at: 8192, length: extent.size }],
  extent,
  summary,
  inside: null,
  ...change,
});

describe("a find as a copy", () => {
  it("is whole only when its own check proves it to its end, and the drive gave every byte", () => {
    const condition = (each: Find, unreadable = 0) => rawCopy(each, unreadable, false).condition;
    expect(condition(find("jpeg", endsAt(5000)))).toBe("whole");
    expect(condition(find("jpeg", endsAt(5000)), 512)).toBe("partial");
    expect(condition(find("bmp", endsAt(5000)))).toBe("not-checked");
    expect(condition(find("zip", endsAt(5000, cannotTell("the archive is protected by a password"))))).toBe("not-checked");
    expect(condition(find("jpeg", breaksAt(3000, "the picture data break off")))).toBe("partial");
    // Application data that nothing checks may be another file's.
    const sound = { size: 90_000, closed: true, verdict: { verdict: "sound" } } as const;
    expect(condition(find("jpeg", { ...sound, unfollowed: 3000 }))).toBe("whole");
    expect(condition(find("jpeg", { ...sound, unfollowed: 30_000 }))).toBe("not-checked");
    expect(rawCopy(find("jpeg", { ...sound, unfollowed: 30_000 }), 0, false).notes.join()).toContain(
      "30000 bytes in it are checked by nothing",
    );
    expect(condition(find("mp3", { size: 900, closed: false, verdict: { verdict: "sound" } }))).toBe("not-checked");
  });

  it("says how much is left of what it should have been", () => {
    expect(rawCopy(find("jpeg", breaksAt(3000, "it breaks off", 12_000)), 0, false).survival).toBeCloseTo(0.25);
  });

  it("keeps its pieces, what it stands in, and whether its place is in use", () => {
    const pieces = [
      { at: 8192, length: 4096 },
      { at: 65_536, length: 904 },
    ];
    const copy = rawCopy(find("jpeg", endsAt(5000), {}, { segments: pieces, inside: 4096 }), 0, true);
    expect(copy.layout).toEqual({ size: 5000, segments: pieces.map((run) => ({ kind: "disk", ...run })) });
    expect([copy.state, copy.place, copy.facts?.inside, copy.reference]).toEqual([
      "live",
      "raw",
      "raw content at 4096",
      "raw content at 8192",
    ]);
    expect(copy.notes.join(" ")).toMatch(/2 pieces: 4096 bytes at 8192, 904 bytes at 65536.*inside another file.*4096/);
  });
});

describe("names", () => {
  const name = (id: string, summary: Summary) => findName({ format: format(id), summary, at: 512 });
  it("come from titles, from when and with what a picture was taken, from first words, or from the place", () => {
    expect(name("pdf", { title: "Minutes: June / July" })).toBe("Minutes June July.pdf");
    expect(name("jpeg", { taken: Date.UTC(2024, 4, 3, 14, 22, 10), camera: "Lumora LX-7" })).toBe("2024-05-03 14-22-10 Lumora LX-7.jpg");
    expect(name("docx", { text: "Dear members, the annual meeting takes place in the great hall on Monday" })).toBe(
      "Dear members, the annual meeting takes.docx",
    );
    expect(name("png", {})).toBe("PNG picture at 512.png");
  });
  it("never take what programs put where a title should stand, nor marks no name may have", () => {
    expect(name("pdf", { title: "untitled" })).toBe("PDF document at 512.pdf");
    expect(name("pdf", { title: "a\u0000b\u202e<c>|?*" })).toBe("a b c.pdf");
    expect(name("pdf", { title: "x".repeat(300) }).length).toBeLessThan(70);
  });
});
