import { describe, expect, it } from "vitest";
import { carveImage, labFiles } from "../../tests/support/lab-files";
import { MemorySource, WindowSource } from "../bytes/byte-source";
import { HEAD_BYTES } from "./format";
import { REGISTERED, registeredKind } from "./kinds";
import { FORMATS, formatById, identify, kindOf, recognise, resolved, runCheck, runFollow, runSummary } from "./registry";

/** What the lab calls a kind, by the format's id here. */
const IDS: Readonly<Record<string, readonly string[]>> = {
  photo: ["jpeg"],
  mkv: ["matroska", "webm"],
  ttf: ["font"],
  otf: ["font"],
  gz: ["gzip"],
  bz2: ["bzip2"],
  wmv: ["asf"],
  sqlite: ["sqlite", "sqlite-wal"],
  txt: ["words"],
};
/** Formats that have no check of their own, or one that is not followed (recorded here so that a change shows). */
const NOT_PROVEN = [
  "letter.doc",
  "report.doc",
  "lossless.webp",
  "lossy.webp",
  "encrypted.zip",
  "memo.m4a",
  "arithmetic.jpg",
  "Inbox",
  "message.eml",
  "notes-utf8.txt",
  "notes-utf16.txt",
  "latin1.txt",
  "accounts.csv",
  "bare-frames.mp3",
  // Behind a log's last frame nothing says that it ends there.
  "visits.db-wal",
];

const { source, files } = carveImage();
const whole = files.filter(({ state }) => state.startsWith("contiguous"));

/** Truth: the image's manifest, with files of about 48 kinds that general tools wrote. What stands behind each file is not its own. */
describe("a file in the midst of other bytes", () => {
  it.each(whole)("$path is followed to its very end", ({ path, kind, size, firstOffset }) => {
    const window = new WindowSource(source, firstOffset as number, source.size - (firstOffset as number));
    const head = new Uint8Array(HEAD_BYTES);
    window.read(0, head);
    // Text has no mark of its own: the sweep asks these where a sector begins with text.
    const format = kind === "txt" ? formatById.get("words") : recognise(head);
    const extent = format && runFollow(format, window);
    expect(extent?.size).toBe(size);
    const content = new WindowSource(window, 0, size);
    expect(IDS[kind] ?? [kind]).toContain(format && resolved(format, content).id);
    expect(extent?.verdict.verdict).toBe(NOT_PROVEN.includes(path) ? "cannot-tell" : "sound");
  });

  it("says of itself what its maker put in", () => {
    const summary = (path: string) => {
      const file = whole.find((each) => each.path === path);
      const content = new WindowSource(source, file?.firstOffset ?? 0, file?.size ?? 0);
      const format = identify(content);
      return format ? runSummary(format, content) : {};
    };
    expect(summary("LMR_0220.JPG")).toMatchObject({
      width: 560,
      height: 420,
      camera: "Lumora LX-7 Field",
      taken: Date.UTC(2022, 3, 22, 11, 39, 27),
    });
    expect(summary("phone.heic")).toMatchObject({ width: 384, height: 256 });
    expect(summary("linearized.pdf")).toMatchObject({ title: "Report Port Veyra", pages: 3 });
    expect(summary("two-pages-MM.tif")).toMatchObject({ pages: 2 });
    expect(summary("faststart.mp4")).toMatchObject({ duration: 2000, width: 192, height: 144 });
    expect(summary("clip.mkv")).toMatchObject({ width: 192, height: 144 });
    expect(summary("song-id3.mp3")).toMatchObject({ title: "Norrhavn" });
    expect(summary("tone.wav").duration).toBeGreaterThan(1990);
    expect(summary("EBGaramond12-Italic.otf")).toMatchObject({ title: "EB Garamond 12 Italic" });
    expect(summary("with attachment.eml")).toMatchObject({ title: "Quarry velvet autumn cipher ledger granite" });
    expect(summary("contacts.vcf")).toMatchObject({ title: "Marta Ilvesen" });
    expect(summary("catalog.db").text).toContain("item");
  });
});

/** Truth: files damaged by script beside their originals; the manifest says where. */
describe("damaged files", () => {
  const lab = labFiles();
  const verdict = (path: string) => {
    const content = new MemorySource(lab.bytes(path));
    const format = identify(content, path);
    return format ? runCheck(format, content) : null;
  };
  // Rows that were deleted leave a sound database; a log or journal is a file of its own.
  const sound = lab.entries.filter(({ path, state }) => state === "good" || /deleted-rows|dropped-table/.test(path));
  const broken = lab.entries.filter((entry) => !sound.includes(entry) && !/hot-journal\.db$/.test(entry.path));

  it.each(sound)("$path opens", ({ path }) => expect(verdict(path)).toEqual({ verdict: "sound" }));
  it.each(broken)("$path does not: $note", ({ path }) => expect(verdict(path)?.verdict ?? "damaged").toBe("damaged"));
  it("says where", () => {
    const at = (path: string) => {
      const found = verdict(path);
      return found?.verdict === "damaged" ? found.at : Number.NaN;
    };
    expect(at("truncated-60-LMR_0226.JPG")).toBe(16_207);
    expect(at("png-bad-idat.png")).toBeGreaterThanOrEqual(500);
    // The packed picture still makes sense for a while: the checksum of its first chunk shows it.
    expect(at("png-bad-idat.png")).toBeLessThanOrEqual(32_900);
    for (const [path, offset, length] of [
      ["zeroed-block-LMR_0226.JPG", 13_312, 1024],
      ["zeroed-block-restart-markers.jpg", 6656, 1024],
      ["zeroed-block-progressive.jpg", 4608, 1024],
    ] as const) {
      expect(at(path)).toBeGreaterThanOrEqual(offset);
      expect(at(path)).toBeLessThanOrEqual(offset + length + 512);
    }
    expect(at("zip-bad-member.zip")).toBeGreaterThanOrEqual(5000);
    expect(at("zip-bad-member.zip")).toBeLessThan(5400);
  });
});

describe("kinds by extension", () => {
  it("are known for more than a thousand extensions, from the registry of media types", () => {
    expect(REGISTERED).toBeGreaterThan(1000);
    // RFC 6838's registry, as the data package has it.
    expect([registeredKind("jp2"), registeredKind("webm"), registeredKind("mid"), registeredKind("vcf")]).toEqual([
      "pictures",
      "video",
      "audio",
      "application-data",
    ]);
    expect([kindOf("a.odp"), kindOf("a.dwg"), kindOf("a.docx"), kindOf("a.7z"), kindOf("a.xlsm"), kindOf("a.msg")]).toEqual([
      "documents",
      "drawings",
      "documents",
      "archives",
      "sheets",
      "mail",
    ]);
  });
  it("every format has its own id, and one extension at least", () => {
    expect(new Set(FORMATS.map(({ id }) => id)).size).toBe(FORMATS.length);
    for (const { extensions } of FORMATS) expect(extensions.length).toBeGreaterThan(0);
  });
});
