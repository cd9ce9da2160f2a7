import { execFileSync, spawnSync } from "node:child_process";
import { existsSync, mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import type { HandoverDocument } from "../report";
import { handoverAsPdf } from "./as-pdf";
import { breakLines, Typeface } from "./typeface";

const work = mkdtempSync(join(tmpdir(), "compass-pdf-"));
const HASH = "ab".repeat(32);

async function* rowsOf(count: number, name: (index: number) => string) {
  for (let index = 0; index < count; index += 1) yield [name(index), "verified, complete"];
}
function document(rows: () => AsyncIterable<string[]>): HandoverDocument {
  return {
    title: "Thesis drafts – “Über Brücken”",
    lead: ["For Rowan Ash. Job 7/26.", "As of 12 March 2026, 10:00; all times are Europe/London."],
    sections: [
      { title: "What was lost", blocks: [{ kind: "text", text: `A text of many words. ${"It goes on and on. ".repeat(120)}` }] },
      { title: "What was searched", blocks: [{ kind: "list", items: [{ text: "laptop.img", below: ["volume C", "volume D"] }] }] },
      { title: "What was restored", blocks: [{ kind: "rows", head: ["File", "Result"], rows }] },
      { title: "Received", blocks: [{ kind: "signature", lines: ["Date", "Client", "Technician"] }] },
    ],
  };
}

async function write(name: string, handover: HandoverDocument): Promise<string> {
  const pieces: Buffer[] = [];
  for await (const piece of handoverAsPdf(handover)) pieces.push(piece);
  const path = join(work, name);
  writeFileSync(path, Buffer.concat(pieces));
  return path;
}
const tools = existsSync("/usr/bin/qpdf") && existsSync("/usr/bin/pdfinfo");
const run = (program: string, ...args: string[]) => execFileSync(program, args, { encoding: "utf8" });

describe.skipIf(!tools)("the handover as PDF, as other programs read it", () => {
  it("is sound, tagged, in English, with its title and every font in it", { tags: "long" }, async () => {
    const path = await write(
      "plain.pdf",
      document(() => rowsOf(300, (index) => `/Users/rowan/Pictures/Cove/IMG_${index}.jpg`)),
    );
    const checked = spawnSync("qpdf", ["--check", path], { encoding: "utf8" });
    expect(checked.status, checked.stdout + checked.stderr).toBe(0);
    const info = run("pdfinfo", path);
    expect(info).toMatch(/^Title:\s+Thesis drafts – “Über Brücken”$/m);
    expect(info).toMatch(/^Tagged:\s+yes$/m);
    expect(info).toMatch(/^JavaScript:\s+no$/m);
    const pages = Number(/^Pages:\s+(\d+)$/m.exec(info)?.[1]);
    expect(pages).toBeGreaterThan(5);
    const fonts = run("pdffonts", path).trim().split("\n").slice(2);
    expect(fonts.length).toBeGreaterThan(1);
    // The columns end "emb sub uni object ID".
    for (const font of fonts) expect(font).toMatch(/ yes yes yes +\d+ +\d+$/);
    const text = run("pdftotext", "-layout", path, "-");
    for (const number of Array.from({ length: pages }, (_, index) => index + 1)) expect(text).toContain(`Page ${number}`);
  });

  it("has every row, whatever it is called, and the head of the table on every page", { tags: "long" }, async () => {
    const names = [
      "a & <b>.txt",
      "Отчёт за март.docx",
      "Ελληνικά.odt",
      "Łódź – żółć.pdf",
      "tiếng Việt.txt",
      "日本.txt",
      "x\u202egpj.exe",
      "a\u0000b",
      "😀.png",
      `${"long".repeat(60)}.txt`,
      HASH,
    ];
    const path = await write(
      "names.pdf",
      document(() => rowsOf(220, (index) => `${index} ${names[index % names.length]}`)),
    );
    expect(spawnSync("qpdf", ["--check", path]).status).toBe(0);
    const text = run("pdftotext", "-raw", path, "-").normalize("NFC");
    const flat = text.replace(/\s+/g, "");
    for (let index = 0; index < 220; index += 1) {
      const [letter = ""] = names[index % names.length] as string;
      expect(flat.includes(`${index}${letter.replace(/[日😀]/u, "U+")}`), `row ${index}`).toBe(true);
    }
    for (const name of [
      "a&<b>.txt",
      "Отчётзамарт.docx",
      "Ελληνικά.odt",
      "Łódź–żółć.pdf",
      "tiếngViệt.txt",
      "U+65E5U+672C.txt",
      "U+1F600.png",
      HASH,
    ])
      expect(flat).toContain(name);
    // A name that turns the reading direction does not turn the line.
    expect(flat).toContain("xgpj.exe");
    const pages = Number(/^Pages:\s+(\d+)$/m.exec(run("pdfinfo", path))?.[1]);
    expect(text.match(/^File Result/gm)?.length ?? 0).toBeGreaterThanOrEqual(pages - 3);
  });

  it("of more rows than a document takes says how many there are", { tags: "long" }, async () => {
    const path = await write(
      "many.pdf",
      document(() => rowsOf(20_500, (index) => `row ${index}`)),
    );
    expect(run("pdftotext", path, "-").replace(/\s+/g, " ")).toMatch(/The first 20.000 of 20.500 rows/);
  });
});

describe("lines", () => {
  const typeface = new Typeface(400);
  it("lose no letter and are no wider than they may be, wherever they break", () => {
    for (const text of ["/Users/rowan/Pictures/Cove/IMG_0001.jpg", "short", "", "word ".repeat(80), "x".repeat(500), "Отчёт ".repeat(30)])
      for (const width of [3_000, 8_000, 30_000]) {
        const lines = breakLines(typeface, text, width);
        for (const line of lines) expect(line.width).toBeLessThanOrEqual(width);
        const letters = lines.flatMap(({ runs }) => runs.map((run) => run.text)).join("");
        expect(letters.replace(/\s/g, "")).toBe(text.replace(/\s/g, ""));
      }
  });
});
