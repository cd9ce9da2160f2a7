import { randomFillSync } from "node:crypto";
import { closeSync, existsSync, openSync, renameSync, writeSync } from "node:fs";
import { join } from "node:path";
import { type TapeFile, writeTape } from "../demo/tape-writer";

const FILE = 256 << 10;
const FILES_A_SET = 400;

/**
 * Makes a backup file of the tape format of up to so many MiB, once: sets of about 75 MiB, each with its own beginning.
 * @param damaged every 64 MiB, 64 KiB are zeros and three bytes are slipped in
 * @returns its path
 */
export function bigTape(folder: string, mebibytes: number, damaged: boolean): string {
  const path = join(folder, `${damaged ? "damaged" : "sound"}-${mebibytes}.bkf`);
  if (existsSync(path)) return path;
  const working = `${path}.making`;
  const file = openSync(working, "w");
  for (let set = 0; set * FILES_A_SET * FILE < mebibytes * 2 ** 20; set += 1) {
    const files = Array.from({ length: FILES_A_SET }, (_, i): TapeFile => {
      const content = Buffer.alloc(i % 8 === 0 ? 8 * (FILE / 4) : FILE / 2);
      randomFillSync(content);
      return {
        folder: [`Year ${i >> 6}`],
        name: `${set} recording ${i}.dat`,
        content,
        modified: new Date(Date.UTC(2011, set % 12, 1 + (i % 28))),
      };
    });
    const whole = writeTape("Bench", [{ name: `Set ${set + 1}`, date: new Date(Date.UTC(2011, set % 12, 28)), files }]);
    // One medium: its first block stands once.
    const bytes = set === 0 ? whole : whole.subarray(1024);
    if (!damaged) writeSync(file, bytes);
    else
      for (let at = 0; at < bytes.length; at += 64 << 20) {
        const part = bytes.subarray(at, at + (64 << 20));
        part.fill(0, 1 << 20, (1 << 20) + (64 << 10));
        writeSync(file, part);
        writeSync(file, Buffer.from("abc"));
      }
  }
  closeSync(file);
  renameSync(working, path);
  return path;
}
