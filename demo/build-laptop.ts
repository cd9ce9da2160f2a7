/**
 * Builds `demo/images/secretary-laptop.img.gz`, the secretary's Windows laptop: a GPT disk with one NTFS volume, written
 * by the real driver. Needs root, FUSE and Debian's ntfs-3g, gdisk and attr. Run: npx tsx demo/build-laptop.ts
 */
import { execFileSync } from "node:child_process";
import {
  appendFileSync,
  closeSync,
  existsSync,
  fsyncSync,
  mkdirSync,
  mkdtempSync,
  openSync,
  readFileSync,
  rmdirSync,
  rmSync,
  truncateSync,
  utimesSync,
  writeFileSync,
  writeSync,
} from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { gzipSync } from "node:zlib";
import {
  archive,
  bell,
  brightnessTable,
  FUNDING_APPLICATION,
  FUNDING_DRAFT,
  letter,
  membersDatabase,
  nightLog,
  pdf,
  sheet,
} from "./documents";
import { photograph } from "./draw";

const MIB = 1 << 20;
const VOLUME_MIB = 60;
const START_MIB = 2;

const work = mkdtempSync(join(tmpdir(), "laptop-"));
const volume = join(work, "volume.img");
const mount = join(work, "mount");
const run = (command: string, ...args: string[]) => execFileSync(command, args, { stdio: ["ignore", "ignore", "inherit"] });

interface Dated {
  path: string;
  made: Date;
}
const dated: Dated[] = [];

function put(path: string, content: Buffer | string, made: string): void {
  const target = join(mount, path);
  mkdirSync(dirname(target), { recursive: true });
  writeFileSync(target, content);
  dated.push({ path, made: new Date(made) });
}

/** Dates as the files would have them: last change, and made a little before. */
function setDates(): void {
  for (const { path, made } of dated.splice(0)) {
    const target = join(mount, path);
    if (!existsSync(target)) continue;
    utimesSync(target, made, made);
    const filetime = (ms: number) => (BigInt(ms) + 11_644_473_600_000n) * 10_000n;
    const times = Buffer.alloc(32);
    times.writeBigUInt64LE(filetime(made.getTime() - 3_600_000), 0);
    for (const at of [8, 16]) times.writeBigUInt64LE(filetime(made.getTime()), at);
    times.writeBigUInt64LE(filetime(made.getTime()), 24);
    run("setfattr", "-h", "-n", "system.ntfs_times", "-v", `0x${times.toString("hex")}`, target);
  }
}

function remove(...paths: string[]): void {
  for (const path of paths) rmSync(join(mount, path));
}

/** Two files grown in turns, so that the driver lays them down in pieces between each other. */
function putInTurns(first: string, second: string, content: Buffer, made: string): void {
  for (const path of [first, second]) put(path, "", made);
  for (let at = 0; at < content.length; at += 16_384) {
    for (const path of [first, second]) {
      appendFileSync(join(mount, path), content.subarray(at, at + 16_384));
      const file = openSync(join(mount, path), "r+");
      fsyncSync(file);
      closeSync(file);
    }
  }
}

const SPENT = Array.from({ length: 8 }, (_, i) => `Windows/Temp/step ${i + 1}.tmp`);

/** The observing workbook; every night after the given one was lost by a wrong edit. */
function workbook(nights: number): Promise<Buffer> {
  const row = (i: number) => [2_461_000 + i, "R Leonis", i < nights ? Math.round((7.5 + 2.5 * Math.sin(i / 20)) * 100) / 100 : 0];
  return sheet(
    ["Night", "Star", "Magnitude"],
    Array.from({ length: 300 }, (_, i) => row(i)),
  );
}

async function fill(): Promise<void> {
  const home = "Users/mo";
  // The driver gives a new file the lowest free record: these, deleted with the rest, keep the client's records free.
  for (const name of SPENT) put(name, "spent\r\n", "2024-05-02T08:00:00Z");
  put("Windows/System32/config/readme.txt", "Placeholder of the demo's invented system.\r\n", "2024-05-02T08:00:00Z");
  put("Windows/Logs/setup.log", "setup finished\r\n".repeat(400), "2024-05-02T08:10:00Z");
  put("Program Files/Chart Plotter/plotter.ini", "[view]\r\nzoom=3\r\nnight=1\r\n", "2024-06-11T19:00:00Z");

  put(`${home}/Documents/Funding/Funding application draft.docx`, await letter(FUNDING_DRAFT), "2026-02-20T18:12:00Z");
  put(`${home}/Documents/Funding/Funding application.docx`, await letter(FUNDING_APPLICATION), "2026-03-12T14:41:00Z");
  put(
    `${home}/Documents/Funding/Funding budget.xlsx`,
    await sheet(
      ["Item", "Pounds"],
      [
        ["Mirror", 3200],
        ["Cell", 640],
        ["Rail", 410],
        ["Carriage", 95],
      ],
    ),
    "2026-03-10T20:05:00Z",
  );
  put(
    `${home}/Documents/Funding/Letter of support, valley school.docx`,
    await letter([
      "Letter of support",
      "Our pupils come to the observatory on Thursdays and would be sorry to miss it.",
      "The head teacher",
    ]),
    "2026-03-01T10:30:00Z",
  );
  put(
    `${home}/Documents/Minutes/Committee 2026-01.docx`,
    await letter(["Committee, January", "Present: six. Apologies: the treasurer.", "# Roof", "The second rail is bent again."]),
    "2026-01-14T21:30:00Z",
  );
  put(
    `${home}/Documents/Minutes/Committee 2026-02.docx`,
    await letter(["Committee, February", "Present: five.", "# Funding", "The secretary will write the application."]),
    "2026-02-11T21:40:00Z",
  );
  put(`${home}/Documents/Observing workbook.xlsx`, await workbook(300), "2026-03-09T22:00:00Z");
  put(
    `${home}/Documents/Funding/Quotation for the mirror.pdf`,
    pdf([
      ["Quotation", "", "One primary mirror, 400 mm, f/4.5, coated", "3,200 pounds, carriage included", "Valid until the end of May"],
      ["Conditions", "", "Half on order, half on delivery.", "The mirror travels in its own crate."],
    ]),
    "2026-02-27T16:00:00Z",
  );
  put(`${home}/Documents/Members.db`, await membersDatabase(), "2026-02-01T10:00:00Z");
  put(`${home}/Music/Closing bell.wav`, bell(520, 3), "2025-05-05T20:00:00Z");
  put(
    `${home}/Documents/Newsletter 2025.zip`,
    archive({ "spring.txt": "The spring newsletter.\n", "summer.txt": "The summer newsletter.\n", "pictures/list.txt": "none yet\n" }),
    "2025-11-02T09:00:00Z",
  );
  put(`${home}/Documents/Größe der Kuppel.txt`, "Durchmesser innen 4,20 m\r\n", "2025-04-02T09:00:00Z");
  put(`${home}/Documents/Наблюдения переменных звёзд.txt`, "R Льва, 7.9\r\n".repeat(90), "2025-10-18T22:00:00Z");
  put(`${home}/Documents/観測メモ.txt`, "月齢八、薄雲。\r\n".repeat(80), "2025-11-03T22:00:00Z");
  put(`${home}/Documents/سجل الرصد.txt`, "ليلة صافية\r\n".repeat(90), "2025-12-09T22:00:00Z");
  put(
    `${home}/Documents/A very long title that somebody once gave to a list of everything that is kept in the cupboard under the stairs of the clubhouse, with the year of purchase where it is known.txt`,
    "eyepieces, 12\r\nred torches, 9\r\n",
    "2023-02-02T12:00:00Z",
  );
  put(`${home}/Documents/Brightness/R Leonis.csv`, brightnessTable(7, 900), "2026-03-08T23:00:00Z");
  put(`${home}/Documents/Brightness/R Leonis old.csv`, brightnessTable(8, 700), "2025-09-08T23:00:00Z");
  for (let i = 0; i < 150; i += 1) {
    const night = new Date(Date.UTC(2025, 8, 1 + i, 23, 30));
    put(`${home}/Documents/Logs/Log ${night.toISOString().slice(0, 10)}.txt`, nightLog(night, 100 + i), night.toISOString());
  }
  const motifs = ["stars", "trails", "moon"] as const;
  for (let i = 0; i < 12; i += 1) {
    const motif = motifs[i % 3] as (typeof motifs)[number];
    put(
      `${home}/Pictures/Night sky/${motif} ${String(i + 1).padStart(2, "0")}.jpg`,
      await photograph(motif, 40 + i),
      `2026-02-${String(3 + i).padStart(2, "0")}T23:10:00Z`,
    );
  }
  putInTurns(
    `${home}/Pictures/Panorama of the valley.jpg`,
    `${home}/Pictures/Panorama, second try.jpg`,
    await photograph("trails", 91, 1700, 700, 80),
    "2026-03-02T21:00:00Z",
  );
  put(`${home}/Pictures/Opening night.jpg`, await photograph("stars", 77, 1500, 1000, 85), "2025-06-21T23:30:00Z");
}

/** What the secretary (and the system after her) deleted. */
function lose(): void {
  const home = "Users/mo";
  remove(...SPENT);
  remove(`${home}/Documents/Funding/Funding application.docx`, `${home}/Documents/Funding/Letter of support, valley school.docx`);
  remove(
    `${home}/Pictures/Panorama of the valley.jpg`,
    `${home}/Pictures/Opening night.jpg`,
    `${home}/Documents/Brightness/R Leonis old.csv`,
  );
  for (const number of ["02", "03", "07", "08", "11"])
    remove(`${home}/Pictures/Night sky/${["stars", "trails", "moon"][(Number(number) - 1) % 3]} ${number}.jpg`);
  for (let i = 0; i < 150; i += 3)
    remove(`${home}/Documents/Logs/Log ${new Date(Date.UTC(2025, 8, 1 + i)).toISOString().slice(0, 10)}.txt`);
  // The workbook was saved anew with a wrong edit, which leaves the sound one as a deleted file of the same name.
  remove(`${home}/Documents/Observing workbook.xlsx`);
  remove(
    `${home}/Documents/Funding/Quotation for the mirror.pdf`,
    `${home}/Documents/Members.db`,
    `${home}/Music/Closing bell.wav`,
    `${home}/Documents/Newsletter 2025.zip`,
  );
  remove(`${home}/Documents/سجل الرصد.txt`, `${home}/Documents/観測メモ.txt`);
}

/** New files written afterwards, which take some of the freed clusters. */
async function overwrite(): Promise<void> {
  put("Users/mo/Documents/Observing workbook.xlsx", await workbook(212), "2026-03-12T09:20:00Z");
  setDates();
  const target = join(mount, "Users/mo/AppData/Local/Temp");
  mkdirSync(target, { recursive: true });
  for (const number of [1, 2]) {
    const file = openSync(join(target, `update-cache ${number}.bin`), "w");
    writeSync(file, await photograph("trails", 499 + number, 620, 420, 80));
    closeSync(file);
  }
}

async function main(): Promise<void> {
  mkdirSync(mount);
  writeFileSync(volume, "");
  truncateSync(volume, VOLUME_MIB * MIB);
  run("mkntfs", "-F", "-Q", "-q", "-L", "Laptop", "-c", "4096", "-p", String((START_MIB * MIB) / 512), "-H", "16", "-S", "63", volume);
  run("ntfs-3g", "-o", "streams_interface=none", volume, mount);
  try {
    await fill();
    setDates();
  } finally {
    run("umount", mount);
  }
  run("ntfs-3g", volume, mount);
  try {
    lose();
  } finally {
    run("umount", mount);
  }
  run("ntfs-3g", volume, mount);
  try {
    await overwrite();
  } finally {
    run("umount", mount);
  }
  rmdirSync(mount);
  const disk = join(work, "disk.img");
  writeFileSync(disk, "");
  truncateSync(disk, (START_MIB + VOLUME_MIB + 1) * MIB);
  run("sgdisk", "-o", "-n", `1:${(START_MIB * MIB) / 512}:+${VOLUME_MIB}M`, "-t", "1:0700", "-c", "1:Basic data partition", disk);
  const file = openSync(disk, "r+");
  writeSync(file, readFileSync(volume), 0, VOLUME_MIB * MIB, START_MIB * MIB);
  closeSync(file);
  const packed = gzipSync(readFileSync(disk), { level: 9 });
  writeFileSync(join(import.meta.dirname, "images", "secretary-laptop.img.gz"), packed);
  rmSync(work, { recursive: true });
  console.log(`secretary-laptop.img.gz: ${(packed.length / MIB).toFixed(2)} MiB`);
}

await main();
