import { createHash } from "node:crypto";
import { gunzipSync, gzipSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import { dynamicVhd } from "../../tests/support/dynamic-vhd";
import { holes } from "../../tests/support/holes";
import { differencing, smallDisk } from "../../tests/support/small-disk";
import { contentHash, fixture, readTruth } from "../../tests/support/volume-truth";
import { type ByteSource, MemorySource, readBytes } from "../bytes/byte-source";
import { crc32c } from "../bytes/crc32c";
import { fileRecordsPass } from "../copies/file-records-pass";
import { FileSystemError } from "../filesystems/file-record";
import { inspectDisk, openVolume } from "../volumes/inspect";
import { ContainerError, type Neighbours, NO_NEIGHBOURS } from "./container";
import { openContainer } from "./open-container";

/** What qemu-img wrote, and the hash of the disk it reads inside. */
const made = JSON.parse(fixture("containers.json.gz").toString()) as Record<string, { sha256: string; size: number; gzip: string }>;
const file = (name: string) => gunzipSync(Buffer.from(made[name]?.gzip ?? "", "base64"));
const hash = (source: ByteSource) =>
  createHash("sha256")
    .update(readBytes(source, 0, source.size))
    .digest("hex");
const KIB = 1024;

describe("CRC-32C", () => {
  it("gives the published check values (RFC 3720, B.4)", () => {
    expect(crc32c(new Uint8Array(32))).toBe(0x8a9136aa);
    expect(crc32c(new Uint8Array(32).fill(0xff))).toBe(0x62a8ab43);
    expect(crc32c(Uint8Array.from({ length: 32 }, (_, i) => i))).toBe(0x46dd794e);
  });
});

describe("images of a disk", () => {
  it.each([
    ["fixed.vhd", "vhd", "fixed"],
    ["dynamic.vhd", "vhd", "dynamic"],
    ["dynamic.vhdx", "vhdx", "dynamic"],
    ["fixed.vhdx", "vhdx", "fixed"],
    ["dirty.vhdx", "vhdx", "dynamic"],
  ])("%s: every byte is what qemu-img reads", (name, kind, form) => {
    const container = openContainer(new MemorySource(file(name)));
    expect([container.kind, container.form, container.disk.size]).toEqual([kind, form, made[name]?.size]);
    expect(hash(container.disk)).toBe(made[name]?.sha256);
    expect(container.identity).toMatch(/^[0-9A-F]{8}-/);
    expect(container.notes.join()).toBe(
      name.startsWith("dirty")
        ? "The image was not closed properly: 2 entries of its log were applied in memory; the file stays as it is."
        : "",
    );
  });

  it("a log is replayed in memory: the file's own bytes stay as they are", () => {
    const bytes = file("dirty.vhdx");
    const before = bytes.toString("latin1");
    const { disk } = openContainer(new MemorySource(bytes));
    readBytes(disk, 0, disk.size);
    expect(bytes.toString("latin1")).toBe(before);
  });

  it.each([
    ["dynamic.vhd", -512, 512, "copy at the beginning was used"],
    ["dynamic.vhdx", 64 * KIB, 4096, "two headers is damaged"],
    ["dynamic.vhdx", 128 * KIB, 4096, "two headers is damaged"],
    ["dynamic.vhdx", 192 * KIB, 4096, "its copy was used"],
  ])("%s with %i damaged is read by its copy", (name, at, length, note) => {
    const bytes = file(name);
    const from = at < 0 ? bytes.length + at : at;
    bytes.fill(0, from, from + length);
    const container = openContainer(new MemorySource(bytes));
    expect(hash(container.disk)).toBe(made[name]?.sha256);
    expect(container.notes.join()).toContain(note);
  });

  it("both copies damaged, and what they lead to, is said in a sentence", () => {
    const bytes = file("dynamic.vhdx");
    bytes.fill(0, 192 * KIB, bytes.length);
    expect(() => openContainer(new MemorySource(bytes))).toThrow(ContainerError);
  });

  it.each([
    ["dynamic.vhdx", 192 * KIB],
    ["fixed.vhdx", 192 * KIB],
    ["dynamic.vhdx", 0],
    ["fixed.vhdx", 0],
  ])("%s whose first MiB is zeros from %i on is read by what its parts look like", (name, from) => {
    const bytes = file(name);
    bytes.fill(0, from, 1 << 20);
    const { kind, disk, notes } = openContainer(new MemorySource(bytes), { ...NO_NEIGHBOURS, name: `disk ${name}` });
    expect([kind, hash(disk)]).toEqual(["vhdx", made[name]?.sha256]);
    expect(notes.join()).toContain("found by what they look like");
  });

  it("what is only called a VHDX is a disk as it is", () => {
    const bytes = Buffer.alloc(6 << 20, 0x55);
    bytes.write("metadata", 2 << 20, "latin1");
    for (const name of ["disk.vhdx", "disk.img"])
      expect(openContainer(new MemorySource(bytes), { ...NO_NEIGHBOURS, name }).kind).toBe("raw");
  });

  it("a VHDX without headers is read by its tables of regions, and it is said that its log is not known", () => {
    const bytes = file("dynamic.vhdx");
    bytes.fill(0, 64 * KIB, 132 * KIB);
    const { disk, notes } = openContainer(new MemorySource(bytes));
    expect(hash(disk)).toBe(made["dynamic.vhdx"]?.sha256);
    expect(notes.join()).toContain("whether its log holds changes");
  });

  it("holes cost nothing: 30 TB of them are opened by reading their ends alone", () => {
    const source = holes(30e12);
    expect(openContainer(source).kind).toBe("raw");
    expect(source.counted()).toBeLessThan(1 << 20);
  });
});

describe("a differencing VHD", () => {
  const child = () => new MemorySource(fixture("diff-child.vhd.gz"));

  it("and its parent beside it give the disk its makers describe, whatever the parent is called now", () => {
    const { sha256 } = readTruth("small-mbr") as unknown as { sha256: string };
    for (const neighbours of [differencing(), differencing({ renamed: "older copy.vhd" })]) {
      const container = openContainer(child(), neighbours);
      expect([container.form, hash(container.disk)]).toEqual(["differencing", sha256]);
      expect(container.notes[0]).toMatch(/^Holds the changes to “(open-diff-parent|older copy)\.vhd”/);
    }
  });

  it("beside other children of the same parent finds it all the same, and without it still says what is wanted", () => {
    const others = ["second.vhd", "third.vhd", "fourth.vhd"];
    const among = (parent: Neighbours): Neighbours => ({
      ...parent,
      list: () => [...others, ...parent.list()],
      open: (name) => (others.includes(name) ? child() : parent.open(name)),
    });
    expect(openContainer(child(), among(differencing({ renamed: "older copy.vhd" }))).form).toBe("differencing");
    expect(() => openContainer(child(), among(differencing({ without: true })))).toThrow(/which is not beside it/);
  });

  it("without its parent says which file is wanted", () => {
    expect(() => openContainer(child(), differencing({ without: true }))).toThrow(
      /changes to “open-diff-parent\.vhd”, which is not beside it: put it into the same folder/,
    );
  });
});

describe("a differencing VHDX", () => {
  const parent = file("dynamic.vhdx");
  // Of the two headers the one with the higher number is current (2.2.2).
  const current = parent.readBigUInt64LE(64 * KIB + 8) > parent.readBigUInt64LE(128 * KIB + 8) ? 64 * KIB : 128 * KIB;
  const header = parent.subarray(current, current + 4096);
  const neighbours = (files: Record<string, Buffer>): Neighbours => ({
    name: "child.vhdx",
    list: () => Object.keys(files),
    open: (name) => (files[name] ? new MemorySource(files[name] as Buffer) : null),
  });

  it("takes changed sectors from itself and the others from its parent ([MS-VHDX] 2.5.1.2, 2.6.2.6)", () => {
    const expected = readBytes(openContainer(new MemorySource(parent)).disk, 0, 8 << 20);
    expected.fill(0x77, 512 * 8200, 512 * 8203);
    const child = differencingVhdx(header, 8200, 3);
    const container = openContainer(new MemorySource(child), neighbours({ "base.vhdx": parent, "child.vhdx": child }));
    expect(container.form).toBe("differencing");
    expect(hash(container.disk)).toBe(createHash("sha256").update(expected).digest("hex"));
  });

  it("beside other children of the same parent finds it all the same, and without it still says what is wanted", () => {
    const child = differencingVhdx(header, 8200, 3);
    const others = { "a.vhdx": child, "b.vhdx": child, "c.vhdx": child };
    expect(openContainer(new MemorySource(child), neighbours({ ...others, "z.vhdx": parent })).form).toBe("differencing");
    expect(() => openContainer(new MemorySource(child), neighbours(others))).toThrow(/which is not beside it/);
  });

  it("does not take a parent that was changed since", () => {
    const child = differencingVhdx(header, 8200, 3);
    expect(() => openContainer(new MemorySource(child), neighbours({ "base.vhdx": file("fixed.vhdx"), "child.vhdx": child }))).toThrow(
      "base.vhdx",
    );
  });
});

/** A child with `count` changed sectors from `sector` on, written after [MS-VHDX] by hand. */
function differencingVhdx(parentHeader: Buffer, sector: number, count: number): Buffer {
  const mib = 1 << 20;
  const bytes = Buffer.alloc(7 * mib);
  const guid = (text: string, at: number) => {
    const hex = text.replaceAll("-", "");
    const order = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];
    for (const [index, from] of order.entries()) bytes[at + index] = Number.parseInt(hex.slice(from * 2, from * 2 + 2), 16);
  };
  const seal = (at: number, length: number) => bytes.writeUInt32LE(crc32c(bytes.subarray(at, at + length)), at + 4);
  bytes.write("vhdxfile", 0, "latin1");
  for (const [index, at] of [64 * KIB, 128 * KIB].entries()) {
    bytes.write("head", at, "latin1");
    bytes.writeBigUInt64LE(BigInt(index + 1), at + 8);
    bytes.fill(9, at + 32, at + 48);
    bytes.writeUInt16LE(1, at + 66);
    bytes.writeUInt32LE(mib, at + 68);
    bytes.writeBigUInt64LE(BigInt(mib), at + 72);
    seal(at, 4096);
  }
  for (const at of [192 * KIB, 256 * KIB]) {
    bytes.write("regi", at, "latin1");
    bytes.writeUInt32LE(2, at + 8);
    for (const [index, [id, place]] of [
      ["2DC27766-F623-4200-9D64-115E9BFD4A08", 3],
      ["8B7CA206-4790-4B9A-B8FE-575F050F886E", 2],
    ].entries()) {
      const entry = at + 16 + index * 32;
      guid(id as string, entry);
      bytes.writeBigUInt64LE(BigInt((place as number) * mib), entry + 16);
      bytes.writeUInt32LE(mib, entry + 24);
    }
    seal(at, 64 * KIB);
  }
  const linkage = [...parentHeader.subarray(32, 48)].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  const mark = linkage.replace(/^(..)(..)(..)(..)(..)(..)(..)(..)(....)(.{12})$/, "{$4$3$2$1-$6$5-$8$7-$9-$10}");
  const pairs = Object.entries({ parent_linkage: mark, relative_path: ".\\base.vhdx" });
  const locator = Buffer.alloc(1024);
  locator.writeUInt16LE(pairs.length, 18);
  let textAt = 20 + pairs.length * 12;
  for (const [index, [key, value]] of pairs.entries()) {
    const entry = 20 + index * 12;
    for (const [offset, text] of [
      [0, key],
      [4, value],
    ] as const) {
      locator.writeUInt32LE(textAt, entry + offset);
      locator.writeUInt16LE(text.length * 2, entry + 8 + offset / 2);
      textAt += locator.write(text, textAt, "utf16le");
    }
  }
  const number = (value: number, size: number) => {
    const item = Buffer.alloc(size);
    item.writeUInt32LE(value, 0);
    return item;
  };
  const parameters = Buffer.alloc(8);
  parameters.writeUInt32LE(mib, 0);
  parameters.writeUInt32LE(2, 4);
  const items: [string, Buffer][] = [
    ["CAA16737-FA36-4D43-B3B6-33F0AA44E76B", parameters],
    ["2FA54224-CD1B-4876-B211-5DBED83BF4B8", number(8 * mib, 8)],
    ["8141BF1D-A96F-4709-BA47-F233A8FAAB5F", number(512, 4)],
    ["A8D35F2D-B30B-454D-ABF7-D3D84834AB0C", locator],
  ];
  bytes.write("metadata", 2 * mib, "latin1");
  bytes.writeUInt16LE(items.length, 2 * mib + 10);
  let itemAt = 64 * KIB;
  for (const [index, [id, item]] of items.entries()) {
    const entry = 2 * mib + 32 + index * 32;
    guid(id, entry);
    bytes.writeUInt32LE(itemAt, entry + 16);
    bytes.writeUInt32LE(item.length, entry + 20);
    item.copy(bytes, 2 * mib + itemAt);
    itemAt += item.length;
  }
  // One chunk: 4096 blocks of 1 MiB, and behind their entries the one of the sector bitmap.
  const block = Math.floor((sector * 512) / mib);
  bytes.writeBigUInt64LE((5n << 20n) | 7n, 3 * mib + block * 8);
  bytes.writeBigUInt64LE((4n << 20n) | 6n, 3 * mib + 4096 * 8);
  for (let i = sector; i < sector + count; i += 1) {
    bytes[4 * mib + (i >>> 3)] = (bytes[4 * mib + (i >>> 3)] as number) | (1 << (i & 7));
    bytes.fill(0x77, 5 * mib + (i * 512 - block * mib), 5 * mib + (i * 512 - block * mib) + 512);
  }
  return bytes;
}

describe("a raw image in parts", () => {
  const whole = Buffer.from(Array.from({ length: 10_000 }, (_, i) => i % 251));
  const parts = (names: readonly string[], missing = ""): Record<string, Buffer> =>
    Object.fromEntries(names.flatMap((name, i) => (name === missing ? [] : [[name, whole.subarray(i * 4000, (i + 1) * 4000)]])));
  const open = (name: string, files: Record<string, Buffer>) =>
    openContainer(new MemorySource(files[name] as Buffer), {
      name,
      list: () => Object.keys(files),
      open: (other) => (files[other] ? new MemorySource(files[other] as Buffer) : null),
    });

  it.each([
    [["d.001", "d.002", "d.003"]],
    [["d.000", "d.001", "d.002"]],
    [["d.img.aa", "d.img.ab", "d.img.ac"]],
    [["D.0001", "D.0002", "D.0003"]],
  ])("%s is one disk, whichever part is chosen", (names) => {
    for (const name of names) {
      const container = open(name, { ...parts(names), "other.001": Buffer.alloc(3), "notes.txt": Buffer.alloc(1) });
      expect([container.kind, hash(container.disk)]).toEqual(["split", createHash("sha256").update(whole).digest("hex")]);
      const across = readBytes(container.disk, 3990, 4020);
      expect(Buffer.from(across).equals(whole.subarray(3990, 8010))).toBe(true);
    }
  });

  it("with a part missing names it", () => {
    expect(() => open("d.001", parts(["d.001", "d.002", "d.003"], "d.002"))).toThrow("“d.002” of this split image is missing");
    expect(() => open("d.003", parts(["d.001", "d.002", "d.003"], "d.001"))).toThrow("“d.001” of this split image is missing");
  });

  it("a lone file whose name only looks like a part is a disk of its own", () => {
    expect(open("backup.old", parts(["backup.old"])).kind).toBe("raw");
    expect(open("disk.vhd", { "disk.vhd": whole, "disk.vhe": whole }).kind).toBe("raw");
  });
});

describe("a dynamic image that was cut short", () => {
  it("says which bytes of its disk went with the end of the file; nothing on them is called whole that is not", { tags: "long" }, () => {
    const disk = smallDisk();
    const image = dynamicVhd(disk);
    expect(Buffer.from(readBytes(openContainer(new MemorySource(image)).disk, 0, disk.length)).equals(disk)).toBe(true);
    const hashes = (of: ByteSource) => {
      const found = inspectDisk(of).volumes.flatMap((report) => {
        try {
          return [...fileRecordsPass(openVolume(of, report), of)].flatMap(({ copies }) => copies);
        } catch (error) {
          if (!(error instanceof FileSystemError)) throw error;
          return [];
        }
      });
      return found.map((copy) => ({ copy, hash: contentHash(copy, of) }));
    };
    const whole = new Set(hashes(openContainer(new MemorySource(image)).disk).map(({ copy, hash }) => `${copy.path} ${hash}`));
    let gone = 0;
    for (const share of [0.2, 0.35, 0.5, 0.65, 0.8, 0.95]) {
      const cut = openContainer(new MemorySource(image.subarray(0, Math.floor(image.length * share)))).disk;
      const missing = cut.unreadable(0, cut.size);
      const read = readBytes(cut, 0, cut.size);
      for (const { start, end } of missing) read.set(disk.subarray(start, end), start);
      expect(Buffer.from(read).equals(disk), `${share}`).toBe(true);
      for (const { copy, hash } of hashes(cut)) {
        if (copy.condition === "whole" && copy.size > 0) expect(whole.has(`${copy.path} ${hash}`), `${share} ${copy.path}`).toBe(true);
        if (copy.evidence.unreadable > 0) gone += 1;
      }
    }
    expect(gone).toBeGreaterThan(5);
  });
});

describe("an image that is compressed as a whole", () => {
  it.each(["ntfs-gpt", "fat12", "exfat"])("%s: is the disk it unpacks to, with its volumes", (name) => {
    const image = fixture(`${name}.img.gz`);
    const container = openContainer(new MemorySource(gzipSync(image, { level: 1 })));
    expect(container.kind).toBe("packed");
    expect(container.disk.size).toBe(image.length);
    const volumesOf = (disk: ByteSource) =>
      inspectDisk(disk).volumes.map(({ offset, length, filesystem, label }) => ({ offset, length, filesystem, label }));
    expect(volumesOf(container.disk)).toEqual(volumesOf(new MemorySource(image)));
    expect(volumesOf(container.disk)[0]?.filesystem).not.toBe("unknown");
    const at = Math.floor(image.length / 2);
    expect(Buffer.from(readBytes(container.disk, at, 5000)).equals(image.subarray(at, at + 5000))).toBe(true);
  });

  it("is one as far as it goes where it is cut off, and says so", () => {
    const image = fixture("fat12.img.gz");
    const packed = gzipSync(image);
    const { kind, disk, notes } = openContainer(new MemorySource(packed.subarray(0, packed.length * 0.9)));
    expect(kind).toBe("packed");
    expect(notes).toContainEqual(expect.stringContaining("cut off"));
    expect(Buffer.from(readBytes(disk, 0, disk.size)).equals(image.subarray(0, disk.size))).toBe(true);
    expect(inspectDisk(disk).volumes[0]?.filesystem).toBe("fat12");
  });

  it("has no file that is called whole with bytes its checksum does not vouch for", () => {
    const image = fixture("fat16.img.gz");
    const truth = new Map(readTruth("fat16").entries.map((entry) => [entry.path.normalize("NFC"), entry.sha256]));
    for (let i = 0; i < 6; i += 1) {
      const packed = gzipSync(image);
      const at = Math.floor(packed.length * (0.2 + i * 0.12));
      if (i % 2 === 0) packed[at] = (packed[at] as number) ^ 0x10;
      else packed.fill(0, at, at + 300);
      const { kind, disk, notes } = openContainer(new MemorySource(packed));
      expect([kind, notes.some((note) => note.includes("no file with such bytes is called whole"))]).toEqual(["packed", true]);
      const [report] = inspectDisk(disk).volumes;
      const copies = report ? [...fileRecordsPass(openVolume(disk, report), disk)].flatMap((batch) => batch.copies) : [];
      expect(copies.length).toBeGreaterThan(10);
      for (const copy of copies)
        if (copy.type === "file" && copy.condition === "whole" && copy.size > 0)
          expect(contentHash(copy, disk), copy.path).toBe(truth.get(copy.path.normalize("NFC")));
    }
  });

  it("is none where it holds something else: that is one file", () => {
    for (const held of ["a letter", "\0".repeat(70_000), "<xml/>".repeat(9000)]) {
      const container = openContainer(new MemorySource(gzipSync(held)));
      const { volumes } = inspectDisk(container.disk, container);
      expect(volumes.map(({ filesystem, offset, length }) => [filesystem, offset, length])).toEqual([["packed", 0, held.length]]);
    }
  });
});
