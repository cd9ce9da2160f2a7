import { gzipSync } from "node:zlib";
import fc from "fast-check";
import sharp from "sharp";
import initSqlJs from "sql.js";
import { describe, expect, it } from "vitest";
import yauzl from "yauzl";
import { letter } from "../../demo/documents";
import { labFiles } from "../../tests/support/lab-files";
import { MemorySource } from "../bytes/byte-source";
import { damagedOutline, outlineOf } from "./outline";

const outline = (bytes: Uint8Array, name = "") => outlineOf(new MemorySource(bytes), name);
const picture = () =>
  sharp({ create: { width: 48, height: 32, channels: 3, background: "#274", noise: { type: "gaussian", mean: 90, sigma: 40 } } });

describe("the outline of a file", () => {
  it("of a picture has the parts its standard asks for, end to end", async () => {
    const png = outline(await picture().png().toBuffer());
    expect(png.map((part) => part.name).filter((name) => /^[A-Z]/.test(name))).toEqual(expect.arrayContaining(["IHDR", "IDAT", "IEND"]));
    for (const [index, part] of png.entries())
      expect(part.at).toBe(index === 0 ? 0 : (png[index - 1]?.at ?? 0) + (png[index - 1]?.length ?? 0));
    const bytes = await picture().jpeg().toBuffer();
    const jpeg = outline(bytes);
    // ITU-T T.81, B.2.1: a picture begins with SOI, has a frame, a scan, and ends with EOI.
    expect(jpeg[0]).toMatchObject({ at: 0, name: "SOI" });
    expect(jpeg.some((part) => part.name === "SOF0")).toBe(true);
    expect(jpeg.at(-1)).toMatchObject({ name: "EOI", at: bytes.length - 2 });
    const gif = outline(await picture().gif().toBuffer());
    expect(gif.at(-1)?.name).toBe("trailer");
    const webp = outline(await picture().webp().toBuffer());
    expect(webp.map((part) => part.name)).toEqual(["RIFF WEBP", expect.stringMatching(/^VP8/)]);
  });

  it("of an office document has each member where another reader finds it", async () => {
    const bytes = await letter(["A title", "A paragraph."]);
    const members = await new Promise<Map<string, number>>((done, failed) => {
      const found = new Map<string, number>();
      yauzl.fromBuffer(bytes, { lazyEntries: true }, (error, zip) => {
        if (error) return failed(error);
        zip.on("entry", (entry: yauzl.Entry) => {
          found.set(entry.fileName, entry.relativeOffsetOfLocalHeader);
          zip.readEntry();
        });
        zip.on("end", () => done(found));
        zip.readEntry();
      });
    });
    const parts = outline(bytes, "a.docx");
    expect(new Map(parts.slice(0, -1).map((part) => [part.name, part.at]))).toEqual(members);
    expect(parts.at(-1)?.name).toBe("list of contents");
  });

  it("of a database has as many pages as the database engine counts", async () => {
    const sql = await initSqlJs();
    const database = new sql.Database();
    database.run("create table stars (name text, magnitude real); create index by_name on stars (name)");
    for (let i = 0; i < 500; i += 1) database.run("insert into stars values (?, ?)", [`Star number ${i}`, i / 10]);
    const pages = database.exec("pragma page_count")[0]?.values[0]?.[0];
    const parts = outline(database.export());
    expect(parts.length - 1).toBe(pages);
    expect(parts.some((part) => part.name.endsWith("index leaf"))).toBe(true);
  });

  it("of an archive is its header, data and checksum; of plain text there is none", () => {
    expect(
      outline(gzipSync("x".repeat(1000)))
        .map((part) => part.length)
        .at(-1),
    ).toBe(8);
    expect(outline(Buffer.from("Just words."))).toEqual([]);
  });

  it("shows the damaged place among the parts", () => {
    // Truth: the lab's manifest, a member of the archive overwritten at byte 5046.
    const parts = damagedOutline(new MemorySource(labFiles().bytes("zip-bad-member.zip")), "zip-bad-member.zip");
    const index = parts.findIndex(({ name }) => name.startsWith("damaged here"));
    expect(parts[index]?.at).toBeGreaterThanOrEqual(5000);
    expect(parts[index]?.at).toBeLessThan(5300);
    expect(parts[index - 1]?.name).toBe("saved page.html");
    expect(damagedOutline(new MemorySource(labFiles().bytes("good.zip"))).some(({ name }) => name.startsWith("damaged"))).toBe(false);
  });

  it("of anything damaged ends, stays inside the file, and is never endless", async () => {
    const samples = [await picture().png().toBuffer(), await picture().jpeg().toBuffer(), await letter(["x", "y"]), gzipSync("abc")];
    fc.assert(
      fc.property(
        fc.constantFrom(...samples),
        fc.array(fc.tuple(fc.nat(4000), fc.integer({ min: 0, max: 255 })), { maxLength: 12 }),
        (sample, hits) => {
          const bytes = new Uint8Array(sample);
          for (const [at, value] of hits) bytes[at % bytes.length] = value;
          const parts = outline(bytes);
          expect(parts.length).toBeLessThanOrEqual(2000);
          for (const part of parts) expect(part.at + part.length).toBeLessThanOrEqual(bytes.length);
        },
      ),
      { numRuns: 400, seed: 7 },
    );
  });
});
