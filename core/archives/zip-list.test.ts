import { mkdtempSync, readdirSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { strToU8, zipSync } from "fflate";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { backupFile } from "../../tests/support/backup-truth";
import { sha256 } from "../../tests/support/mac-truth";
import { setTruth, unpackSet } from "../../tests/support/set-truth";
import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource, readBytes } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import { LayoutSource } from "../bytes/layout";
import { lostPart } from "../bytes/lost-part";
import { copyOfRecord } from "../copies/copy";
import { type FileRecord, likeliest } from "../filesystems/file-record";
import { DESCRIPTOR } from "../formats/zip/layout";
import { openZip } from "./zip-volume";

let work: string;
beforeAll(() => {
  work = mkdtempSync(join(tmpdir(), "compass-zip-list-"));
});
afterAll(() => rmSync(work, { recursive: true, force: true }));

const recordsOf = (source: ByteSource): { records: FileRecord[]; notes: readonly string[] } => {
  const volume = openZip(source, 0, source.size);
  const records = [...volume.readRecords(null, 512)].flatMap(({ records: some }) => some).filter(({ type }) => type === "file");
  return { records, notes: volume.notes };
};
const hashOf = (source: ByteSource, record: FileRecord) => {
  const place = likeliest(record);
  return place && sha256(readBytes(new LayoutSource(source, place.layout), 0, record.size));
};

describe("a list of contents that does not lead to all it names", () => {
  it("still says what there was, where parts of a split archive are missing; what files hold themselves is none of it", () => {
    const truth = setTruth("split-backup");
    const folder = unpackSet("split-backup", work);
    const parts = readdirSync(folder)
      .filter((name) => name.includes("2026-01-04"))
      .sort()
      .map((name) => readFileSync(join(folder, name)));
    const seams = parts.slice(0, -1).map((_, index) => parts.slice(0, index + 1).reduce((sum, { length }) => sum + length, 0));
    const entire = Object.assign(new ConcatSource(parts.map((part) => new MemorySource(part))), { seams });
    const sound = new Map(
      recordsOf(entire).records.map((record) => {
        const layout = likeliest(record)?.layout ?? { size: 0, segments: [] };
        return [record.path, readBytes(new LayoutSource(entire, layout), 0, record.size)];
      }),
    );
    let cut = 0;
    const names = truth.files.map(({ path }) => `/${path}`).sort();
    for (let gone = 0; gone < parts.length - 1; gone += 1) {
      const row = parts.map((part, index) => (index === gone ? lostPart(part.length) : new MemorySource(part)));
      const source = Object.assign(new ConcatSource(row), { seams });
      const { records, notes } = recordsOf(source);
      expect(records.map(({ path }) => path).sort(), `without part ${gone + 1}`).toEqual(names);
      const lost = records.filter((record) => !likeliest(record));
      expect(notes.length).toBe(lost.length > 0 ? 1 : 0);
      // What does not reach into the missing part is there, byte for byte; of what does, what stands before it.
      let exact = 0;
      for (const record of records) {
        const version = truth.files.find(({ path }) => `/${path}` === record.path)?.versions.find(({ size }) => size === record.size);
        const place = likeliest(record);
        if (place && new LayoutSource(source, place.layout).unreadable(0, record.size).length === 0) {
          expect(hashOf(source, record), record.path).toBe(version?.sha256);
          exact += 1;
        }
        const first = place?.layout.segments[0];
        if (first?.kind !== "coded" || first.length === record.size) continue;
        const right = sound.get(record.path) as Uint8Array;
        expect(new LayoutSource(source, place?.layout ?? { size: 0, segments: [] }).unreadable(0, first.length)).toEqual([]);
        const given = readBytes(new LayoutSource(source, place?.layout ?? { size: 0, segments: [] }), 0, first.length);
        expect(Buffer.compare(given, right.subarray(0, first.length)), `${record.path} without part ${gone + 1}`).toBe(0);
        cut += 1;
      }
      expect(exact).toBeGreaterThan(0);
    }
    expect(cut).toBeGreaterThan(0);
  });

  it("is completed by the headers of files that were moved by bytes put in or taken out", () => {
    const folder = unpackSet("archives", work);
    const name = readdirSync(folder).find((each) => each === "Documents_2026-02-01.zip") as string;
    const sound = readFileSync(join(folder, name));
    const before = recordsOf(new MemorySource(sound));
    const hashes = new Map(before.records.map((record) => [record.path, hashOf(new MemorySource(sound), record)]));
    const random = seeded(11);
    let [moved, wrong] = [0, 0];
    for (let round = 0; round < 40; round += 1) {
      const at = Math.floor(sound.length * (0.55 + 0.3 * random()));
      const count = 1 + Math.floor(random() * 600);
      const slipped =
        random() < 0.5
          ? Buffer.concat([sound.subarray(0, at), Buffer.alloc(count), sound.subarray(at)])
          : Buffer.concat([sound.subarray(0, at), sound.subarray(at + count)]);
      const { records } = recordsOf(new MemorySource(slipped));
      const found = new Map(records.map((record) => [record.path, hashOf(new MemorySource(slipped), record)]));
      for (const [path, hash] of hashes) {
        if (found.get(path) === hash) moved += 1;
        else wrong += 1;
      }
    }
    // Each slip hurts the one file in which it lies, or its header.
    expect(wrong).toBeLessThanOrEqual(2 * 40);
    expect(moved).toBeGreaterThan(40 * (hashes.size - 2) - 1);
  });

  it("gives no lost file the bytes of another of its name that stands within a file", () => {
    const inner = zipSync({ "a.txt": strToU8("another letter of that name") }, { level: 0 });
    const outer = zipSync(
      { "a.txt": strToU8("the letter"), "box.zip": inner, "c.txt": strToU8("c"), "d.txt": strToU8("d"), "e.txt": strToU8("e") },
      { level: 0 },
    );
    const bytes = Buffer.from(outer);
    const mark = Buffer.from("PK\u0003\u0004");
    const own = bytes.indexOf(mark);
    const within = bytes.indexOf(mark, bytes.indexOf("box.zip"));
    // The header of the letter is gone; the one within says no checksum, as programs write it that do not know it yet.
    bytes.fill(0, own, own + 30);
    bytes.fill(0, within + 14, within + 18);
    const { records, notes } = recordsOf(new MemorySource(bytes));
    expect(records.map(({ path }) => path).sort()).toEqual(["/a.txt", "/box.zip", "/c.txt", "/d.txt", "/e.txt"]);
    expect(likeliest(records.find(({ path }) => path === "/a.txt") as FileRecord)).toBeNull();
    expect(notes).toEqual([expect.stringContaining("One of its files does not stand where the list of contents says")]);
  });
});

describe("a list of contents behind members that stand elsewhere than it says", () => {
  const draw = seeded(7);
  const files = Object.fromEntries(
    Array.from({ length: 12 }, (_, i) => [`letters/${i}.txt`, Uint8Array.from({ length: 700 + 150 * i }, () => draw() * 64)]),
  );
  const sound = zipSync(files);
  const hashes = new Map(Object.entries(files).map(([name, bytes]) => [`/${name}`, sha256(bytes)]));
  const read = (bytes: Uint8Array) => {
    const source = new MemorySource(bytes);
    const { records, notes } = recordsOf(source);
    return { notes, found: new Map(records.map((record) => [record.path, hashOf(source, record)])) };
  };
  const noise = (length: number) => Uint8Array.from({ length }, (_, i) => (i * 7919) >>> 3);

  it("leads to them where a program stands before the archive", () => {
    for (const length of [1, 4096, 70_001]) {
      const { found, notes } = read(Buffer.concat([strToU8("MZ"), noise(length), sound]));
      expect(notes).toEqual([]);
      expect(found).toEqual(hashes);
    }
  });

  it("leads to all but the one they are in, where bytes slipped in or are gone", () => {
    for (let seed = 1; seed <= 30; seed += 1) {
      const random = seeded(seed);
      const at = 200 + Math.floor(random() * (sound.length - 2500));
      const many = [1, 3, 16, 100][seed % 4] as number;
      const slipped = seed % 2 === 0;
      const bytes = Buffer.concat([sound.subarray(0, at), ...(slipped ? [noise(many)] : []), sound.subarray(slipped ? at : at + many)]);
      const { found } = read(bytes);
      const right = [...hashes].filter(([path, hash]) => found.get(path) === hash).length;
      // Bytes that are gone may be the end of one and the beginning of the next.
      expect(right, `seed ${seed}`).toBeGreaterThanOrEqual(hashes.size - 2);
      expect([...hashes.keys()].filter((path) => !found.has(path)).length).toBeLessThanOrEqual(1);
    }
  });

  it("names what stood in a beginning that is cut off", () => {
    const { found, notes } = read(sound.subarray(1500));
    expect([...found.keys()].sort()).toEqual([...hashes.keys()].sort());
    expect(notes).toHaveLength(1);
    expect([...hashes].filter(([path, hash]) => found.get(path) === hash).length).toBeGreaterThan(hashes.size / 2);
  });

  it("is not that of an archive in the last member, where the archive breaks off behind that one's end", () => {
    const outer = zipSync({ ...files, "inner.zip": [zipSync({ "inner.txt": strToU8("inner") }), { level: 0 }] });
    const end = Buffer.from(outer).indexOf("inner.txt", 0, "latin1");
    const cut = outer.subarray(0, Buffer.from(outer).indexOf("PK\u0005\u0006", end, "latin1") + 22);
    const { found, notes } = read(cut);
    expect(notes).toHaveLength(1);
    for (const path of hashes.keys()) expect(found.get(path)).toBe(hashes.get(path));
  });
});

describe("an archive written as a stream whose list of contents is gone, read lightly", () => {
  // By Python's zipfile to what cannot be gone back in: sizes stand behind the data.
  const stream = backupFile("zip-stream.zip");
  const list = Buffer.from(stream).indexOf("PK\u0001\u0002", 0, "latin1");
  const sound = read(stream);
  function read(bytes: Uint8Array) {
    const source = new MemorySource(bytes);
    return new Map(
      recordsOf(source).records.map((record) => [
        record.path,
        { record, size: record.size, hash: hashOf(source, record), copy: copyOfRecord(record, source) },
      ]),
    );
  }

  it("takes sizes from behind the data", () => {
    for (const bytes of [stream.subarray(0, list), Buffer.concat([stream.subarray(0, list + 40), Buffer.alloc(9000)])]) {
      const found = read(bytes);
      expect([...found.keys()].sort()).toEqual([...sound.keys()].sort());
      for (const [path, { size, hash, record }] of sound)
        if (record.content.kind === "placed") expect([found.get(path)?.size, found.get(path)?.hash], path).toEqual([size, hash]);
    }
  });

  it("never says that a file is empty, or whole, whose size is not known", () => {
    const cut = stream.subarray(0, list);
    let unknown = 0;
    const marks: number[] = [];
    const reader = new BlockReader(new MemorySource(cut));
    for (let at = reader.find(DESCRIPTOR.mark, 0); at >= 0; at = reader.find(DESCRIPTOR.mark, at + 1)) marks.push(at);
    expect(marks.length).toBeGreaterThan(5);
    for (const at of marks) {
      const bytes = Buffer.from(cut);
      bytes.fill(0xee, at, at + 16);
      for (const [path, { size, hash, copy, record }] of read(bytes)) {
        if (record.content.kind === "absent" && record.content.note.startsWith("How long it is")) {
          unknown += 1;
          expect(copy.condition, path).toBe("not-checked");
        } else if (record.content.kind === "placed") expect([size, hash], path).toEqual([sound.get(path)?.size, sound.get(path)?.hash]);
        if (copy.condition === "whole" && size === 0) expect(sound.get(path)?.size, path).toBe(0);
      }
    }
    expect(unknown).toBeGreaterThanOrEqual(marks.length);
  });

  it("nor does a thorough reading, where a file is kept as it is and nothing says where it ends", () => {
    const bytes = Buffer.from(backupFile("zip-stored-stream.zip"));
    const names = (from: Uint8Array) => {
      const disk = new MemorySource(from);
      return [...(openZip(disk, 0, disk.size).readThorough?.(null, 512) ?? [])].flatMap(({ records }) =>
        records.filter(({ type }) => type === "file").map(({ path, size, content }) => ({ path, size, kind: content.kind })),
      );
    };
    const whole = new Map(names(bytes).map(({ path, size }) => [path, size]));
    expect(whole.size).toBeGreaterThan(3);
    const end = bytes.indexOf("PK\u0001\u0002", 0, "latin1");
    const cut = bytes.subarray(0, end);
    const reader = new BlockReader(new MemorySource(bytes));
    for (let at = reader.find(DESCRIPTOR.mark, 0); at >= 0 && at < end; at = reader.find(DESCRIPTOR.mark, at + 1))
      cut.fill(0xee, at, at + 16);
    const found = names(cut);
    for (const { path, size, kind } of found) if (size === 0 && kind === "placed") expect(whole.get(path), path).toBe(0);
    expect(found.filter(({ kind }) => kind === "absent").length).toBeGreaterThan(0);
  });
});
