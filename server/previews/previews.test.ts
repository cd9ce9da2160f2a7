import { mkdtempSync, readFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import exifr from "exifr";
import { strToU8, zipSync } from "fflate";
import iconv from "iconv-lite";
import sharp from "sharp";
import { beforeAll, describe, expect, it } from "vitest";
import { archive, bell, letter, membersDatabase, pdf, sheet } from "../../demo/documents";
import { photograph } from "../../demo/draw";
import { storedCopyOf } from "../../tests/support/stored-copy";
import type { StoredCopy } from "../items/queries";
import { archiveOf } from "./archives";
import { previewFacts } from "./facts";
import { drawnThumbnail, picturePreview } from "./pictures";
import { beginningOf, bytesOf, playedContent } from "./raw";
import { settingsOf } from "./settings";
import { tablesOf } from "./tables";
import { documentText, textOf } from "./texts";

const work = mkdtempSync(join(tmpdir(), "compass-previews-"));
beforeAll(() => {
  process.env.COMPASS_SOURCES = work;
  process.env.COMPASS_DATA = join(work, "data");
});

const copyOf = (name: string, content: Uint8Array): StoredCopy => storedCopyOf(work, name, content);

describe("the form of a preview", () => {
  it("goes by the content, not by the name", async () => {
    const picture = await photograph("moon", 3, 300, 200, 80);
    const forms = async (name: string, content: Uint8Array) => (await previewFacts(copyOf(name, content))).form;
    expect(await forms("letter.docx", picture)).toBe("picture");
    expect(await forms("noname", await letter(["Title"]))).toBe("document");
    expect(await forms("noname", await sheet(["a"], [[1]]))).toBe("tables");
    expect(await forms("noname", await membersDatabase())).toBe("tables");
    expect(await forms("noname", pdf([["page"]]))).toBe("pdf");
    expect(await forms("noname", bell(440, 0.2))).toBe("audio");
    expect(await forms("a.zip", archive({ "a.txt": "a" }))).toBe("archive");
    expect(await forms("evil.html", Buffer.from("<script>alert(1)</script>"))).toBe("text");
    expect(await forms("junk.bin", Buffer.from([0, 1, 2, 3, 4, 5, 6, 7, 0, 0, 1]))).toBe("hex");
  });

  it("gives a picture's size, and when and with what it was taken", async () => {
    const taken = await sharp(await photograph("stars", 4, 320, 200, 80))
      .withExif({ IFD0: { Make: "Lantern", Model: "One" }, IFD2: { DateTimeOriginal: "2026:02:03 23:10:00" } })
      .jpeg()
      .toBuffer();
    expect(await previewFacts(copyOf("a.jpg", taken))).toMatchObject({
      pixels: { width: 320, height: 200 },
      taken: "2026-02-03 23:10:00",
      camera: "Lantern One",
    });
    // Another reader of the same notes agrees.
    const notes = (await exifr.parse(taken, { pick: ["DateTimeOriginal", "Make", "Model"], reviveValues: false })) as Record<
      string,
      string
    >;
    expect(notes).toMatchObject({ DateTimeOriginal: "2026:02:03 23:10:00", Make: "Lantern", Model: "One" });
  });
});

describe("settings", () => {
  it("tells a file of no bytes from one of which there is no content, or whose size is not known", async () => {
    const empty = { ...copyOf("empty.txt", new Uint8Array()), size: 0 };
    expect((await previewFacts(empty)).absent).toBeNull();
    expect((await previewFacts({ ...empty, layout: null, absent: "not-followed" })).absent).toBe("not-followed");
    expect((await previewFacts({ ...empty, size: 9, layout: null, absent: "encrypted" })).absent).toBe("encrypted");
  });

  it("are shown as names and values beside their text; binary ones first of all; damaged ones say so", async () => {
    const made = JSON.parse(readFileSync(join(import.meta.dirname, "..", "..", "tests", "fixtures", "settings.json"), "utf8")) as Record<
      string,
      string
    >;
    const binary = copyOf("window.plist", Buffer.from(made.binary as string, "base64"));
    expect(await previewFacts(binary)).toMatchObject({ form: "hex", settings: true });
    expect((await settingsOf(binary)).settings[0]).toEqual({ name: "Observer", value: "Tove Brask", level: 0, when: null });
    for (const [name, text, first] of [
      ["window.plist", made.xml, "Observer"],
      ["window.ini", made.ini, "Window"],
      ["window.json", '{"Observer":1}', "Observer"],
      ["window.xml", '<?xml version="1.0"?><window><Observer/></window>', "window"],
    ] as const) {
      const copy = copyOf(name, Buffer.from(text as string));
      expect(await previewFacts(copy)).toMatchObject({ form: "text", settings: true });
      expect((await settingsOf(copy)).settings[0]?.name).toBe(first);
    }
    // In the code of wide characters, with its mark, as some systems write them.
    const wide = copyOf("wide.ini", Buffer.concat([Buffer.from([0xff, 0xfe]), Buffer.from(made.ini as string, "utf16le")]));
    expect((await settingsOf(wide)).settings[0]?.name).toBe("Window");
    expect((await previewFacts(copyOf("letter.txt", Buffer.from("Dear members,\nthe dome is open.")))).settings).toBe(false);
    // What is left of a damaged one is shown, with what is wrong.
    const cut = await settingsOf(copyOf("cut.plist", Buffer.from(made.binary as string, "base64").subarray(0, 60)));
    expect([cut.problem, cut.settings[0]]).toEqual([
      "Its end is gone: its values were found one behind another.",
      { name: "Observer", value: "damaged", level: 0, when: null },
    ]);
    const broken = copyOf("cut.json", Buffer.from('{"Observer":"Tove Brask","Dome":[1,"op'));
    expect(await previewFacts(broken)).toMatchObject({ settings: true });
    expect((await settingsOf(broken)).settings[0]).toEqual({ name: "Observer", value: "Tove Brask", level: 0, when: null });
    expect((await settingsOf(broken)).problem).toContain("breaks off");
    const zeros = copyOf("zeros.plist", Buffer.alloc(5_000));
    expect((await previewFacts(zeros)).settings).toBe(false);
    await expect(settingsOf(zeros)).rejects.toThrow("too damaged to be shown as a tree");
  });
});

describe("tables that are text", () => {
  it("of separated values are read with the mark that separates them, quotes and line ends inside (RFC 4180, 2.5 to 2.7)", async () => {
    const rows = [
      ["star", "remark"],
      ["Mira", 'bright, "very"\r\nvariable'],
      ["Algol", ""],
    ];
    const written = (mark: string) => rows.map((row) => row.map((cell) => `"${cell.replaceAll('"', '""')}"`).join(mark)).join("\r\n");
    for (const mark of [",", ";", "\t"]) {
      const copy = copyOf("stars.csv", Buffer.from(written(mark)));
      expect((await previewFacts(copy)).form).toBe("tables");
      expect((await tablesOf(copy, "shown")).tables[0]).toMatchObject({ columns: ["A", "B"], rows, total: 3 });
    }
  });

  it("of an OpenDocument sheet are read with repeated cells and entities (ISO/IEC 26300-1, 9.1)", async () => {
    const cell = (text: string, more = "") =>
      `<table:table-cell${more} office:value-type="string"><text:p>${text}</text:p></table:table-cell>`;
    const content = `<office:spreadsheet><table:table table:name="Nights &amp; stars" table:style-name="ta1"><table:table-column/>
      <table:table-row>${cell("Mira")}${cell("x", ' table:number-columns-repeated="2"')}</table:table-row>
      <table:table-row><table:table-cell/>${cell("4 &lt; 5")}<table:table-cell table:number-columns-repeated="1000"/></table:table-row>
      <table:table-row table:number-rows-repeated="1048574"><table:table-cell table:number-columns-repeated="1024"/></table:table-row>
      </table:table></office:spreadsheet>`;
    const bytes = zipSync({
      mimetype: [strToU8("application/vnd.oasis.opendocument.spreadsheet"), { level: 0 }],
      "content.xml": strToU8(content),
    });
    const copy = copyOf("nights.ods", bytes);
    expect((await previewFacts(copy)).form).toBe("tables");
    expect(await tablesOf(copy, "shown")).toEqual({
      tables: [
        {
          name: "Nights & stars",
          columns: ["A", "B", "C"],
          rows: [
            ["Mira", "x", "x"],
            ["", "4 < 5"],
          ],
          total: 2,
        },
      ],
      problem: null,
    });
    await expect(tablesOf(copyOf("b.ods", bytes.slice(0, bytes.length - 30)), "shown")).rejects.toThrow("too damaged");
  });
});

describe("text", () => {
  const text = "Größe der Kuppel: 4,20 m\nΑστέρι\n";
  it.each([
    ["utf-8", text],
    ["utf-16le", text],
    ["utf-16be", text],
    ["windows-1252", "Größe der Kuppel: 4,20 m\n"],
  ])("is decoded from %s", async (encoding, wanted) => {
    const bytes = iconv.encode(wanted, encoding, { addBOM: encoding.startsWith("utf-16") });
    const shown = await textOf(copyOf("a.txt", bytes), null);
    expect([shown.encoding, shown.text]).toEqual([encoding, wanted]);
  });

  it("is decoded as asked, and an unknown code is not taken", async () => {
    const bytes = iconv.encode("Наблюдения", "windows-1251");
    expect((await textOf(copyOf("a.txt", bytes), "windows-1251")).text).toBe("Наблюдения");
    expect((await textOf(copyOf("a.txt", bytes), "no-such-code")).encoding).toBe("windows-1252");
  });

  it("of great length shows its beginning and says so", async () => {
    const shown = await textOf(copyOf("a.txt", Buffer.alloc(600_000, "ä\n")), null);
    expect(shown.truncated).toBe(true);
    expect(shown.encoding).toBe("utf-8");
  });

  it("comes out of office documents of each kind", async () => {
    expect((await documentText(copyOf("a.docx", await letter(["Heading", "A paragraph."])))).text).toContain("A paragraph.");
    const odt = zipSync({
      mimetype: [strToU8("application/vnd.oasis.opendocument.text"), { level: 0 }],
      "content.xml": strToU8("<office:text><text:h>Heading</text:h><text:p>Words &amp; more</text:p></office:text>"),
    });
    expect((await documentText(copyOf("a.odt", odt))).text).toBe("Heading\nWords & more");
    const slides = zipSync({
      "ppt/slides/slide10.xml": strToU8("<a:p><a:t>tenth</a:t></a:p>"),
      "ppt/slides/slide2.xml": strToU8("<a:p><a:t>second</a:t></a:p>"),
    });
    expect((await documentText(copyOf("a.pptx", slides))).text).toBe("second\n\ntenth");
  });

  it("of a damaged document is refused in words, not with a stack", async () => {
    const cut = (await letter(["Heading"])).subarray(0, 3000);
    await expect(documentText(copyOf("a.docx", cut))).rejects.toThrow("too damaged");
  });
});

describe("tables", () => {
  it("of a workbook are its sheets, cell by cell", async () => {
    const { tables } = await tablesOf(
      copyOf(
        "a.xlsx",
        await sheet(
          ["Night", "Star"],
          [
            [1, "Mira"],
            [2, "Algol"],
          ],
        ),
      ),
      "shown",
    );
    expect(tables[0]).toMatchObject({
      columns: ["A", "B"],
      rows: [
        ["Night", "Star"],
        ["1", "Mira"],
        ["2", "Algol"],
      ],
      total: 3,
    });
  });

  it("of a database are its tables, and a damaged one says so", async () => {
    const bytes = await membersDatabase();
    const { tables } = await tablesOf(copyOf("a.db", bytes), "shown");
    expect(tables.map((table) => [table.name, table.total])).toEqual([
      ["loans", 2],
      ["members", 6],
    ]);
    expect(tables[1]?.rows[2]).toEqual(["3", "Cleo Vane", "2009"]);
    const damaged = Buffer.from(bytes);
    damaged.fill(0xee, 100, 4096);
    // Its rows are there, and it is said that their names are not.
    const without = await tablesOf(copyOf("a.db", damaged), "shown");
    expect(without.problem).toContain("the names of tables and columns are gone");
    expect(without.tables.reduce((sum, { total }) => sum + Number(total), 0)).toBe(8);
    damaged.fill(0xee);
    damaged.set(bytes.subarray(0, 16));
    await expect(tablesOf(copyOf("a.db", damaged), "shown")).rejects.toThrow("too damaged");
  });

  it("of great length give as many rows as are asked for", async () => {
    const long = await sheet(
      ["n"],
      Array.from({ length: 500 }, (_, index) => [index]),
    );
    const copy = copyOf("a.xlsx", long);
    expect((await tablesOf(copy, "shown")).tables[0]?.rows.length).toBe(200);
    expect((await tablesOf(copy, "compared")).tables[0]?.rows.length).toBe(501);
  });
});

describe("archives", () => {
  it("are listed, and where they are damaged is said", async () => {
    const bytes = archive({ "spring.txt": "spring ".repeat(400), "summer.txt": "summer" });
    const sound = await archiveOf(copyOf("a.zip", bytes));
    expect(sound.members.map((member) => [member.name, member.size])).toEqual([
      ["spring.txt", 2800],
      ["summer.txt", 6],
    ]);
    expect(sound.problem).toBeNull();
    const damaged = Buffer.from(bytes);
    damaged.fill(0, 45, 60);
    expect((await archiveOf(copyOf("a.zip", damaged))).problem).toContain("spring.txt");
    expect((await archiveOf(copyOf("a.zip", bytes.subarray(0, 60)))).members).toEqual([]);
  });
});

describe("pictures", () => {
  it("are drawn anew, never given as they are", async () => {
    const copy = copyOf("a.jpg", await photograph("trails", 5, 400, 300, 80));
    const drawn = await picturePreview(copy, 200);
    expect(await sharp(drawn).metadata()).toMatchObject({ format: "webp", width: 200, height: 150 });
    expect((await sharp(await drawnThumbnail(copy)).metadata()).width).toBe(240);
  });

  it("cut off are drawn as far as they go; what is none is refused in words", async () => {
    const whole = await photograph("trails", 6, 400, 300, 80);
    expect((await sharp(await picturePreview(copyOf("a.jpg", whole.subarray(0, whole.length / 2)), 400)).metadata()).width).toBe(400);
    await expect(picturePreview(copyOf("a.jpg", Buffer.from("no picture at all")), 400)).rejects.toThrow("too damaged");
  });
});

/** Read here instead of in a process of its own. */
const inProcess = (copy: StoredCopy) => ({
  begins: () => beginningOf(copy),
  bytes: (at: number, length: number) => bytesOf(copy, at, length),
});
const played = (copy: StoredCopy, range: string | null) => playedContent(copy, range, inProcess(copy));

describe("content for players", () => {
  const copy = () => copyOf("a.wav", bell(300, 0.5));

  it("comes whole or by the asked range, as an attachment in which nothing may run", async () => {
    const wave = bell(300, 0.5);
    const whole = await played(copy(), null);
    expect([whole.status, whole.headers.get("content-type")]).toEqual([200, "audio/wav"]);
    expect(whole.headers.get("content-security-policy")).toContain("sandbox");
    expect(Buffer.from(await whole.arrayBuffer()).equals(wave)).toBe(true);
    const part = await played(copy(), "bytes=100-199");
    expect([part.status, part.headers.get("content-range")]).toEqual([206, `bytes 100-199/${wave.length}`]);
    expect(Buffer.from(await part.arrayBuffer()).equals(wave.subarray(100, 200))).toBe(true);
    const tail = await played(copy(), "bytes=-50");
    expect(Buffer.from(await tail.arrayBuffer()).equals(wave.subarray(wave.length - 50))).toBe(true);
  });

  it.each(["bytes=999999-", "bytes=5-2", "bytes=-", "lines=1-2"])("the range %s is refused", async (range) => {
    await expect(played(copy(), range)).rejects.toMatchObject({ status: 416 });
  });

  it.each([
    ["evil.svg", '<svg xmlns="http://www.w3.org/2000/svg" onload="alert(1)"/>'],
    ["evil.html", "<!doctype html><script>alert(1)</script>"],
    ["evil.wav", "<!doctype html><script>alert(1)</script>"],
  ])("%s is never given as itself", async (name, content) => {
    await expect(played(copyOf(name, Buffer.from(content)), null)).rejects.toMatchObject({ status: 415 });
  });

  it("bytes are given within bounds, whatever is asked", async () => {
    const small = copyOf("a.bin", Buffer.from("0123456789"));
    expect(Buffer.from(await bytesOf(small, 3, 4)).toString()).toBe("3456");
    expect((await bytesOf(small, 8, 1_000_000)).length).toBe(2);
    expect((await bytesOf(small, 50, 10)).length).toBe(0);
    expect((await bytesOf(small, -5, 2)).length).toBe(2);
  });
});
