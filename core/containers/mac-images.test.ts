import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { copiesOf, macBytes, macFixture, macTruth, macVolumes, sha256, wrongOnes } from "../../tests/support/mac-truth";
import { type ByteSource, MemorySource, readBytes } from "../bytes/byte-source";
import { type Layout, LayoutSource } from "../bytes/layout";
import { RangeSet } from "../bytes/range-set";
import { FileSystemError } from "../filesystems/file-record";
import { readPartitions } from "../partitions/read-partitions";
import { inspectDisk, type VolumeReport } from "../volumes/inspect";
import type { Neighbours } from "./container";
import { openContainer } from "./open-container";

interface Image {
  raw: { size: number; sha256: string } | null;
  /** First sector and number of sectors. */
  lost: [number, number][];
  files: Record<string, string>;
}
/** Disk images of which general tools (7-Zip, dmg2img, qemu-img) give the same disk; what was checked by what stands in the fixtures' README. */
const images = JSON.parse(macFixture("disk-images.json.gz").toString()) as Record<string, Image>;

function openImage(name: string, without: readonly string[] = []) {
  const { files } = images[name] as Image;
  const paths = Object.keys(files).filter((path) => !without.includes(path));
  const list = paths.find((path) => path.endsWith("Info.plist"));
  const chosen = list ?? paths.find((path) => path.endsWith(".dmg") || path.endsWith(".sparseimage"));
  if (chosen === undefined) throw new Error(`no image in ${name}`);
  const folder = chosen.includes("/") ? chosen.slice(0, chosen.lastIndexOf("/") + 1) : "";
  const bytesOf = (path: string) => Uint8Array.from(Buffer.from(files[path] as string, "base64"));
  const neighbours: Neighbours = {
    name: chosen.slice(folder.length),
    list: () => paths.map((path) => path.slice(folder.length)).filter((path) => !path.includes("/")),
    open: (path) => (paths.includes(folder + path) ? new MemorySource(bytesOf(folder + path)) : null),
  };
  return openContainer(new MemorySource(bytesOf(chosen)), neighbours);
}

function hashOfDisk(disk: ByteSource): string {
  return sha256(readBytes(disk, 0, disk.size));
}

describe("Mac disk images", () => {
  it.each([
    ["udif-mixed", "udif"],
    ["udif-lzfse-stored", "udif"],
    ["udif-adc", "udif"],
    ["udif-raw", "udif"],
    ["udif-segments", "udif"],
    ["udif-no-trailer", "udif"],
    ["udif-fork-later", "udif"],
    ["udif-relative", "udif"],
    ["sparseimage-hfsplus", "sparse-image"],
    ["sparsebundle-hfsplus", "sparse-bundle"],
  ])("%s gives the disk that was put into it, byte for byte", (name, kind) => {
    const { raw } = images[name] as Image;
    const opened = openImage(name);
    expect(opened.kind).toBe(kind);
    expect(opened.disk.size).toBe(raw?.size);
    expect(hashOfDisk(opened.disk)).toBe(raw?.sha256);
    expect(opened.disk.unreadable(0, opened.disk.size)).toEqual([]);
    expect(opened.notes.join()).not.toContain("checksum");
  });

  it.each([["udif-damaged-chunks"], ["udif-segment-missing"], ["sparseimage-hfsplus-cut"]])(
    "%s: what cannot be read is known to the sector, and no file in it is called whole",
    (name) => {
      const { lost } = images[name] as Image;
      const { disk } = openImage(name, name === "udif-segment-missing" ? ["udif-segments.002.dmgpart"] : []);
      hashOfDisk(disk);
      const wanted = RangeSet.from(lost.map(([first, count]) => ({ start: first * 512, end: (first + count) * 512 })));
      expect(disk.unreadable(0, disk.size)).toEqual([...wanted.ranges]);
      filesAgree(disk);
    },
  );

  it("bands that are lost cannot be distinguished from holes: no file that stands in one is called whole", () => {
    const { disk, notes } = openImage("sparsebundle-bands-lost");
    expect(notes.join()).toContain("cannot be known");
    filesAgree(disk);
  });

  /** A file is called whole exactly when its bytes come out. */
  function filesAgree(disk: ByteSource): void {
    const [volume] = macVolumes(disk) as [VolumeReport];
    const copies = copiesOf(disk, volume, false);
    const live = macTruth("hfsplus-small").entries.filter(({ state, type }) => state === "live" && type === "file");
    const wrong = wrongOnes(live, copies, disk);
    expect(wrong.length).toBeGreaterThan(2);
    expect(wrong.length).toBeLessThan(live.length);
    for (const entry of live) {
      const bad = wrong.some((each) => each.startsWith(`${entry.path}:`));
      const copy = copies.find(({ path, state }) => state === "live" && path === `/${entry.path}`.normalize("NFC"));
      if (bad && entry.size) expect(copy?.condition, entry.path).not.toBe("whole");
    }
  }

  it("without trailer and list, the chunks are found one after the other, and no volume is guessed at", () => {
    for (const [name, chunks] of [
      ["udif-no-list", 7],
      ["udif-cut-short", 3],
    ] as const) {
      const opened = openImage(name);
      expect(opened).toMatchObject({ kind: "udif", placeless: true });
      expect(opened.notes.join()).toContain(`${chunks} compressed chunks were found`);
      const { volumes } = inspectDisk(opened.disk, opened);
      expect(volumes).toMatchObject([{ filesystem: "unknown", closed: null }]);
      // What stands in the chunks is the disk's: its first one begins the volume.
      expect(Buffer.from(readBytes(opened.disk, 1024, 2)).toString()).toBe("H+");
    }
  });

  it("gives no byte for right that is not, whatever one entry of a sparse image's table says", { tags: "long" }, () => {
    const { files } = images["sparseimage-hfsplus"] as Image;
    const sound = Buffer.from(Object.values(files)[0] as string, "base64");
    const truth = readBytes(openContainer(new MemorySource(sound)).disk, 0, openContainer(new MemorySource(sound)).disk.size);
    const entries = Array.from({ length: 1008 }, (_, i) => i).filter((i) => sound.readUInt32BE(64 + i * 4) !== 0);
    expect(entries.length).toBeGreaterThan(3);
    const draw = seeded(3);
    for (let round = 0; round < 24; round += 1) {
      const index = entries[Math.floor(draw() * entries.length)] as number;
      const others = entries.filter((each) => each !== index);
      const other = others[Math.floor(draw() * others.length)] as number;
      const bytes = Buffer.from(sound);
      bytes.writeUInt32BE([0, sound.readUInt32BE(64 + other * 4), 0x7fffffff][round % 3] as number, 64 + index * 4);
      const { disk, notes } = openContainer(new MemorySource(bytes));
      const found = readBytes(disk, 0, disk.size);
      for (const { start, end } of [...disk.unreadable(0, disk.size), ...(disk.doubts ?? [])]) found.set(truth.subarray(start, end), start);
      expect(Buffer.compare(found, truth), `entry ${index}, round ${round}`).toBe(0);
      expect(notes.join(), `entry ${index}, round ${round}`).toContain("table of the image is damaged");
    }
  });

  it.each(["udif-encrypted", "sparsebundle-encrypted"])("%s is said to be encrypted at once", (name) => {
    const opened = openImage(name);
    expect(inspectDisk(opened.disk, opened).volumes).toMatchObject([
      { filesystem: "unknown", closed: expect.stringContaining("Ask the client for the password") },
    ]);
  });

  it("checksums that do not match are said", () => {
    expect(openImage("udif-damaged-chunks").notes.join()).toContain("The checksum does not match");
  });
});

describe("files of an image whose checksum does not match", () => {
  const copiesIn = (disk: ByteSource, volume: VolumeReport) => {
    try {
      return copiesOf(disk, volume, false);
    } catch (error) {
      // What leads to its files may be damaged too.
      if (error instanceof FileSystemError) return [];
      throw error;
    }
  };
  const liveIn = (disk: ByteSource) =>
    macVolumes(disk)
      .flatMap((volume) => copiesIn(disk, volume))
      .filter(({ type, state, layout }) => type === "file" && state === "live" && layout !== null)
      .map(({ path, layout, condition, notes }) => {
        const content = new LayoutSource(disk, layout as Layout);
        return { path, condition, notes, hash: sha256(readBytes(content, 0, content.size)) };
      });

  // How an image is laid out: its list of chunks stands behind them. Decoders of ADC and LZFSE have nothing to compare what they give with.
  it.each(["udif-adc", "udif-lzfse-stored", "udif-mixed"])("are whole only where that is known: %s", { tags: "long" }, (name) => {
    const { files } = images[name] as Image;
    const path = Object.keys(files).find((each) => each.endsWith(".dmg")) as string;
    const bytes = Buffer.from(files[path] as string, "base64");
    const open = (of: Uint8Array) => openContainer(new MemorySource(of), { name: path, list: () => [path], open: () => null }).disk;
    const undamaged = liveIn(open(bytes));
    // A name may be damaged, and its content not.
    const sound = new Set(undamaged.map(({ hash }) => hash));
    expect(undamaged.every(({ condition }) => condition === "whole")).toBe(true);
    const chunksEnd = bytes.indexOf("<?xml");
    expect(chunksEnd).toBeGreaterThan(0);
    let [wrong, unchecked, proven] = [0, 0, 0];
    for (let seed = 1; seed <= 12; seed += 1) {
      const random = seeded(seed);
      const damaged = Uint8Array.from(bytes);
      for (let count = 1 + Math.floor(random() * 3); count > 0; count -= 1) {
        const at = Math.floor(random() * chunksEnd);
        damaged[at] = (damaged[at] as number) ^ (1 << Math.floor(random() * 8));
      }
      for (const { path: file, condition, hash, notes } of liveIn(open(damaged))) {
        const isRight = sound.has(hash);
        if (condition === "whole") expect(isRight, `seed ${seed}: ${file}`).toBe(true);
        if (!isRight) wrong += 1;
        if (condition === "not-checked") unchecked += 1;
        if (condition === "whole" && notes.join().includes("a checksum of the image does not match")) proven += 1;
      }
    }
    console.log(`${name}: ${wrong} files damaged, ${unchecked} not checked, ${proven} proven by their own content`);
    expect(unchecked).toBeGreaterThan(10);
    expect(proven).toBeGreaterThan(0);
  });
});

describe("Apple partition map", () => {
  it("with a damaged first entry still leads to its volume", () => {
    const disk = new MemorySource(macBytes("apm-first-entry-damaged"));
    const table = readPartitions(disk);
    expect(table).toMatchObject({ kind: "apm", sectorSize: 512, partitions: [{ start: 131_072 }] });
    expect(table.notes.join()).toContain("An entry of the partition map (1) is damaged");
    const live = macTruth("hfsplus-small").entries.filter(({ state }) => state === "live");
    expect(wrongOnes(live, copiesOf(disk, macVolumes(disk)[0] as VolumeReport, false), disk)).toEqual([]);
  });

  it("in blocks of 2048 bytes, as discs have it, is read by the size that its first block gives", () => {
    // Laid out by hand after "Inside Macintosh: Devices".
    const small = macBytes("hfsplus-small");
    const bytes = new Uint8Array((64 << 10) + small.length);
    const view = new DataView(bytes.buffer);
    const text = (at: number, value: string) => bytes.set(Buffer.from(value), at);
    view.setUint16(0, 0x4552);
    view.setUint16(2, 2048);
    const entry = (index: number, start: number, blocks: number, name: string, type: string) => {
      view.setUint16(index * 2048, 0x504d);
      view.setUint32(index * 2048 + 4, 2);
      view.setUint32(index * 2048 + 8, start);
      view.setUint32(index * 2048 + 12, blocks);
      text(index * 2048 + 16, name);
      text(index * 2048 + 48, type);
    };
    entry(1, 1, 31, "map", "Some_partition_map");
    entry(2, 32, small.length / 2048, "disc", "Some_HFS");
    bytes.set(small, 64 << 10);
    const table = readPartitions(new MemorySource(bytes));
    expect(table).toMatchObject({ kind: "apm", sectorSize: 2048, partitions: [{ start: 64 << 10, length: small.length, name: "disc" }] });
  });

  it("a hybrid disk's volume is offered once", () => {
    const { volumes, table } = inspectDisk(new MemorySource(macBytes("hybrid")));
    expect(table).toBe("gpt");
    expect(volumes.filter(({ filesystem }) => filesystem === "hfsplus").length).toBe(1);
  });
});
