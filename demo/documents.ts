import { Document, HeadingLevel, Packer, Paragraph } from "docx";
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
