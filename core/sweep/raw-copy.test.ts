import { describe, expect, it } from "vitest";
import { breaksAt, cannotTell, type Extent, endsAt, type Format, type Summary } from "../formats/format";
import { formatById } from "../formats/registry";
import type { Find } from "./find";
import { findName } from "./find-name";
import { rawCopy } from "./raw-copy";
import { SECTOR, SignatureIndex } from "./signature-index";

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
    expect(condition(find("mp3", { size: 900, closed: false, verdict: { verdict: "sound" } }))).toBe("not-checked");
  });

  it("tells how much is left of what it should have been", () => {
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

describe("the search for marks", () => {
  const index = new SignatureIndex(() => true);
  const block = new Uint8Array(8 * SECTOR);
  const put = (at: number, mark: string) =>
    block.set(
      Uint8Array.from(mark, (each) => each.charCodeAt(0)),
      at,
    );

  it("finds marks at sectors, at every odd place, and those that stand behind a file's beginning", () => {
    put(0, "\x89PNG\r\n\x1a\n");
    for (const [i, at] of [701, 1402, 2103, 2803].entries())
      put(at, ["\xff\xd8\xff\xe0", "%PDF-1.4", "PK\x03\x04\x14", "fLaC"][i] as string);
    put(3 * SECTOR * 2 + 4, "ftypheic");
    const at = (candidates: { at: number; formats: readonly Format[] }[]) =>
      candidates.map((each) => `${each.at} ${each.formats[0]?.id ?? "text"}`);
    expect(at(index.atSectors(block, block.length, 0, false))).toEqual(["0 png", `${6 * SECTOR} heic`]);
    const odd = index.anywhere(block, block.length);
    expect(odd.map((each) => each.at).sort((a, b) => a - b)).toEqual([701, 1402, 2103, 2803]);
    for (const [place, id] of [
      [701, "jpeg"],
      [1402, "pdf"],
      [2103, "docx"],
      [2803, "flac"],
    ] as const)
      expect(odd.find((each) => each.at === place)?.formats.map((each) => each.id)).toContain(id);
  });

  it("takes text for a beginning only where none stood before, and no fill", () => {
    const text = new Uint8Array(4 * SECTOR);
    const words = Buffer.from("The harbour was quiet that evening, and nobody asked about the lantern. ".repeat(30));
    text.set(words.subarray(0, 2 * SECTOR), SECTOR);
    text.fill(0x2e, 3 * SECTOR);
    expect(index.atSectors(text, text.length, 0, false).map(({ at, text: reads }) => [at, reads])).toEqual([[SECTOR, true]]);
    expect(index.atSectors(text.subarray(SECTOR), 2 * SECTOR, SECTOR, true)).toEqual([]);
  });
});
