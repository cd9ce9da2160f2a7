import { crc32 } from "node:zlib";
import { deflateSync, strToU8, zipSync } from "fflate";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { backupFile } from "../../tests/support/backup-truth";
import { sha256 } from "../../tests/support/mac-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { readZipArchive } from "./zip-archive";

const read = (bytes: Uint8Array) => {
  const { entries, notes } = readZipArchive([new MemorySource(bytes)]);
  const files = entries.filter(({ type }) => type === "file");
  const found = files.map((entry) => {
    const content = entry.open();
    return {
      path: entry.path,
      standing: entry.standing,
      size: entry.size,
      note: entry.note,
      hash: sha256(readBytes(content, 0, content.size)),
    };
  });
  return { notes, found };
};

describe("an archive of a set whose members stand elsewhere than its list of contents says", () => {
  const draw = seeded(11);
  const files = Object.fromEntries(
    Array.from({ length: 12 }, (_, i) => [`C/Users/mira/${i}.txt`, Uint8Array.from({ length: 600 + 130 * i }, () => draw() * 50)]),
  );
  // One that is kept as it is, with members of its own, which are none of this archive's.
  const inner = zipSync({ "inner.txt": strToU8("inner "), "other.txt": strToU8("other") }, { level: 0 });
  const sound = zipSync({ ...files, "C/Users/mira/inner.zip": [inner, { level: 0 }] });
  const hashes = new Map(Object.entries({ ...files, "C/Users/mira/inner.zip": inner }).map(([path, bytes]) => [path, sha256(bytes)]));

  it("gives them back, and no other, behind a program", () => {
    const { found, notes } = read(Buffer.concat([strToU8("MZ"), Buffer.alloc(5000, 0x90), sound]));
    expect(notes).toEqual([]);
    expect(new Map(found.map(({ path, hash }) => [path, hash]))).toEqual(hashes);
    expect(new Set(found.map(({ standing }) => standing))).toEqual(new Set(["sound"]));
  });

  it("gives back all but the one in which bytes slipped in or are gone, and calls nothing sound that is not", () => {
    for (let seed = 1; seed <= 30; seed += 1) {
      const random = seeded(seed);
      const at = Math.floor(random() * (sound.length - 2800));
      const bytes = Buffer.from(sound);
      const damaged =
        seed % 2 === 0
          ? Buffer.concat([bytes.subarray(0, at), Buffer.from("xyz"), bytes.subarray(at)])
          : Buffer.concat([bytes.subarray(0, at), bytes.subarray(at + 5)]);
      const { found } = read(damaged);
      expect(
        found.map(({ path }) => path).filter((path) => path.endsWith("inner.txt")),
        `seed ${seed}`,
      ).toEqual([]);
      for (const { path, standing, hash } of found) if (standing === "sound") expect(hash, `seed ${seed}, ${path}`).toBe(hashes.get(path));
      expect(found.filter(({ standing }) => standing === "sound").length, `seed ${seed}`).toBeGreaterThanOrEqual(hashes.size - 2);
    }
  });
});

describe("an archive of a set that was written as a stream, without its list of contents", () => {
  // By Python's zipfile to what cannot be gone back in: sizes stand behind the data.
  const stream = backupFile("zip-stream.zip");
  const cut = Buffer.from(stream.subarray(0, Buffer.from(stream).indexOf("PK\u0001\u0002", 0, "latin1")));
  const truth = new Map(read(stream).found.map(({ path, hash, standing }) => [path, { hash, standing }]));

  it("gives back what it did with it", () => {
    const { found, notes } = read(cut);
    expect(notes).toHaveLength(1);
    expect(new Map(found.map(({ path, hash, standing }) => [path, { hash, standing }]))).toEqual(truth);
  });

  it("calls no file empty or sound of which nothing says how long it is", () => {
    let unsized = 0;
    for (let at = cut.indexOf("PK\u0007\u0008", 0, "latin1"); at >= 0; at = cut.indexOf("PK\u0007\u0008", at + 1, "latin1")) {
      const bytes = Buffer.from(cut);
      bytes.fill(0xee, at, at + 16);
      for (const { path, standing, hash, note } of read(bytes).found) {
        if (standing === "sound") expect(hash, path).toBe(truth.get(path)?.hash);
        if (!note?.startsWith("How long it is")) continue;
        unsized += 1;
        expect(standing).toBe("not-followed");
      }
    }
    expect(unsized).toBeGreaterThan(5);
  });
});

it("says of an archive with passwords that their content cannot be read, and that no file is left out of its list", () => {
  const locked = readZipArchive([new MemorySource(backupFile("zip-locked.zip"))]);
  expect(locked.notes.join(" ")).toMatch(/protected by a password/);
  expect(locked.isAll).toBe(true);
  const bytes = Buffer.from(backupFile("zip-plain.zip"));
  expect(readZipArchive([new MemorySource(bytes)]).isAll).toBe(true);
  expect(readZipArchive([new MemorySource(bytes.subarray(0, bytes.length - 200))]).isAll).toBe(false);
});

it("unpacks only so much for sizes that stand behind the data, in all of an archive", () => {
  const plain = new Uint8Array(1 << 20);
  const packed = deflateSync(plain);
  const member = (name: string) => {
    const header = Buffer.alloc(30);
    header.write("PK\u0003\u0004", "latin1");
    // Bit 3: sizes come behind the data; method 8 (APPNOTE.TXT 4.4.4, 4.4.5).
    header.writeUInt16LE(8, 6);
    header.writeUInt16LE(8, 8);
    header.writeUInt16LE(name.length, 26);
    const behind = Buffer.alloc(16);
    behind.write("PK\u0007\u0008", "latin1");
    behind.writeUInt32LE(crc32(plain), 4);
    behind.writeUInt32LE(packed.length, 8);
    behind.writeUInt32LE(plain.length, 12);
    // What stands between two members hides that the sizes of one end there.
    return Buffer.concat([header, Buffer.from(name), packed, behind, Buffer.from("????")]);
  };
  const source = new MemorySource(Buffer.concat(["one", "two", "three"].map(member)));
  const standings = (most?: number) => readZipArchive([source], most).entries.map(({ path, size, standing }) => [path, size, standing]);
  expect(standings()).toEqual([
    ["one", 1 << 20, "sound"],
    ["two", 1 << 20, "sound"],
    ["three", 1 << 20, "sound"],
  ]);
  expect(standings(1_500_000)).toEqual([
    ["one", 1 << 20, "sound"],
    ["two", 0, "not-followed"],
    ["three", 0, "not-followed"],
  ]);
});
