/**
 * Builds `demo/images/secretary-drive.json.gz`: files as they stood on the secretary's drive when it was copied, to be laid out as
 * a folder. A funding application was closed without saving, an observing workbook overwritten by a wrong edit; what the system
 * and the programs left of them is where they leave such things. Run: npx tsx demo/build-drive.ts
 */
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { brightnessTable, FUNDING_APPLICATION, FUNDING_DRAFT, letter, nightLog, workbook } from "./documents";
import { photograph } from "./draw";

const files: Record<string, { content: string; modified: string }> = {};
function put(path: string, content: Buffer | string, modified: string): void {
  files[path] = { content: Buffer.from(content).toString("base64"), modified };
}

const filetime = (text: string) => (BigInt(Date.parse(text)) + 11_644_473_600_000n) * 10_000n;

/** A shell link to a file of this volume ([MS-SHLLINK] 2.1, 2.3). */
function link(target: string, size: number, modified: string): Buffer {
  const header = Buffer.alloc(0x4c);
  header.writeUInt32LE(0x4c, 0);
  Buffer.from("0114020000000000c000000000000046", "hex").copy(header, 4);
  header.writeUInt32LE(2 | 128, 0x14);
  for (const at of [0x1c, 0x24, 0x2c]) header.writeBigUInt64LE(filetime(modified), at);
  header.writeUInt32LE(size, 0x34);
  const path = Buffer.concat([Buffer.from(target, "latin1"), Buffer.alloc(1)]);
  const volume = Buffer.alloc(0x11);
  volume.writeUInt32LE(0x11, 0);
  volume.writeUInt32LE(3, 4);
  volume.writeUInt32LE(0x3a51c0de, 8);
  volume.writeUInt32LE(0x10, 12);
  const info = Buffer.alloc(0x1c);
  info.writeUInt32LE(0x1c + volume.length + path.length + 1, 0);
  info.writeUInt32LE(0x1c, 4);
  info.writeUInt32LE(1, 8);
  info.writeUInt32LE(0x1c, 12);
  info.writeUInt32LE(0x1c + volume.length, 16);
  info.writeUInt32LE(0x1c + volume.length + path.length, 24);
  return Buffer.concat([header, info, volume, path, Buffer.alloc(1), Buffer.alloc(4)]);
}

/** The bin's record of a file, version 2. */
function binRecord(original: string, size: number, deleted: string): Buffer {
  const path = Buffer.from(`${original}\0`, "utf16le");
  const head = Buffer.alloc(28);
  head.writeBigUInt64LE(2n, 0);
  head.writeBigUInt64LE(BigInt(size), 8);
  head.writeBigUInt64LE(filetime(deleted), 16);
  head.writeUInt32LE(path.length / 2, 24);
  return Buffer.concat([head, path]);
}

/** The file beside an open document that says who has it open. */
function owner(name: string): Buffer {
  const bytes = Buffer.alloc(162);
  bytes[0] = name.length;
  bytes.write(name, 1, "latin1");
  bytes[54] = name.length;
  bytes.write(name, 56, "utf16le");
  return bytes;
}

async function main(): Promise<void> {
  const home = "Users/mo";
  const roaming = `${home}/AppData/Roaming`;
  const local = `${home}/AppData/Local`;
  // What there is of the application: never saved under its name, so only what the program kept by itself.
  const later = [
    ...FUNDING_APPLICATION,
    "# Why now",
    "The quotation for the mirror is valid until the end of May; the rail must be ordered before the summer.",
  ];
  put(`${roaming}/Letter Press/AutoRecovery save of Funding application.asd`, await letter(later), "2026-03-12T14:50:00Z");
  put(
    `${local}/Letter Press/UnsavedFiles/Funding application((Unsaved-3085)).asd`,
    await letter(FUNDING_APPLICATION),
    "2026-03-12T14:31:00Z",
  );
  put(`${local}/Temp/~WRL0003.tmp`, await letter(FUNDING_APPLICATION.slice(0, 6)), "2026-03-12T13:58:00Z");
  put(
    `${roaming}/Recent/Funding application.lnk`,
    link("C:\\Users\\mo\\Documents\\Funding\\Funding application.docx", 9216, "2026-03-12T13:40:00Z"),
    "2026-03-12T13:40:00Z",
  );
  put(`${home}/Documents/Funding/~$nding application draft.docx`, owner("Mo Linden"), "2026-03-12T13:35:00Z");
  put(`${home}/Documents/Funding/Funding application draft.docx`, await letter(FUNDING_DRAFT), "2026-02-20T18:12:00Z");
  // The workbook: zeros from night 212 on were saved over the sound one.
  put(`${home}/Documents/Observing workbook.xlsx`, await workbook(212), "2026-03-11T21:20:00Z");
  put(`${home}/Documents/Backup of Observing workbook.xlsx`, await workbook(300), "2026-03-09T22:00:00Z");
  put(
    `${roaming}/Recent/Observing workbook.lnk`,
    link("C:\\Users\\mo\\Documents\\Observing workbook.xlsx", 12_288, "2026-03-11T21:20:00Z"),
    "2026-03-11T21:20:00Z",
  );
  const drawing = Buffer.alloc(6000);
  drawing.write("AC1032", 0, "latin1");
  put(`${home}/Drawings/Dome rail.dwg`, Buffer.concat([drawing, Buffer.from("third state")]), "2026-03-04T19:00:00Z");
  put(`${home}/Drawings/Dome rail.bak`, Buffer.concat([drawing, Buffer.from("second state")]), "2026-03-04T18:20:00Z");
  put(`${local}/Temp/Dome rail_1_1_4477.sv$`, Buffer.concat([drawing, Buffer.from("between")]), "2026-03-04T18:50:00Z");
  put(
    `${roaming}/Plain Notes/backup/things to ask@2026-03-11_201455`,
    "Ask the school for a second letter.\r\nAsk what the rail weighs.\r\n",
    "2026-03-11T20:14:55Z",
  );
  put(`${local}/Temp/update-cache 7.bin`, await photograph("trails", 507, 300, 200, 60), "2026-03-10T08:00:00Z");
  const bin = "$Recycle.Bin/S-1-5-21-1004336348-1177238915-682003330-1001";
  const table = brightnessTable(8, 700);
  put(`${bin}/$RQ7PX2A.csv`, table, "2025-09-08T23:00:00Z");
  put(
    `${bin}/$IQ7PX2A.csv`,
    binRecord("C:\\Users\\mo\\Documents\\Brightness\\R Leonis old.csv", Buffer.byteLength(table), "2026-03-02T09:12:00Z"),
    "2026-03-02T09:12:00Z",
  );
  for (let i = 0; i < 20; i += 1) {
    const night = new Date(Date.UTC(2026, 1, 1 + i, 23, 30));
    put(`${home}/Documents/Logs/Log ${night.toISOString().slice(0, 10)}.txt`, nightLog(night, 100 + i), night.toISOString());
  }
  const packed = gzipSync(JSON.stringify(files), { level: 9 });
  writeFileSync(join(import.meta.dirname, "images", "secretary-drive.json.gz"), packed);
  console.log(`secretary-drive.json.gz: ${(packed.length / 1024).toFixed(0)} KiB, ${Object.keys(files).length} files`);
}

await main();
