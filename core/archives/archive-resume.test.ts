import { spawnSync } from "node:child_process";
import { linkSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { zipSync } from "fflate";
import { afterAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { backupFile, damagedBackups } from "../../tests/support/backup-truth";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import type { Checkpoint } from "../bytes/checkpoint";
import { unpacked } from "../bytes/unpacked";
import type { FileSystem, RecordBatch } from "../filesystems/file-record";
import { openTar } from "./tar-volume";
import { openZip } from "./zip-volume";

// Archives by GNU tar, Zip 3.0, 7-Zip and Python's zipfile, damaged by script.

const work = mkdtempSync(join(tmpdir(), "compass-resume-"));
afterAll(() => rmSync(work, { recursive: true, force: true }));

const FORMATS = ["gnu", "pax", "ustar"] as const;

/** A TAR archive with further names of files, damaged at some places: zeros, other bytes, some taken out or put in, cut at an end. */
function drawTar(seed: number): Uint8Array {
  const random = seeded(seed);
  const next = (below: number) => Math.floor(random() * below);
  const root = join(work, String(seed));
  const names: string[] = [];
  for (let i = 0; i < 8 + next(20); i += 1) {
    const name = `${next(5) === 0 ? "long ".repeat(25).trim() : "letters"}/${i}.txt`;
    mkdirSync(join(root, name, ".."), { recursive: true });
    const original = names[next(names.length)];
    if (original && next(4) === 0) linkSync(join(root, original), join(root, name));
    else writeFileSync(join(root, name), Buffer.alloc(next(4000), 97 + next(26)));
    names.push(name);
  }
  const format = FORMATS[seed % FORMATS.length] as string;
  let tar = spawnSync("tar", ["-cf", "-", `--format=${format}`, "-C", root, ...names], { maxBuffer: 1 << 26 }).stdout;
  rmSync(root, { recursive: true });
  for (let i = next(5); i > 0; i -= 1) {
    const [at, many] = [next(tar.length), [1, 16, 512, 700, 3000][next(5)] as number];
    const fill = Buffer.from(Array.from({ length: many }, () => next(256)));
    const kind = next(4);
    if (kind === 0) tar.fill(0, at, at + many);
    else if (kind === 1) fill.copy(tar, at);
    else if (kind === 2) tar = Buffer.concat([tar.subarray(0, at), tar.subarray(at + many)]);
    else tar = Buffer.concat([tar.subarray(0, at), fill, tar.subarray(at)]);
  }
  return tar;
}

type Reading = "light" | "thorough" | "a part, thoroughly";
const READINGS: readonly Reading[] = ["light", "thorough", "a part, thoroughly"];

function read(volume: FileSystem, reading: Reading, size: number, from: Checkpoint | null, step: number): RecordBatch[] {
  const part = reading === "thorough" ? undefined : { start: Math.floor(size / 4), end: Math.floor(size * 0.9) };
  return [...(reading === "light" ? volume.readRecords(from, step) : (volume.readThorough?.(from, step, part) ?? []))];
}

/** Reads on from every place a reading gives, each time as a process that knows nothing else would. @returns how many there were */
function readOnFromAll(bytes: Uint8Array, open: (disk: ByteSource, start: number, length: number) => FileSystem, hint: string): number {
  const disk = new MemorySource(bytes);
  const volume = () => open(disk, 0, disk.size);
  let places = 0;
  for (const reading of READINGS)
    for (const step of [1, 6]) {
      const batches = read(volume(), reading, disk.size, null, step);
      const all = batches.flatMap(({ records }) => records);
      let given = 0;
      for (const { records, resume, done, total } of batches) {
        given += records.length;
        places += 1;
        expect(done).toBeLessThanOrEqual(total);
        const rest = read(volume(), reading, disk.size, Buffer.from(resume), step).flatMap((batch) => batch.records);
        expect(rest, `${hint}, ${reading}, step ${step}, ${given} of ${all.length}`).toEqual(all.slice(given));
      }
    }
  return places;
}

describe("a reading of an archive that stopped goes on with the very rest", () => {
  it("of TAR archives, sound and damaged, with further names of files", { tags: "long" }, () => {
    let places = 0;
    for (let seed = 1; seed <= 24; seed += 1) places += readOnFromAll(drawTar(seed), openTar, `seed ${seed}`);
    expect(places).toBeGreaterThan(800);
  });

  it.each(damagedBackups("zip-damaged").map(({ name, bytes }) => [name, bytes] as const))("of a damaged ZIP archive: %s", (name, bytes) => {
    expect(readOnFromAll(bytes, openZip, name)).toBeGreaterThan(6);
  });

  it.each(["zip-plain.zip", "zip-stream.zip", "zip-methods.zip", "zip-nested.zip"])("of a sound one: %s", (name) => {
    expect(readOnFromAll(backupFile(name), openZip, name)).toBeGreaterThan(6);
  });
});

/** Counts what is read of a source. */
class Counted implements ByteSource {
  bytes = 0;
  constructor(
    readonly size: number,
    private readonly fill: (at: number, into: Uint8Array) => void,
  ) {}
  read(at: number, into: Uint8Array): void {
    this.bytes += into.length;
    this.fill(at, into);
  }
  unreadable = () => [];
}
const counted = (bytes: Uint8Array) => new Counted(bytes.length, (at, into) => into.set(bytes.subarray(at, at + into.length)));

describe("a reading of a large archive", () => {
  const files = Object.fromEntries(Array.from({ length: 2000 }, (_, i) => [`plates/${i}.txt`, new Uint8Array(9000).fill(i)]));

  it("gives its first files before it has gone through the rest, light and thorough", () => {
    const root = join(work, "many");
    mkdirSync(join(root, "plates"), { recursive: true });
    for (const [name, bytes] of Object.entries(files)) writeFileSync(join(root, name), bytes);
    const disk = counted(spawnSync("tar", ["-cf", "-", "-C", root, "plates"], { maxBuffer: 1 << 26 }).stdout);
    expect(disk.size).toBeGreaterThan(18_000_000);
    for (const reading of ["light", "thorough"] as const) {
      disk.bytes = 0;
      const volume = openTar(disk, 0, disk.size);
      expect(volume.notes).toEqual([]);
      const batches = reading === "light" ? volume.readRecords(null, 20) : (volume.readThorough?.(null, 20) ?? []);
      for (const { records } of batches) {
        expect(records).toHaveLength(20);
        break;
      }
      expect(disk.bytes).toBeLessThan(disk.size / 10);
    }
  });

  it("is not unpacked again up to the place where a thorough one goes on", () => {
    const disk = new MemorySource(zipSync(files));
    const read = (from: Checkpoint | null) => {
      const before = unpacked.bytes;
      const batches = [...(openZip(disk, 0, disk.size).readThorough?.(from, 100) ?? [])];
      return { batches, plain: unpacked.bytes - before };
    };
    const whole = read(null);
    expect(whole.plain).toBeGreaterThan(17_000_000);
    const rest = read(whole.batches.at(-4)?.resume ?? null);
    expect(rest.batches.flatMap(({ records }) => records)).toHaveLength(200);
    expect(rest.plain).toBe((whole.plain * 200) / 2000);
  });

  it("says again and again that it goes on where it finds nothing for long", () => {
    const [first] = Object.entries(files);
    const head = spawnSync("sh", ["-c", `cd '${join(work, "many")}' && tar -cf - '${first?.[0]}'`]).stdout.subarray(0, 9728);
    const size = 300 << 20;
    const fill = (at: number, into: Uint8Array) => {
      into.fill(0xa5);
      if (at < head.length) into.set(head.subarray(at, at + into.length));
    };
    for (const open of [openTar, openZip]) {
      const disk = new Counted(size, fill);
      const batches = [...(open(disk, 0, size).readThorough?.(null, 512) ?? [])];
      expect(batches.length).toBeGreaterThan(4);
      const done = batches.map((batch) => batch.done);
      expect([...done].sort((a, b) => a - b)).toEqual(done);
      // From a place in the midst of the search all that was found before is not found again.
      const { resume, records } = batches[3] as RecordBatch;
      const later = [...(open(disk, 0, size).readThorough?.(resume, 512) ?? [])].flatMap((batch) => batch.records);
      expect(records).toEqual([]);
      expect(later).toEqual(batches.slice(4).flatMap((batch) => batch.records));
    }
  });
});

describe("what does not add up in a TAR archive", () => {
  it("is told with its place, whether it was gone through for that or read before, at once or with a stop", () => {
    const root = join(work, "findings");
    mkdirSync(root);
    const names = ["a.txt", "b.txt", "c.txt", "d.txt"];
    for (const name of names) writeFileSync(join(root, name), name.repeat(200));
    const tar = spawnSync("tar", ["-cf", "-", "-C", root, ...names]).stdout;
    const at = tar.indexOf("b.txt");
    tar.fill(0x55, at, at + 512);
    const disk = new MemorySource(tar);
    const told = [{ what: expect.stringContaining("Headers of files in the archive are damaged"), count: 1, examples: [`byte ${at}`] }];
    const fresh = openTar(disk, 0, disk.size);
    expect(fresh.findings?.()).toEqual(told);
    const stopped = openTar(disk, 0, disk.size);
    const [, second] = [...stopped.readRecords(null, 1)];
    const later = openTar(disk, 0, disk.size);
    for (const _ of later.readRecords(second?.resume ?? null, 1));
    expect(later.findings?.()).toEqual(told);
    const cut = new MemorySource(tar.subarray(0, at));
    expect(openTar(cut, 0, cut.size).findings?.()).toEqual([
      { what: expect.stringContaining("ends without the zeros that end one"), count: 1, examples: [`byte ${at}`] },
    ]);
  });
});

describe("a further name of a file in a TAR archive", () => {
  it("is in doubt where the file is", () => {
    const root = join(work, "linked");
    mkdirSync(root);
    writeFileSync(join(root, "a.txt"), "a".repeat(3000));
    writeFileSync(join(root, "b.txt"), "b".repeat(900));
    linkSync(join(root, "a.txt"), join(root, "c.txt"));
    const tar = spawnSync("tar", ["-cf", "-", "-C", root, "a.txt", "b.txt", "c.txt"]).stdout;
    const standings = (bytes: Uint8Array) => {
      const disk = new MemorySource(bytes);
      return [...openTar(disk, 0, disk.size).readRecords(null, 8)].flatMap(({ records }) =>
        records.map(({ path, content }) => [path, content.kind === "placed" && content.likeliest.sure]),
      );
    };
    expect(standings(tar)).toEqual([
      ["/a.txt", true],
      ["/b.txt", true],
      ["/c.txt", true],
    ]);
    expect(standings(Buffer.concat([tar.subarray(0, 1000), Buffer.from("xyz"), tar.subarray(1000)]))).toEqual([
      ["/a.txt", false],
      ["/b.txt", true],
      ["/c.txt", false],
    ]);
  });

  it("leads to the file that had its name last before it", () => {
    const root = join(work, "twice");
    mkdirSync(root);
    const archive = join(root, "twice.tar");
    const put = (mode: "-cf" | "-rf", ...names: string[]) => expect(spawnSync("tar", [mode, archive, "-C", root, ...names]).status).toBe(0);
    writeFileSync(join(root, "a.txt"), "first");
    put("-cf", "a.txt");
    writeFileSync(join(root, "a.txt"), "second one");
    linkSync(join(root, "a.txt"), join(root, "b.txt"));
    put("-rf", "a.txt", "b.txt");
    writeFileSync(join(root, "a.txt"), "third, the longest");
    rmSync(join(root, "b.txt"));
    put("-rf", "a.txt");
    const disk = new MemorySource(spawnSync("cat", [archive]).stdout);
    const sizes = [...openTar(disk, 0, disk.size).readRecords(null, 8)].flatMap(({ records }) =>
      records.map(({ path, size }) => [path, size]),
    );
    expect(sizes).toEqual([
      ["/a.txt", 5],
      ["/a.txt", 10],
      ["/b.txt", 10],
      ["/a.txt", 18],
    ]);
  });
});
