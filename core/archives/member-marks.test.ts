import { spawnSync } from "node:child_process";
import { chmodSync, mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { strToU8, type Zippable, zipSync } from "fflate";
import { describe, expect, it } from "vitest";
import { openBackup, readBackup } from "../../tests/support/backup-truth";
import { FILE_MARK } from "../bytes/file-marks";

const marksOf = (bytes: Uint8Array, thorough = false) =>
  Object.fromEntries(readBackup(bytes, thorough).map(({ copy }) => [copy.path.slice(1), copy.marks ?? 0]));

describe("marks of members", () => {
  it("TAR, by the general tool: a file its owner may not write is “read only”, whatever others may (POSIX.1-2017, ustar: mode)", () => {
    const work = mkdtempSync(join(tmpdir(), "compass-marks-"));
    const modes = { "a.txt": 0o644, "b.txt": 0o444, "c.txt": 0o466, "d.txt": 0o400, "e.txt": 0o755 };
    for (const [name, mode] of Object.entries(modes)) {
      writeFileSync(join(work, name), name);
      chmodSync(join(work, name), mode);
    }
    const made = spawnSync("tar", ["-C", work, "-cf", "-", ...Object.keys(modes)], { maxBuffer: 1 << 26 }).stdout;
    for (const thorough of [false, true])
      expect(marksOf(made, thorough)).toEqual({
        "a.txt": 0,
        "b.txt": FILE_MARK.readOnly,
        "c.txt": FILE_MARK.readOnly,
        "d.txt": FILE_MARK.readOnly,
        "e.txt": 0,
      });
  });

  it("ZIP, by a general library: attributes of FAT, or a Unix mode, by the system it was made on (APPNOTE 4.4.2, 4.4.15)", () => {
    const member = (name: string, os: number, attrs: number): Zippable => ({ [name]: [strToU8(name), { os, attrs }] });
    const bytes = zipSync({
      ...member("fat.txt", 0, 0x20),
      ...member("fat-read.txt", 0, 0x21),
      ...member("fat-hidden.txt", 0, 0x26),
      ...member("vfat-both.txt", 14, 0x3),
      ...member("unix.txt", 3, 0o100_644 << 16),
      // The lowest byte is not that of a Unix system.
      ...member("unix-read.txt", 3, (0o100_444 << 16) | 0x2),
      ...member("unix-none.txt", 3, 0x1),
      // Of another system nothing is known.
      ...member("other.txt", 6, 0x3),
    });
    const { readOnly, hidden } = FILE_MARK;
    const expected = {
      "fat.txt": 0,
      "fat-read.txt": readOnly,
      "fat-hidden.txt": hidden,
      "vfat-both.txt": readOnly | hidden,
      "unix.txt": 0,
      "unix-read.txt": readOnly,
      "unix-none.txt": 0,
      "other.txt": 0,
    };
    for (const thorough of [false, true]) expect(marksOf(bytes, thorough)).toEqual(expected);
    // Without its list nothing tells of marks.
    const cut = bytes.subarray(0, Buffer.from(bytes).indexOf("PK\x01\x02", 0, "latin1"));
    expect(Object.values(marksOf(cut, true))).toEqual(Object.values(expected).map(() => 0));
    expect(openBackup(cut).volume.notes).toHaveLength(1);
  });
});
