import { mkdtempSync, rmSync, truncateSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeEach, describe, expect, it, vi } from "vitest";
import { MemorySource } from "../core/bytes/byte-source";
import { fileRecordsPass } from "../core/copies/file-records-pass";
import { inspectDisk, openVolume } from "../core/volumes/inspect";
import { fixture, pathOf, readTruth } from "../tests/support/volume-truth";
import { openDisk } from "./open-source";
import { ReadOnlyFile } from "./read-only-file";
import { SourceError } from "./source-error";
import { markOf } from "./source-mark";

/** A drive as the system shows one with bad sectors: a read that touches one fails as a whole (read(2), EIO). */
const drive = vi.hoisted(() => ({
  bad: [] as { start: number; end: number }[],
  reads: 0,
  code: "EIO",
  node: null as number | null,
  there: true,
}));
vi.mock("node:fs", async (original) => {
  const fs = await original<typeof import("node:fs")>();
  return {
    ...fs,
    // A device node gives no size of its own, and has a number by which it is known.
    fstatSync: (descriptor: number) =>
      drive.node === null ? fs.fstatSync(descriptor) : { size: 0, rdev: drive.node, isFile: () => false, isBlockDevice: () => true },
    statSync: (path: string, options?: { throwIfNoEntry: false }) =>
      drive.node === null ? fs.statSync(path, options) : drive.there ? { rdev: drive.node } : undefined,
    readSync: (descriptor: number, into: Uint8Array, offset: number, length: number, at: number) => {
      drive.reads += 1;
      if (drive.bad.some(({ start, end }) => at < end && at + length > start))
        throw Object.assign(new Error(`${drive.code}: i/o error, read`), { code: drive.code });
      return fs.readSync(descriptor, into, offset, length, at);
    },
  };
});

const folder = mkdtempSync(join(tmpdir(), "unreadable-"));
afterAll(() => rmSync(folder, { recursive: true }));
beforeEach(() => Object.assign(drive, { bad: [], reads: 0, code: "EIO", node: null, there: true }));

const plain = Uint8Array.from({ length: 1 << 20 }, (_, i) => 1 + ((i * 7) % 255));
const path = join(folder, "drive.img");
writeFileSync(path, plain);

describe("a drive with bad sectors", () => {
  it("gives all that can be read, to the sector, with zeros for the rest, and remembers which that is", () => {
    drive.bad = [
      { start: 5000, end: 5001 },
      { start: 512 * 100, end: 512 * 103 },
      { start: (1 << 20) - 1, end: 1 << 20 },
    ];
    const file = new ReadOnlyFile(path);
    const bytes = new Uint8Array(1 << 20);
    file.read(0, bytes);
    const lost = [
      { start: 4608, end: 5120 },
      { start: 51_200, end: 52_736 },
      { start: (1 << 20) - 512, end: 1 << 20 },
    ];
    expect(file.unreadable(0, 1 << 20)).toEqual(lost);
    const wanted = plain.slice();
    for (const { start, end } of lost) wanted.fill(0, start, end);
    expect(Buffer.from(bytes).equals(wanted)).toBe(true);
    // Halving finds them in few reads: a failing drive takes long over each.
    expect(drive.reads).toBeLessThan(120);
    expect(file.unreadable(5000, 10)).toEqual([{ start: 5000, end: 5010 }]);
    expect(file.unreadable(6000, 1000)).toEqual([]);
    file.close();
  });

  it("past its end there are zeros, and nothing that could not be read", () => {
    const file = new ReadOnlyFile(path);
    const bytes = new Uint8Array(1024).fill(9);
    file.read((1 << 20) - 512, bytes);
    expect(bytes.subarray(0, 512)).toEqual(plain.subarray((1 << 20) - 512));
    expect(bytes.subarray(512).every((byte) => byte === 0)).toBe(true);
    expect(file.unreadable(0, 2 << 20)).toEqual([]);
    file.close();
  });

  it("that fails for another reason is no matter of bad sectors: the error goes on", () => {
    Object.assign(drive, { bad: [{ start: 0, end: 1 }], code: "EBADF" });
    const file = new ReadOnlyFile(path);
    expect(() => file.read(0, new Uint8Array(512))).toThrow("EBADF");
    file.close();
  });

  it("of which the system gives no size is measured by reading, bad sectors counted as its own", () => {
    // 8:200 is no device the system knows.
    for (const [length, bad] of [
      [1 << 20, []],
      [512 * 1025, [{ start: 0, end: 512 }]],
      [512, []],
      [512 * 777, [512 * 256, 512 * 512, 512 * 700].map((start) => ({ start, end: start + 512 }))],
      [0, []],
    ] as const) {
      const node = join(folder, "node");
      writeFileSync(node, plain.subarray(0, length));
      Object.assign(drive, { node: 0x8c8, bad, reads: 0 });
      const file = new ReadOnlyFile(node);
      expect(file.size).toBe(length);
      expect(drive.reads).toBeLessThan(110);
      file.close();
    }
  });

  it("that was pulled out is not taken for one of bad sectors", () => {
    Object.assign(drive, { node: 0x8c8, bad: [{ start: 512 * 10, end: 512 * 11 }] });
    const file = new ReadOnlyFile(path);
    file.read(0, new Uint8Array(8192));
    expect(file.unreadable(0, 8192)).toEqual([{ start: 5120, end: 5632 }]);
    // Its node is gone, or belongs to another drive now.
    drive.there = false;
    expect(() => file.read(0, new Uint8Array(8192))).toThrow("was disconnected. Connect it again; what was found is kept.");
    // What opens sources shows it to a person as it is.
    expect(() => file.read(0, new Uint8Array(8192))).toThrow(SourceError);
    Object.assign(drive, { there: true, code: "ENXIO" });
    expect(() => file.read(0, new Uint8Array(8192))).toThrow("was disconnected");
    expect(file.unreadable(0, 1 << 20)).toEqual([{ start: 5120, end: 5632 }]);
    file.close();
  });

  it("has its files judged by it: the one on bad sectors is partial by so many bytes, the others are as they were", {
    tags: "long",
  }, () => {
    const truth = readTruth("ntfs-4kn");
    const image = join(folder, "volume.img");
    writeFileSync(image, fixture("ntfs-4kn.img.gz"));
    const victim = truth.entries.find(
      (entry) =>
        entry.type === "file" && entry.state === "live" && !entry.compressed && entry.runs?.length === 1 && (entry.size ?? 0) > 20_000,
    );
    if (!victim?.runs?.[0]) throw new Error("no such file");
    const at = (victim.runs[0][1] as number) * truth.volume.clusterSize;
    drive.bad = [{ start: at + 4096, end: at + 4096 + 1024 }];
    const file = new ReadOnlyFile(image);
    const report = inspectDisk(file).volumes[0];
    if (!report) throw new Error("no volume");
    const copies = [...fileRecordsPass(openVolume(file, report), file)].flatMap((batch) => batch.copies);
    const hurt = copies.filter((copy) => copy.evidence.unreadable > 0);
    expect(hurt.map((copy) => copy.path.normalize("NFC"))).toEqual([pathOf(victim)]);
    expect(hurt[0]).toMatchObject({ condition: "partial", evidence: { unreadable: 1024 } });
    expect(hurt[0]?.notes.join()).toContain("1024 bytes of it could not be read from the drive");
    expect(hurt[0]?.survival).toBeCloseTo(1 - 1024 / (victim.size as number), 5);
    expect(copies.filter((copy) => copy.state === "live" && copy.condition === "whole").length).toBeGreaterThan(150);
    file.close();
  });
});

describe("a file that is cut short while it is read", () => {
  it("is said to be written to, and nothing of it is taken for a bad place; what was behind its end all along counts as nothing", () => {
    const short = join(folder, "short.img");
    writeFileSync(short, plain);
    const file = new ReadOnlyFile(short);
    const bytes = new Uint8Array(4096);
    file.read((1 << 20) - 1000, bytes);
    expect(file.unreadable(0, 1 << 21)).toEqual([]);
    truncateSync(short, 700_000);
    expect(() => file.read(699_000, bytes)).toThrow(/became shorter while it was read/);
    expect(file.unreadable(0, file.size)).toEqual([]);
    file.read(600_000, bytes);
    expect(bytes).toEqual(plain.subarray(600_000, 604_096));
    file.close();
  });
});

describe("the mark of a disk", () => {
  it("stays what it is for the same bytes, and is another for other ones at the beginning, in the middle, at the end, or of another size", () => {
    const own = markOf(new MemorySource(plain));
    expect(markOf(new MemorySource(plain.slice()))).toBe(own);
    for (const at of [0, 65_535, 1 << 19, (1 << 20) - 1]) {
      const other = plain.slice();
      other[at] = (other[at] as number) ^ 1;
      expect(markOf(new MemorySource(other)), `byte ${at}`).not.toBe(own);
    }
    expect(markOf(new MemorySource(plain.subarray(0, plain.length - 1)))).not.toBe(own);
    for (const size of [0, 1, 65_536, 65_537]) expect(markOf(new MemorySource(plain.subarray(0, size)))).toMatch(/^[0-9a-f]{64}$/);
  });

  it("is none where its samples cannot be read: nothing is said then, and any disk is taken", () => {
    drive.bad = [{ start: 512, end: 600 }];
    const file = new ReadOnlyFile(path);
    expect(markOf(file)).toBeNull();
    file.close();
    const opened = openDisk({ sourcePath: path, mark: "0".repeat(64) });
    opened.close();
    drive.bad = [];
    expect(() => openDisk({ sourcePath: path, mark: "0".repeat(64) })).toThrow(/is not what it was when it was read/);
  });

  it("is compared although a place in its samples is kept as bad, and can be read now", () => {
    const mark = markOf(new MemorySource(plain));
    const bad = [{ start: plain.length - 4096, end: plain.length }];
    openDisk({ sourcePath: path, mark, bad }).close();
    expect(() => openDisk({ sourcePath: path, mark: "0".repeat(64), bad })).toThrow(/is not what it was when it was read/);
  });
});
