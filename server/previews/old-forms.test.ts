import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { beforeAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { carveImage } from "../../tests/support/lab-files";
import { storedCopyOf } from "../../tests/support/stored-copy";
import { fixture } from "../../tests/support/volume-truth";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { archiveOf } from "./archives";
import { previewFacts } from "./facts";
import { tablesOf } from "./tables";
import { documentText } from "./texts";

/** Files that office suites, mail programs and packers wrote, as they stand in the image without a file system. */
let work: string;
beforeAll(() => {
  work = mkdtempSync(join(tmpdir(), "compass-old-forms-"));
  process.env.COMPASS_SOURCES = work;
});

const copyOf = (name: string, content: Uint8Array): StoredCopy => storedCopyOf(work, name, content);
function bytesAt(path: string): Buffer {
  const { bytes, files } = carveImage();
  const file = files.find((each) => each.path === path);
  if (!file) throw new Error(`${path} is not in the image`);
  return Buffer.concat(file.extents.map(([, at, length]) => bytes.subarray(at, at + length)));
}
const placed = (path: string) => copyOf(path, bytesAt(path));
const words = async (path: string) => (await documentText(placed(path))).text;

describe("documents of old forms are shown as what they say", () => {
  it("word processing", async () => {
    expect((await previewFacts(placed("report.doc"))).form).toBe("document");
    const [doc, odt] = [await words("letter.doc"), await words("letter.odt")];
    const said = (text: string) => text.split(/\s+/).filter((word) => word.length > 4);
    // The same letter, written by the same suite in its own form.
    const shared = said(odt).filter((word) => doc.includes(word)).length;
    expect(shared / said(odt).length).toBeGreaterThan(0.9);
    const rtf = await words("letter.rtf");
    expect(said(odt).filter((word) => rtf.includes(word)).length / said(odt).length).toBeGreaterThan(0.9);
    expect(rtf).not.toMatch(/\\[a-z]+|[{}]/);
  });

  it("presentations", async () => {
    const [old, open] = [await words("talk.ppt"), await words("talk.pptx")];
    const said = open.split(/\s+/).filter((word) => word.length > 4);
    expect(said.length).toBeGreaterThan(3);
    expect(said.filter((word) => old.includes(word)).length / said.length).toBeGreaterThan(0.9);
  });

  it("workbooks, cell by cell as in their newer form", async () => {
    expect((await previewFacts(placed("budget.xls"))).form).toBe("tables");
    const [old, open] = [await tablesOf(placed("budget.xls"), "compared"), await tablesOf(placed("budget.xlsx"), "compared")];
    expect(old.tables.map(({ name }) => name)).toEqual(open.tables.map(({ name }) => name));
    const cells = ({ rows }: (typeof old.tables)[number]) =>
      rows.map((row) =>
        row.map((cell) => (Number.isFinite(Number(cell)) && cell !== "" ? String(Number(Number(cell).toPrecision(10))) : cell)),
      );
    for (const [index, table] of old.tables.entries())
      expect(cells(table)).toEqual(cells(open.tables[index] as (typeof open.tables)[number]));
    expect(old.tables[0]?.rows.length).toBeGreaterThan(3);
  });

  describe("of 1995 and of discs", () => {
    // Written by `make-older-forms.mjs`.
    const made = JSON.parse(fixture("older-forms.json.gz").toString()) as Record<string, string>;
    const file = (name: string) => copyOf(name, Buffer.from(made[name] as string, "base64"));
    /** The writer leaves out letters beyond ASCII: they are put in as the code page has them (the published table of windows-1252). */
    const LETTERS = { N_chte: [1, 0xe4], D_neb: [1, 0xe9], Gr__e: [2, 0xf6, 0xdf] } as const;
    function withLetters(): StoredCopy {
      const bytes = Buffer.from(made["nights 1995.xls"] as string, "base64");
      for (const [word, [at, ...letters]] of Object.entries(LETTERS)) {
        const found = bytes.indexOf(word, 0, "latin1");
        if (found < 0) throw new Error(`${word} is not in the workbook`);
        bytes.set(letters, found + at);
      }
      return copyOf("nights 1995.xls", bytes);
    }

    it("workbooks of the version before, with letters of their code page, cell by cell as in their newest form", async () => {
      expect((await previewFacts(file("nights 1995.xls"))).form).toBe("tables");
      const [old, open] = [await tablesOf(withLetters(), "compared"), await tablesOf(file("nights.xlsx"), "compared")];
      expect(old.problem).toBeNull();
      expect(old.tables.map(({ name }) => name)).toEqual(["Nächte", "Sums"]);
      expect(old.tables.map(({ rows }) => rows)).toEqual(open.tables.map(({ rows }) => rows));
      expect(old.tables[0]?.rows.flat()).toEqual(expect.arrayContaining(["Déneb", "Größe"]));
    });

    it("cut or damaged ones are answered in words or in part, never by a fault", async () => {
      const whole = Buffer.from(made["nights 1995.xls"] as string, "base64");
      const random = seeded(5);
      for (let round = 0; round < 200; round += 1) {
        const bytes = Buffer.from(whole);
        for (let hits = 0; hits < 8; hits += 1) bytes[512 + Math.floor(random() * (bytes.length - 512))] = Math.floor(random() * 256);
        const found = await tablesOf(copyOf("a.xls", bytes), "shown").catch((error: unknown) => error);
        if (found instanceof Error) expect(found).toBeInstanceOf(Problem);
      }
    });

    it("disc images, as lists of what is on them", async () => {
      expect((await previewFacts(file("disc.iso"))).form).toBe("archive");
      const { members, problem } = await archiveOf(file("disc.iso"));
      expect(problem).toBeNull();
      expect(members.map(({ name, size }) => [name, size]).filter(([, size]) => size)).toEqual(
        expect.arrayContaining([
          ["Minutes/spring meeting.txt", 1600],
          ["read me first.txt", 6],
        ]),
      );
    });
  });

  it("mail, with what hangs on it", async () => {
    const mail = await words("with attachment.eml");
    expect(mail).toMatch(/^From: .+/m);
    expect(mail).toMatch(/^Subject: .+/m);
    expect(mail).toMatch(/^Attached: .+\..+/m);
    expect(mail).not.toContain("Content-Transfer-Encoding");
  });

  it("web pages, without what they would fetch or run", async () => {
    const page = await documentText(
      copyOf(
        "a.html",
        Buffer.from(
          "<html><head><style>p{}</style><script>alert(1)</script></head><body><h1>The dome</h1><p>Twelve <b>metres</b> &amp; more</p><img src=x onerror=alert(2)></body></html>",
        ),
      ),
    );
    expect(page.text.trim()).toBe("The dome\n\nTwelve metres & more");
    expect(await words("saved page.html")).not.toMatch(/<[a-z]|function\s*\(/i);
  });

  it("archives of every kind, as lists", async () => {
    const names = async (path: string) => (await archiveOf(placed(path))).members.map(({ name }) => name);
    expect(await names("backup.tar")).toContain("saved page.html");
    expect((await names("backup.tar.gz")).sort()).toEqual((await names("backup.tar")).sort());
    // Cut off by its maker: its list stood at the end.
    expect(await archiveOf(placed("solid.7z"))).toMatchObject({ count: 0, problem: expect.stringContaining("No list of contents") });
    const more = (JSON.parse(fixture("more-files.json.gz").toString()) as { files: { name: string; id: string; content: string }[] }).files;
    for (const { name, content } of more.filter(({ id }) => id === "cab")) {
      const listed = await archiveOf(copyOf(name, Buffer.from(content, "base64")));
      expect(listed.members.length, name).toBeGreaterThan(0);
      expect(listed.problem).toBeNull();
    }
    expect((await archiveOf(placed("log.gz"))).count).toBe(1);
    expect((await archiveOf(copyOf("cut.7z", Buffer.from("7z\xbc\xaf\x27\x1c\0\x04 nothing behind it", "latin1")))).problem).toBeTruthy();
  });

  it("damaged ones say so in words", async () => {
    const broken = Buffer.from(bytesAt("report.doc"));
    broken.fill(0xff, 512, broken.length);
    await expect(documentText(copyOf("report.doc", broken))).rejects.toThrow("too damaged to be read");
  });
});
