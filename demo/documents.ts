import { Document, HeadingLevel, Packer, Paragraph } from "docx";
import { strToU8, zipSync } from "fflate";
import initSql from "sql.js";
import writeExcelFile from "write-excel-file/node";
import { seeded } from "./draw";

/** A text document: the first line is its heading, lines that begin with "# " are headings too. */
export async function letter(lines: readonly string[]): Promise<Buffer> {
  const children = lines.map((line, index) =>
    index === 0
      ? new Paragraph({ text: line, heading: HeadingLevel.HEADING_1 })
      : line.startsWith("# ")
        ? new Paragraph({ text: line.slice(2), heading: HeadingLevel.HEADING_2 })
        : new Paragraph(line),
  );
  return Packer.toBuffer(new Document({ creator: "Larkfield Observatory Society", sections: [{ children }] }));
}

export async function sheet(head: readonly string[], rows: readonly (readonly (string | number)[])[]): Promise<Buffer> {
  const data = [head.map((value) => ({ value, fontWeight: "bold" as const })), ...rows.map((row) => row.map((value) => ({ value })))];
  const made = (await writeExcelFile(data as never)) as unknown as { toBuffer(): Promise<Buffer> };
  return made.toBuffer();
}

/** The observing workbook, with the magnitudes of so many nights; the others are zeros. */
export const workbook = (nights: number): Promise<Buffer> =>
  sheet(
    ["Night", "Star", "Magnitude"],
    Array.from({ length: 300 }, (_, i) => [
      2_461_000 + i,
      "R Leonis",
      i < nights ? Math.round((7.5 + 2.5 * Math.sin(i / 20)) * 100) / 100 : 0,
    ]),
  );

export const FUNDING_DRAFT = [
  "Application for a 400 mm reflector",
  "Draft. To be read by the committee before the end of February.",
  "# What the money is for",
  "A new primary mirror of 400 mm and its cell.",
];

export const FUNDING_APPLICATION = [
  "Application for a 400 mm reflector",
  "The Society asks for support to replace the mirror cell of the clubhouse telescope, in use since the opening night. Members gave 212 public evenings last year, on every clear night and on some that were not.",
  "# What the money is for",
  "A new primary mirror of 400 mm, its cell, and the roof’s second rail.",
  "The old mirror was made by members in the winter of the great frost. It has served well, but its coating has gone three times.",
  "# Who will use it",
  "Schools in the valley on Thursdays; members on clear nights; the variable-star group all year.",
  "# What we bring ourselves",
  "Four hundred hours of work, the concrete of the pier, and the tea.",
  "# The sum",
  "Mirror 3,200; cell 640; rail 410; carriage 95.",
];

const OBJECTS = [
  "Beta Lyrae",
  "the Double Cluster",
  "M 13",
  "M 31",
  "the Pleiades",
  "Mizar",
  "Albireo",
  "the Moon, day 8",
  "Saturn",
  "R Leonis",
  "Mira",
  "the Ring",
];
const REMARKS = [
  "steady air",
  "thin cloud from the west",
  "dew on the finder",
  "very clear after midnight",
  "the roof stuck again",
  "four visitors",
  "seeing 3 of 5",
  "the owl was back",
];

/** An observing log of one night. */
export function nightLog(night: Date, seed: number): string {
  const random = seeded(seed);
  const lines = [
    `Observing log, ${night.toISOString().slice(0, 10)}`,
    `Observer: ${["mo", "T. Vale", "K. Osei", "R. Lindqvist"][Math.floor(random() * 4)]}`,
    "",
  ];
  for (let hour = 20; hour < 24; hour += 1) {
    const object = OBJECTS[Math.floor(random() * OBJECTS.length)];
    const remark = REMARKS[Math.floor(random() * REMARKS.length)];
    lines.push(
      `${hour}:${String(Math.floor(random() * 60)).padStart(2, "0")}  ${object}; ${remark}; magnitude ${(2 + random() * 9).toFixed(1)}`,
    );
  }
  return `${lines.join("\r\n")}\r\n`;
}

/** Brightness of a variable star, a row a night. */
export function brightnessTable(seed: number, nights: number): string {
  const random = seeded(seed);
  const rows = ["night,star,magnitude,observer"];
  for (let i = 0; i < nights; i += 1)
    rows.push(`${2_461_000 + i},R Leonis,${(7.5 + 2.5 * Math.sin(i / 20) + random() * 0.2).toFixed(2)},mo`);
  return `${rows.join("\r\n")}\r\n`;
}

/** A PDF document of one page a text, by hand: ISO 32000-1, 7.5 (header, objects, cross-reference table, trailer). */
export function pdf(pages: readonly (readonly string[])[]): Buffer {
  const escaped = (line: string) => line.replace(/[\\()]/g, "\\$&");
  const objects: string[] = [
    "<< /Type /Catalog /Pages 2 0 R >>",
    `<< /Type /Pages /Count ${pages.length} /Kids [${pages.map((_, index) => `${4 + 2 * index} 0 R`).join(" ")}] >>`,
    "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
  ];
  for (const [index, lines] of pages.entries()) {
    const words = `BT /F1 13 Tf 60 780 Td 20 TL\n${lines.map((line) => `(${escaped(line)}) Tj T*`).join("\n")}\nET`;
    objects.push(
      `<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Resources << /Font << /F1 3 0 R >> >> /Contents ${5 + 2 * index} 0 R >>`,
      `<< /Length ${words.length} >>\nstream\n${words}\nendstream`,
    );
  }
  let text = "%PDF-1.4\n";
  const offsets = objects.map((object, index) => {
    const at = text.length;
    text += `${index + 1} 0 obj\n${object}\nendobj\n`;
    return at;
  });
  const table = offsets.map((at) => `${String(at).padStart(10, "0")} 00000 n \n`).join("");
  const start = text.length;
  text += `xref\n0 ${objects.length + 1}\n0000000000 65535 f \n${table}trailer\n<< /Size ${objects.length + 1} /Root 1 0 R >>\nstartxref\n${start}\n%%EOF\n`;
  return Buffer.from(text, "latin1");
}

/** A tone that dies away, as a RIFF WAVE file of 16-bit samples. */
export function bell(hertz: number, seconds: number): Buffer {
  const rate = 8000;
  const count = Math.floor(rate * seconds);
  const wave = Buffer.alloc(44 + 2 * count);
  wave.write("RIFF", 0, "latin1");
  wave.writeUInt32LE(36 + 2 * count, 4);
  wave.write("WAVEfmt ", 8, "latin1");
  wave.writeUInt32LE(16, 16);
  wave.writeUInt16LE(1, 20);
  wave.writeUInt16LE(1, 22);
  wave.writeUInt32LE(rate, 24);
  wave.writeUInt32LE(2 * rate, 28);
  wave.writeUInt16LE(2, 32);
  wave.writeUInt16LE(16, 34);
  wave.write("data", 36, "latin1");
  wave.writeUInt32LE(2 * count, 40);
  for (let i = 0; i < count; i += 1) {
    wave.writeInt16LE(Math.round(14_000 * Math.sin((2 * Math.PI * hertz * i) / rate) * Math.exp((-3 * i) / count)), 44 + 2 * i);
  }
  return wave;
}

/** A ZIP archive of texts. */
export function archive(texts: Readonly<Record<string, string>>): Buffer {
  const mtime = "2025-11-01T12:00:00Z";
  return Buffer.from(zipSync(Object.fromEntries(Object.entries(texts).map(([name, text]) => [name, [strToU8(text), { mtime }]]))));
}

/** The members' list as a database. */
export async function membersDatabase(): Promise<Buffer> {
  const sql = await initSql();
  const database = new sql.Database();
  database.run(
    "create table members (number integer primary key, name text, since integer); create table loans (member integer, what text, due text)",
  );
  const names = ["Ada Quill", "Bertram Moss", "Cleo Vane", "Dorian Pike", "Esme Larch", "Fritz Alder"];
  for (const [index, name] of names.entries()) database.run("insert into members values (?, ?, ?)", [index + 1, name, 2003 + 3 * index]);
  database.run("insert into loans values (2, 'the 8-inch Dobsonian', '2026-04-01'), (5, 'two red torches', '2026-03-20')");
  const bytes = Buffer.from(database.export());
  database.close();
  return bytes;
}
