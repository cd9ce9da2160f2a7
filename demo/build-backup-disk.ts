/**
 * Builds `demo/images/clubhouse-backup-disk.json.gz`: the clubhouse's backup disk, to be laid out as a folder. It has dated copies of the
 * secretary's files, dated trees of the clubhouse's desk computer, and a set of archives. The observing workbook was overwritten by a wrong
 * edit on 11 March 2026; the copies before have it as it was. Run: npx tsx demo/build-backup-disk.ts
 */
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { archive, brightnessTable, FUNDING_APPLICATION, FUNDING_DRAFT, letter, nightLog, workbook } from "./documents";
import type { PackedFiles } from "./lay-out";

const files: Record<string, PackedFiles[string]> = {};
const put = (path: string, content: Buffer | string, modified: string): void => {
  files[path] = { content: Buffer.from(content).toString("base64"), modified };
};

/** A version as the program that makes dated copies writes it. */
function dated(path: string, content: Buffer | string, modified: string, run: string): void {
  const dot = path.lastIndexOf(".");
  const stamp = run.replace("T", " ").replaceAll(/[-:]/g, "_").replace("Z", " UTC");
  put(`mo/LARKFIELD-LT/Data/C/Users/mo/Documents/${path.slice(0, dot)} (${stamp})${path.slice(dot)}`, content, modified);
}

async function datedCopies(): Promise<void> {
  const sound = [
    ["2026-02-01T19:00:00Z", 262],
    ["2026-02-15T19:00:00Z", 276],
    ["2026-03-01T19:00:00Z", 290],
    ["2026-03-09T22:30:00Z", 300],
  ] as const;
  for (const [run, nights] of sound) dated("Observing workbook.xlsx", await workbook(nights), run.replace(/T.*/, "T17:40:00Z"), run);
  dated("Observing workbook.xlsx", await workbook(212), "2026-03-11T21:20:00Z", "2026-03-12T19:00:00Z");
  dated("Funding/Funding application draft.docx", await letter(FUNDING_DRAFT), "2026-02-20T18:12:00Z", "2026-03-01T19:00:00Z");
  dated("Funding/Funding application draft.docx", await letter(FUNDING_APPLICATION), "2026-03-08T10:05:00Z", "2026-03-09T22:30:00Z");
  for (let index = 0; index < 12; index += 1) {
    const night = new Date(Date.UTC(2026, 0, 20 + index, 23, 30));
    dated(`Logs/Log ${night.toISOString().slice(0, 10)}.txt`, nightLog(night, 300 + index), night.toISOString(), "2026-02-01T19:00:00Z");
  }
}

const HOUR = 3_600_000;
const two = (value: number) => String(value).padStart(2, "0");

/** A state of the desk computer: what did not change is a further name of the file in the state before. */
function state(at: Date, tree: Readonly<Record<string, readonly [content: string, modified: string]>>, before: string | null): string {
  // The computer's clock is an hour ahead of UTC.
  const local = new Date(at.getTime() + HOUR);
  const [year, month, day, hour, minute, second] = [
    local.getUTCFullYear(),
    local.getUTCMonth() + 1,
    local.getUTCDate(),
    local.getUTCHours(),
    local.getUTCMinutes(),
    local.getUTCSeconds(),
  ];
  const folder = `Desk computer/${year}-${two(month)}-${two(day)}-${two(hour)}${two(minute)}${two(second)}`;
  for (const [path, [content, modified]] of Object.entries(tree)) {
    const target = `${folder}/Desk drive/${path}`;
    const earlier = before === null ? undefined : files[`${before}/Desk drive/${path}`];
    const packed = Buffer.from(content).toString("base64");
    const original = earlier && "link" in earlier ? earlier.link : `${before}/Desk drive/${path}`;
    const same = files[original];
    if (same && "content" in same && same.content === packed) files[target] = { link: original, modified };
    else files[target] = { content: packed, modified };
  }
  files[folder] = { folder: true, modified: at.toISOString() };
  return folder;
}

function datedTrees(): void {
  let before: string | null = null;
  const rota = ["Thursday: mo", "Friday: T. Vale", "Saturday: K. Osei", "Sunday: R. Lindqvist"];
  const loans = "member,what,due\r\nB. Moss,8-inch Dobsonian,2026-04-01\r\nE. Larch,two red torches,2026-03-20\r\n";
  for (let week = 0; week < 10; week += 1) {
    const at = new Date(Date.UTC(2026, 0, 4 + 7 * week, 17, 30, week));
    const tree: Record<string, readonly [string, string]> = {
      "Users/desk/Documents/Rota.txt": [
        `${rota.slice(0, 1 + Math.floor(week / 3)).join("\r\n")}\r\n`,
        new Date(at.getTime() - (week % 3) * 7 * 24 * HOUR - HOUR).toISOString(),
      ],
      "Users/desk/Documents/House rules.txt": [
        "The roof is closed by whoever leaves last.\r\nNo white light after dusk.\r\n",
        "2025-10-02T18:00:00Z",
      ],
      "Users/desk/Documents/Brightness/R Leonis.csv": [
        brightnessTable(21, 120 + 7 * week),
        new Date(at.getTime() - 2 * HOUR).toISOString(),
      ],
    };
    // The list of loans was deleted at the end of February.
    if (week < 8) tree["Users/desk/Documents/Loans.csv"] = [loans, "2025-12-14T11:20:00Z"];
    for (let night = 0; night <= week; night += 1) {
      const date = new Date(Date.UTC(2026, 0, 3 + 7 * night, 23, 30));
      tree[`Users/desk/Documents/Visitors/Visitors ${date.toISOString().slice(0, 10)}.txt`] = [
        nightLog(date, 500 + night),
        date.toISOString(),
      ];
    }
    before = state(at, tree, before);
  }
}

function archiveSet(): void {
  const set = "LARKFIELD-LT/Backup set 2026-01-04 180000";
  const run = (folder: string, texts: Readonly<Record<string, string>>, modified: string) =>
    put(`${set}/Backup files ${folder}/Backup files 1.zip`, archive(texts), modified);
  const documents = "C/Users/mo/Documents";
  run(
    "2026-01-04 180000",
    {
      [`${documents}/Minutes/Minutes 2025-11.txt`]: "Present: eleven. The pier is dry.\r\n",
      [`${documents}/Minutes/Minutes 2025-12.txt`]: "Present: nine. The tea urn is to be mended.\r\n",
      [`${documents}/Members.csv`]: "number,name\r\n1,Ada Quill\r\n2,Bertram Moss\r\n3,Cleo Vane\r\n",
    },
    "2026-01-04T17:00:12Z",
  );
  run(
    "2026-02-01 180004",
    {
      [`${documents}/Minutes/Minutes 2026-01.txt`]: "Present: fourteen. The roof stuck again.\r\n",
      [`${documents}/Members.csv`]: "number,name\r\n1,Ada Quill\r\n2,Bertram Moss\r\n3,Cleo Vane\r\n4,Dorian Pike\r\n",
    },
    "2026-02-01T17:00:16Z",
  );
}

await datedCopies();
datedTrees();
archiveSet();
const packed = gzipSync(JSON.stringify(files), { level: 9 });
writeFileSync(join(import.meta.dirname, "images", "clubhouse-backup-disk.json.gz"), packed);
console.log(`clubhouse-backup-disk.json.gz: ${(packed.length / 1024).toFixed(0)} KiB, ${Object.keys(files).length} entries`);
