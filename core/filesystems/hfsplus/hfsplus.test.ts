import { describe, expect, it } from "vitest";
import {
  copiesOf,
  deletedOnes,
  falselyWhole,
  hashOf,
  type MacEntry,
  macBytes,
  macSource,
  macTruth,
  macVolumes,
  wrongOnes,
} from "../../../tests/support/mac-truth";
import { MemorySource } from "../../bytes/byte-source";
import { inspectDisk, openVolume, type VolumeReport } from "../../volumes/inspect";

/** Volumes made by mkfs.hfsplus 540.1 and the hfsplus driver of Linux 6.1; their manifests were written by the maker. */
const read = (name: string) => {
  const disk = macSource(name);
  const [volume] = macVolumes(disk);
  if (!volume) throw new Error("no volume");
  return { disk, volume, truth: macTruth(name), copies: copiesOf(disk, volume) };
};
const inState = (entries: readonly MacEntry[], state: string) => entries.filter((entry) => entry.state === state && !entry.damaged);

describe("HFS Plus and HFSX", () => {
  it.each([
    ["hfsplus-mixed", "hfsplus", "Fennmoor HD"],
    ["hfsplus-overwritten", "hfsplus", "Calloway"],
    ["hfsx-case", "hfsx", "Brindle CS"],
    ["hfsplus-decmpfs", "hfsplus", "Tightly Packed"],
    ["hfsplus-dirlinks", "hfsplus", "Dated Brindle"],
    ["hfsplus-small", "hfsplus", "Quayside"],
    ["journal-applied", "hfsplus", "Weir"],
  ])("%s: all live files come out with their bytes, forks and attributes", (name, filesystem, label) => {
    const { disk, volume, truth, copies } = read(name);
    expect(volume).toMatchObject({ filesystem, label, standing: "present" });
    expect(wrongOnes(inState(truth.entries, "live"), copies, disk)).toEqual([]);
    expect(falselyWhole(truth, copies, disk)).toEqual([]);
    // Nothing is invented: what is live is in the manifest.
    const known = new Set(truth.entries.map(({ path }) => `/${path}`.normalize("NFC")));
    const folders = copies.filter(({ type }) => type === "folder").map(({ path }) => path);
    const invented = copies.filter(({ state, system, path }) => state === "live" && !system && !known.has(path));
    expect(invented.map(({ path }) => path).filter((path) => !folders.includes(path))).toEqual([]);
  });

  it("every deleted file of which a full record stands anywhere is found with its content", () => {
    // In these two, old content of the journal holds records from before their files were emptied and removed.
    for (const [name, wanted] of [
      ["journal-applied", 4],
      ["journal-bigendian", 14],
      ["journal-torn", 14],
      ["journal-flags", 14],
    ] as const) {
      const { disk, truth, copies } = read(name);
      const deleted = inState(truth.entries, "deleted").filter(({ type }) => type === "file");
      expect(deletedOnes(deleted, copies, disk), name).toMatchObject({ found: wanted, named: wanted });
      expect(falselyWhole(truth, copies, disk)).toEqual([]);
      // Free blocks prove nothing on HFS Plus: whole is what proves itself.
      const whole = copies.filter(
        ({ state, type, condition, size }) => state === "deleted" && type === "file" && condition === "whole" && size > 0,
      );
      expect(whole.length, name).toBeGreaterThan(0);
      expect(whole.every(({ evidence }) => evidence.content?.finding === "agrees" && evidence.content.checked)).toBe(true);
      expect(deleted.length).toBe(wanted);
    }
  });

  it("a record of a file that was emptied as it was removed claims nothing of its content", () => {
    const { truth, copies } = read("hfsplus-overwritten");
    const gone = truth.entries.filter(({ state, type }) => state.startsWith("deleted") && type === "file");
    const emptied = copies.filter(({ state, type, size }) => state === "deleted" && type === "file" && size === 0);
    expect(emptied.length).toBeGreaterThan(10);
    for (const copy of emptied) expect(copy).toMatchObject({ condition: "name-only", absent: "record-damaged" });
    expect(gone.filter(({ overwrittenPart }) => overwrittenPart).length).toBe(7);
  });

  it.each(["journal-bigendian", "journal-flags", "journal-torn"])(
    "%s: the files are those after the changes that wait in the journal",
    (name) => {
      const { disk, truth, copies, volume } = read(name);
      expect(
        wrongOnes(inState(truth.entries, "live"), copies, disk).filter((wrong) => name !== "journal-torn" || !wrong.includes("not listed")),
      ).toEqual([]);
      expect(volume.notes.join()).toContain(name === "journal-torn" ? "2 changes wait" : "3 changes wait");
      if (name === "journal-torn") expect(volume.notes.join()).toContain("does not hold together");
      // What a file deleted by a waiting change held may be overwritten by a later one's.
      const parts = truth.entries.filter(({ overwrittenPart }) => overwrittenPart === "part");
      expect(parts.length).toBe(2);
      for (const entry of parts) {
        const copy = copies.find(({ path, state }) => state === "deleted" && path === `/${entry.path}`);
        expect(copy?.condition, entry.path).toBe("partial");
      }
    },
  );

  it("links to folders show the linked folder in each place; a link to nothing and a circle are said", () => {
    const { copies } = read("hfsplus-dirlinks");
    const fonts = copies.filter(({ path }) => path.endsWith("/Fonts/Face 0.txt"));
    expect(fonts.length).toBeGreaterThan(1);
    const broken = read("hfsplus-dirlinks-broken").copies;
    expect(broken.find(({ path }) => path.endsWith("2024-06-01-100001/Fennmoor HD/Users/maribel/Pictures"))?.notes.join()).toContain(
      "not there any more",
    );
    expect(broken.filter(({ path }) => path.includes("/Help/Notes/Help")).length).toBe(0);
  });

  it("damaged compressed files are never called whole once they were read, and what is sound of them comes out", () => {
    const { disk, truth, copies } = read("hfsplus-decmpfs");
    const damaged = truth.entries.filter(({ path }) => path.startsWith("Damaged/"));
    expect(damaged.length).toBe(7);
    for (const entry of damaged) {
      const copy = copies.find(({ path }) => path === `/${entry.path}`);
      const sound = copy?.layout && hashOf(copy.layout, disk) === entry.sha256;
      // "count too large": the entries of the table that matter are right.
      if (entry.path.includes("count too large")) expect(sound).toBe(true);
      else expect(sound, entry.path).toBeFalsy();
    }
  });
});

describe("what does not add up in an HFS Plus volume", () => {
  it("is nothing on volumes that a driver wrote and left in order", () => {
    for (const name of ["hfsplus-mixed", "hfsplus-overwritten", "hfsx-case", "hfsplus-dirlinks", "journal-bigendian"]) {
      const { disk, volume } = read(name);
      expect(openVolume(disk, volume).findings?.(), name).toEqual([]);
    }
  });

  it("is found: a block that two files claim, one that the map calls free, and a wrong number of files", () => {
    const bytes = macBytes("hfsplus-small");
    const view = new DataView(bytes.buffer);
    const { at } = catalogOf(bytes);
    // The first file of the catalog that has a block gets that of the next one.
    const places: number[] = [];
    for (let place = at; place + 248 < at + (64 << 10); place += 2)
      if (
        view.getUint16(place) === 2 &&
        view.getUint32(place + 8) > 16 &&
        view.getUint32(place + 8) < 60 &&
        view.getUint32(place + 108) === 1
      )
        places.push(place);
    expect(places.length).toBeGreaterThan(1);
    view.setUint32((places[0] as number) + 104, view.getUint32((places[1] as number) + 104));
    view.setUint32(1024 + 32, 999);
    const disk = new MemorySource(bytes);
    const words = (openVolume(disk, macVolumes(disk)[0] as VolumeReport).findings?.() ?? [])
      .map(({ what, count }) => `${count} ${what}`)
      .join("\n");
    expect(words).toContain("1 Blocks that two files claim");
    expect(words).toContain("1 Blocks that the volume's map calls used and that no file leads to");
    expect(words).toContain("Numbers in the volume's header");
  });
});

/** Where the catalog begins. */
const catalogOf = (bytes: Uint8Array) => {
  const view = new DataView(bytes.buffer, bytes.byteOffset);
  const blockSize = view.getUint32(1024 + 40);
  return { at: view.getUint32(1024 + 272 + 16) * blockSize, blockSize };
};

describe("a damaged HFS Plus volume", () => {
  const listed = (bytes: Uint8Array) => {
    const disk = new MemorySource(bytes);
    const report = inspectDisk(disk);
    const volume = report.volumes.find(({ filesystem }) => filesystem === "hfsplus") as VolumeReport;
    return { report, volume, disk, copies: volume ? copiesOf(disk, volume, false) : [] };
  };
  const truth = macTruth("hfsplus-small");
  const live = inState(truth.entries, "live");

  it("without its header is opened by the copy at its end", () => {
    const bytes = macBytes("hfsplus-small");
    bytes.fill(0, 1024, 1536);
    const { volume, disk, copies } = listed(bytes);
    expect(volume.notes.join()).toContain("copy at the end");
    expect(wrongOnes(live, copies, disk)).toEqual([]);
  });

  it("without the head of its catalog is read node by node", () => {
    const bytes = macBytes("hfsplus-small");
    const { at } = catalogOf(bytes);
    bytes.fill(0, at, at + 512);
    const { volume, disk, copies } = listed(bytes);
    expect(volume.notes.join()).toContain("The head of the catalog is damaged");
    expect(wrongOnes(live, copies, disk)).toEqual([]);
  });

  it("with a damaged node loses what stands in that node alone, and says so", () => {
    const bytes = macBytes("hfsplus-small");
    const { at } = catalogOf(bytes);
    const nodeSize = new DataView(bytes.buffer).getUint16(at + 32);
    const first = new DataView(bytes.buffer).getUint32(at + 24);
    bytes.fill(0xee, at + first * nodeSize, at + (first + 1) * nodeSize);
    const { volume, copies } = listed(bytes);
    expect(volume.notes.join()).toContain("does not hold together");
    expect(copies.filter(({ state }) => state === "live").length).toBeGreaterThan(10);
  });

  it("that no partition table names is found by its header, or by the copy of it", () => {
    const small = macBytes("hfsplus-small");
    for (const [start, zeroed, by] of [
      [3 << 20, false, null],
      [3 << 20, true, "backup boot sector"],
    ] as const) {
      const bytes = new Uint8Array(start + small.length + (2 << 20));
      bytes.set(small, start);
      if (zeroed) bytes.fill(0, start + 1024, start + 1536);
      const { volume, disk, copies } = listed(bytes);
      expect(volume).toMatchObject({ offset: start, standing: "lost", filesystem: "hfsplus" });
      if (by) expect(volume.notes.join()).toContain(by);
      expect(wrongOnes(live, copies, disk)).toEqual([]);
    }
  });

  it("formatted over, still shows the files of before from the nodes that stand", () => {
    // The volume of the manifest lies at the end of another one's free space: its catalog is where nothing is in use.
    const bytes = macBytes("hfsplus-overwritten");
    const older = macBytes("hfsplus-small");
    const { at, blockSize } = catalogOf(older);
    const [count] = [new DataView(older.buffer).getUint32(1024 + 272 + 12)];
    const place = 12 << 20;
    bytes.set(older.subarray(at, at + count * blockSize), place);
    const disk = new MemorySource(bytes);
    const [volume] = macVolumes(disk);
    const found = copiesOf(disk, volume as VolumeReport).filter((copy) => copy.place === "leftover-record");
    const names = live.filter(({ type }) => type === "file").map(({ path }) => path.split("/").at(-1)?.normalize("NFC"));
    expect(names.filter((name) => found.some((copy) => copy.name === name)).length).toBeGreaterThan(names.length * 0.9);
    expect(openVolume(disk, volume as VolumeReport).label).toBe("Calloway");
  });
});
