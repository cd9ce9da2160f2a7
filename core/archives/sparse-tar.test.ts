import { createHash } from "node:crypto";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { LayoutSource } from "../bytes/layout";
import { likeliest } from "../filesystems/file-record";
import { readTarArchive } from "./tar-archive";
import { openTar } from "./tar-volume";

/** Archives by GNU tar of files with holes, and in several parts; tests/fixtures/make-sparse-tars.py. */
const made = JSON.parse(fixture("sparse-tars.json.gz").toString()) as {
  files: Record<string, { size: number; sha256: string }>;
  archives: Record<string, string>;
  long: string;
  parts: Record<string, string[]>;
};
const bytesOf = (coded: string | undefined) => Uint8Array.from(Buffer.from(coded ?? "", "base64"));
const hashOf = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");
const long = Buffer.from(made.long, "base64");
const FORMS = Object.keys(made.archives);

describe("files that a TAR archive keeps without their holes", () => {
  it.each(FORMS)("come out byte for byte under their own names, as entries and as records: %s", (form) => {
    const disk = new MemorySource(bytesOf(made.archives[form]));
    const wanted = Object.entries(made.files).filter(([path]) => !path.endsWith("long.bin"));
    const { entries } = readTarArchive(disk);
    const files = entries.filter(({ type }) => type === "file");
    expect(files.map(({ path, size }) => [path, size]).sort()).toEqual(wanted.map(([path, { size }]) => [path, size]).sort());
    for (const { path, size, standing, open } of files) {
      expect(standing, path).toBe("sound");
      expect(hashOf(readBytes(open(), 0, size)), path).toBe(made.files[path]?.sha256);
    }
    const records = [...openTar(disk, 0, disk.size).readRecords(null, 512)].flatMap((batch) => [...batch.records]);
    for (const record of records.filter(({ type }) => type === "file")) {
      const layout = likeliest(record)?.layout;
      const content = layout ? readBytes(new LayoutSource(disk, layout), 0, record.size) : new Uint8Array();
      expect(hashOf(content), record.path).toBe(made.files[record.path.slice(1)]?.sha256);
    }
  });

  it.each(FORMS)("are broken off, never sound, where the archive ends in them, and what is said to be there is: %s", (form) => {
    const bytes = bytesOf(made.archives[form]);
    const whole = new Map(readTarArchive(new MemorySource(bytes)).entries.map((entry) => [entry.path, entry]));
    let broken = 0;
    for (let length = 1000; length < bytes.length; length += 1733) {
      for (const { path, size, standing, present, open, type } of readTarArchive(new MemorySource(bytes.slice(0, length))).entries) {
        if (type !== "file" || standing === "not-followed") continue;
        if (standing === "broken-off") broken += 1;
        // Names and lists that stand before an entry may be cut off with all behind them, but not be taken for others.
        const own = whole.get(path);
        expect([path, size], `${length}`).toEqual([path, own?.size]);
        expect(Buffer.from(readBytes(open(), 0, present)).equals(Buffer.from(readBytes(own?.open() ?? open(), 0, present)))).toBe(true);
        if (standing === "sound") expect(present).toBe(size);
      }
    }
    expect(broken).toBeGreaterThan(5);
  });

  it("are not given where the list of their holes is damaged, or speaks of more than there is", () => {
    const random = seeded(5);
    for (const form of FORMS) {
      const original = bytesOf(made.archives[form]);
      for (let round = 0; round < 300; round += 1) {
        const bytes = original.slice();
        for (let i = 0; i < 3; i += 1) bytes[Math.floor(random() * bytes.length)] = Math.floor(random() * 256);
        for (const { type, size, present, standing, open } of readTarArchive(new MemorySource(bytes)).entries) {
          expect(present).toBeLessThanOrEqual(size);
          if (type === "file" && standing !== "not-followed") readBytes(open(), 0, Math.min(size, 1 << 20));
        }
      }
    }
  });
});

describe("a TAR archive in several parts", () => {
  it.each(Object.keys(made.parts))("gives of each part what stands in it of a file that goes on, at its place: %s", (form) => {
    let known = 0;
    for (const part of made.parts[form] ?? []) {
      const disk = new MemorySource(bytesOf(part));
      const entry = readTarArchive(disk).entries.find(({ path }) => path === "plates/long.bin");
      if (!entry) continue;
      expect([entry.size, entry.standing]).toEqual([long.length, "broken-off"]);
      const content = entry.open();
      const gaps = content.unreadable(0, entry.size);
      const given = readBytes(content, 0, entry.size);
      for (let at = 0; at < entry.size; at += 1) {
        if (gaps.some(({ start, end }) => at >= start && at < end) || (entry.restFrom === undefined && at >= entry.present)) continue;
        if (given[at] !== long[at]) throw new Error(`byte ${at} is another one`);
        known += 1;
      }
    }
    // Each of its bytes stands in one of the parts.
    expect(known).toBe(long.length);
  });
});
