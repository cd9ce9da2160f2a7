/**
 * Builds `demo/images/clubhouse-2011.bkf.gz`: the clubhouse's old backup in the tape format, two sets, with a bad stretch in the first: zeros
 * over a folder's block and some pictures, and a few bytes slipped in further on. The star catalogue lies behind both.
 * Run: npx tsx demo/build-backup-file.ts
 */
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { brightnessTable, letter, nightLog, pdf, sheet } from "./documents";
import { type Motif, photograph, seeded } from "./draw";
import { type TapeFile, writeTape } from "./tape-writer";

const CATALOGUE = "Star catalogue of the society.xlsx";
const STARS = 340;

/** The society's own catalogue: invented numbers and places in the sky. */
async function catalogue(edition: number): Promise<Buffer> {
  const random = seeded(1100 + edition);
  const rows = Array.from({ length: STARS }, (_, i) => [
    `LOS ${String(i + 1).padStart(4, "0")}`,
    Number((24 * random()).toFixed(4)),
    Number((180 * random() - 90).toFixed(3)),
    Number((4 + 8 * random()).toFixed(2)),
    ["variable", "double", "steady"][Math.floor(3 * random())] as string,
  ]);
  return sheet(["Number", "Right ascension, h", "Declination, °", "Brightness, mag", "Kind"], rows);
}

async function contents(edition: number, day: number): Promise<TapeFile[]> {
  const at = (offset: number) => new Date(Date.UTC(2011, 2 + edition, day, 18, offset, 7));
  const files: TapeFile[] = [
    {
      folder: [],
      name: "Read me first.txt",
      content: Buffer.from("Backup of the clubhouse computer. Ask Tomas for the next one.\r\n"),
      modified: at(1),
    },
  ];
  for (const [i, motif] of (["stars", "trails", "moon", "stars", "moon", "trails"] as Motif[]).entries())
    files.push({
      folder: ["Pictures", "Open nights"],
      name: `Open night ${i + 1}.jpg`,
      content: await photograph(motif, 900 + 10 * edition + i, 640, 427, 60, at(5 + i)),
      modified: at(5 + i),
    });
  for (let i = 0; i < 9; i += 1)
    files.push({
      folder: ["Logs", "2011"],
      name: `Night ${String(i + 1).padStart(2, "0")}.txt`,
      content: Buffer.from(nightLog(at(i), 70 + 10 * edition + i)),
      modified: at(20 + i),
    });
  files.push({
    folder: ["Catalogue"],
    name: "Letter to the members.docx",
    content: await letter([
      "Dear members,",
      `The catalogue is in its edition ${edition + 1} now.`,
      "Please send corrections to the clubhouse.",
    ]),
    modified: at(40),
  });
  files.push({
    folder: ["Catalogue"],
    name: "Brightness of the variables.csv",
    content: Buffer.from(brightnessTable(40 + edition, 120)),
    modified: at(41),
  });
  files.push({ folder: ["Catalogue"], name: CATALOGUE, content: await catalogue(edition), modified: at(42) });
  files.push({
    folder: ["Catalogue"],
    name: "How to read the catalogue.pdf",
    content: pdf([["How to read the catalogue", "", "Each star has a number of the society.", "Brightness is in magnitudes."]]),
    modified: at(43),
  });
  return files;
}

async function main(): Promise<void> {
  const sound = writeTape("Clubhouse 2011", [
    { name: "Clubhouse in spring", date: new Date(Date.UTC(2011, 2, 5, 19, 30)), files: await contents(0, 5) },
    { name: "Clubhouse in summer", date: new Date(Date.UTC(2011, 5, 18, 19, 30)), files: await contents(1, 18) },
  ]);
  const damaged = Buffer.from(sound);
  // A bad stretch: from the middle of a picture over the block of the next folder into its first logs.
  const logs = damaged.indexOf(Buffer.from("Logs\0", "utf16le"));
  damaged.fill(0, logs - 9_000, logs + 5_000);
  // Further on, in one of the logs, seven bytes that are not its own.
  const slip = damaged.indexOf(Buffer.from("Night 08.txt", "utf16le")) + 400;
  const all = Buffer.concat([damaged.subarray(0, slip), Buffer.alloc(7, 0x5a), damaged.subarray(slip)]);
  writeFileSync(join(import.meta.dirname, "images", "clubhouse-2011.bkf.gz"), gzipSync(all, { level: 9 }));
}

await main();
