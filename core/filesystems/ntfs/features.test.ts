import { createHash } from "node:crypto";
import { describe, expect, it } from "vitest";
import { SMALL_NTFS, smallDisk } from "../../../tests/support/small-disk";
import { contentHash, fixture, imageSource, pathOf, readTruth, type TrueEntry } from "../../../tests/support/volume-truth";
import { type ByteSource, MemorySource, readBytes } from "../../bytes/byte-source";
import { LayoutSource } from "../../bytes/layout";
import type { Copy } from "../../copies/copy";
import { fileRecordsPass, leftoversPass } from "../../copies/file-records-pass";
import { inspectDisk, openVolume } from "../../volumes/inspect";

function read(disk: ByteSource, offset = 0) {
  const report = inspectDisk(disk).volumes.find((each) => each.filesystem === "ntfs" && each.offset === offset);
  if (!report) throw new Error("no volume");
  const volume = openVolume(disk, report);
  const copies = [...fileRecordsPass(volume, disk)].flatMap((batch) => batch.copies);
  return { volume, copies, leftovers: () => [...leftoversPass(volume, disk)].flatMap((batch) => batch.copies) };
}

interface Feature {
  path: string;
  size: number;
  sha256: string;
  streams?: Record<string, string>;
  links?: number;
  deletedAt?: string;
  renamedFrom?: string;
  encrypted?: boolean;
}

describe("what a driver wrote (the volume of make-ntfs-features.ts)", () => {
  const disk = imageSource("ntfs-features");
  const { entries } = JSON.parse(fixture("ntfs-features.json.gz").toString()) as { entries: Feature[] };
  const { copies } = read(disk);
  const find = (path: string) => copies.find((copy) => copy.path === path) as Copy;
  const hash = (layout: Copy["layout"]) =>
    layout &&
    createHash("sha256")
      .update(readBytes(new LayoutSource(disk, layout), 0, layout.size))
      .digest("hex");

  it("files the system keeps compressed come out plain, whichever coding and wherever the coded bytes stand", () => {
    const coded = entries.filter((entry) => entry.path.startsWith("/System/"));
    expect(coded.length).toBe(12);
    for (const entry of coded) {
      const copy = find(entry.path);
      expect([copy.size, contentHash(copy, disk), copy.condition], entry.path).toEqual([entry.size, entry.sha256, "whole"]);
      expect(copy.streams, entry.path).toEqual([]);
    }
    // Coded bytes in the record itself as well as in clusters.
    const segments = coded.flatMap((entry) => find(entry.path).layout?.segments ?? []);
    expect(new Set(segments.flatMap((segment) => (segment.kind === "coded" ? [segment.held !== undefined] : [])))).toEqual(
      new Set([true, false]),
    );
  });

  it("named streams are listed under each name of the file and can be read byte for byte", () => {
    for (const entry of entries.filter((each) => each.streams)) {
      const copy = find(entry.path);
      expect(Object.fromEntries(copy.streams.map((stream) => [stream.name, hash(stream.layout)]))).toEqual(entry.streams);
      expect([copy.links, contentHash(copy, disk)]).toEqual([entry.links, entry.sha256]);
    }
  });

  it("a file encrypted by the file system is flagged, and nothing is promised of it", () => {
    const [sealed, ...others] = copies.filter((copy) => copy.absent === "encrypted");
    expect([sealed?.path, sealed?.condition, sealed?.layout, others]).toEqual(["/Papers/sealed.bin", "not-checked", null, []]);
    expect(sealed?.size).toBe(entries.find((entry) => entry.encrypted)?.size);
    expect(sealed?.notes.join()).toContain("without its owner's key the content stays closed");
  });

  it("the change journal gives the moment of deletion and earlier names ([MS-FSCC] 2.3.71)", () => {
    for (const entry of entries.filter((each) => each.deletedAt)) {
      const copy = find(entry.path);
      expect([copy.state, copy.deletedAt, contentHash(copy, disk)]).toEqual([
        "deleted",
        Date.parse(entry.deletedAt as string),
        entry.sha256,
      ]);
    }
    const renamed = entries.find((each) => each.renamedFrom) as Feature;
    expect(find(renamed.path).notes.join()).toContain(`Was called “${renamed.renamedFrom}” until 2026-03-13 08:00:00 UTC`);
  });
});

describe("a file table in so many pieces that several records describe them (the volume of make-ntfs-scattered.ts)", () => {
  const { records, entries } = JSON.parse(fixture("ntfs-scattered.json.gz").toString()) as { records: number[]; entries: Feature[] };
  const files = (copies: readonly Copy[]) => copies.filter((copy) => copy.state === "live" && copy.type === "file" && !copy.system);

  it("is read to its end: every file the driver reads, byte for byte, and no other", () => {
    expect(records.length).toBeGreaterThan(2);
    const disk = imageSource("ntfs-scattered");
    const { copies, volume } = read(disk);
    const found = files(copies);
    expect(found.map((copy) => copy.path).sort()).toEqual(entries.map((entry) => entry.path).sort());
    const byPath = new Map(found.map((copy) => [copy.path, copy]));
    const wrong = entries.filter((entry) => {
      const copy = byPath.get(entry.path) as Copy;
      return copy.size !== entry.size || (entry.size > 0 && contentHash(copy, disk) !== entry.sha256);
    });
    expect(wrong.map((entry) => entry.path)).toEqual([]);
    // The one in as many pieces as the table left room for.
    expect(byPath.get("/kept.bin")?.layout?.segments.length).toBeGreaterThan(1000);
    expect(volume.findings?.()).toEqual([]);
  });

  it("with one of those records gone is read as far as the others lead, and says what is missing", () => {
    const bytes = Uint8Array.from(fixture("ntfs-scattered.img.gz"));
    // The table begins where the boot sector says; its first pieces hold the records that describe the later ones.
    const view = new DataView(bytes.buffer);
    const tableAt = Number(view.getBigUint64(0x30, true)) * 512;
    const victim = records[1] as number;
    expect(Buffer.from(bytes.subarray(tableAt + victim * 1024, tableAt + victim * 1024 + 4)).toString("latin1")).toBe("FILE");
    bytes.fill(0, tableAt + victim * 1024, tableAt + (victim + 1) * 1024);
    const disk = new MemorySource(bytes);
    const { copies } = read(disk);
    const whole = new Map(entries.map((entry) => [entry.path, entry]));
    const sound = files(copies).filter((copy) => copy.condition === "whole" && copy.size > 0);
    expect(sound.length).toBeGreaterThan(entries.length / 4);
    for (const copy of sound) expect(contentHash(copy, disk), copy.path).toBe(whole.get(copy.path)?.sha256);
    // The others are known by their folder's index, or lie in what is left of the old table.
    const all = new Set(copies.map((copy) => copy.path));
    expect(entries.filter((entry) => !all.has(entry.path)).length / entries.length).toBeLessThan(0.05);
  });
});

describe("names only the folders' indexes know", () => {
  it.each([
    ["ntfs-gpt", 0.9],
    ["ntfs-mbr", 0.75],
  ])("%s: most of those whose records were used again (a share of %f), and nothing that never was", { tags: "long" }, (name, share) => {
    const truth = readTruth(name);
    const { copies } = read(imageSource(name), truth.volume.partitionOffset);
    const nameOnly = copies.filter((copy) => copy.reference.startsWith("index entry"));
    const known = new Set(truth.entries.map(pathOf));
    expect(nameOnly.filter((copy) => !copy.system && !known.has(copy.path.normalize("NFC"))).map((copy) => copy.path)).toEqual([]);
    const found = new Set(copies.map((copy) => copy.path.normalize("NFC")));
    const reused = truth.entries.filter((entry) => entry.type === "file" && entry.mft?.recordReused);
    expect(reused.filter((entry) => found.has(pathOf(entry))).length / reused.length).toBeGreaterThan(share);
  });

  it("live files whose records are zeroed are listed by name, size and dates", () => {
    const truth = readTruth("small-mbr");
    const victims = truth.entries
      .filter((entry) => entry.type === "file" && entry.state === "live" && entry.mft && (entry.size ?? 0) > 2000)
      .slice(3, 8);
    const disk = new MemorySource(smallDisk(victims.map((entry) => [SMALL_NTFS.mftAt + (entry.mft?.record ?? 0) * 1024, 1024])));
    const { copies, volume } = read(disk, SMALL_NTFS.offset);
    for (const entry of victims) {
      const copy = copies.find((each) => each.path.normalize("NFC") === pathOf(entry));
      expect([copy?.state, copy?.condition, copy?.size], entry.path).toEqual(["live", "name-only", entry.size]);
      expect(copy?.notes.join()).toContain("its file record is damaged");
    }
    const findings = volume.findings?.() ?? [];
    expect(findings.find((finding) => finding.what.startsWith("Clusters the volume's map calls used"))?.count).toBeGreaterThan(0);
  });
});

describe("a volume formatted again", () => {
  const truth = readTruth("ntfs-reformatted");
  const disk = imageSource("ntfs-reformatted");
  const { leftovers, copies } = read(disk, truth.volume.partitionOffset);
  const found = leftovers();

  it("gives back the old tree from leftover records: folders, names, dates and bytes", () => {
    const lost = truth.entries.filter(
      (entry) => entry.state === "lost-format-intact" && entry.mft?.nameStillInRecord !== false && !entry.mft?.recordReused,
    );
    const missing = lost.filter((entry) => {
      const own = found.filter((copy) => copy.path.normalize("NFC") === pathOf(entry));
      if (entry.type !== "file") return own.length === 0;
      return !own.some((copy) => entry.size === 0 || contentHash(copy, disk) === entry.sha256);
    });
    expect(lost.length).toBeGreaterThan(200);
    expect(missing.map((entry) => `${entry.type} ${entry.path}`)).toEqual([]);
    expect(found.every((copy) => copy.place === "leftover-record" && copy.state === "deleted")).toBe(true);
  });

  it("calls none of them whole that is not, and does not mix them with the present ones", () => {
    const sound = new Set(truth.entries.map((entry) => entry.sha256));
    const whole = found.filter((copy) => copy.type === "file" && copy.size > 0 && copy.condition === "whole");
    expect(whole.length).toBeGreaterThan(150);
    const gone = new Set(truth.entries.filter((entry) => /gone|partial/.test(entry.state)).map((entry) => entry.sha256));
    expect(
      whole.filter((copy) => !sound.has(contentHash(copy, disk) ?? "") || gone.has(contentHash(copy, disk) ?? "")).map((copy) => copy.path),
    ).toEqual([]);
    const present = new Set(copies.filter((copy) => copy.state === "live").map((copy) => copy.path));
    expect(found.filter((copy) => present.has(copy.path)).map((copy) => copy.path)).toEqual([]);
  });

  it("finds nothing left over in a volume that never was", () => {
    const { leftovers: none } = read(imageSource("ntfs-features"));
    expect(none().map((copy) => copy.path)).toEqual([]);
  });

  it("goes on from a resume point to the same end", () => {
    const report = inspectDisk(disk).volumes.find((each) => each.offset === truth.volume.partitionOffset);
    if (!report) throw new Error("no volume");
    const batches = [...leftoversPass(openVolume(disk, report), disk, null, 64)];
    const half = batches[Math.floor((batches.length * 3) / 4)];
    const before = batches.slice(0, batches.indexOf(half as never) + 1).flatMap((batch) => batch.copies);
    const after = [...leftoversPass(openVolume(disk, report), disk, half?.resume, 64)].flatMap((batch) => batch.copies);
    expect([...before, ...after].map((copy) => copy.reference + copy.path)).toEqual(found.map((copy) => copy.reference + copy.path));
  });
});

describe("what does not add up", () => {
  it("a volume the driver left in order has no findings", () => {
    const { volume } = read(imageSource("ntfs-4kn"));
    expect(volume.findings?.()).toEqual([]);
  });

  it("a cluster two files claim, and one the map calls free, are found", () => {
    const truth = readTruth("small-mbr");
    const [first, second] = truth.entries.filter(
      (entry) => entry.type === "file" && entry.state === "live" && !entry.resident && entry.mft && entry.runs?.length === 1,
    ) as [(typeof truth.entries)[number], (typeof truth.entries)[number]];
    const bytes = smallDisk();
    const bitmap = truth.entries.length > 0 && first.runs?.[0] ? first.runs[0] : null;
    if (!bitmap || !second.runs?.[0]) throw new Error("no runs");
    // The second file's first cluster becomes the first file's, in its list of runs: width byte, length, place.
    const record = SMALL_NTFS.mftAt + (second.mft?.record ?? 0) * 1024;
    const from = second.runs[0][1] as number;
    const at = bytes.subarray(record, record + 1024).findIndex((byte, i) => {
      const widths = byte;
      if ((widths & 15) === 0 || widths >>> 4 === 0 || (widths & 15) > 2 || widths >>> 4 > 2) return false;
      let lcn = 0;
      for (let k = (widths >>> 4) - 1; k >= 0; k -= 1) lcn = lcn * 256 + (bytes[record + i + 1 + (widths & 15) + k] as number);
      return i > 56 && lcn === from;
    });
    expect(at).toBeGreaterThan(0);
    const widths = bytes[record + at] as number;
    let left = first.runs?.[0]?.[1] as number;
    for (let k = 0; k < widths >>> 4; k += 1, left = Math.floor(left / 256)) bytes[record + at + 1 + (widths & 15) + k] = left & 255;
    const { volume } = read(new MemorySource(bytes), SMALL_NTFS.offset);
    const findings = volume.findings?.() ?? [];
    expect(findings.find((finding) => finding.what.startsWith("Clusters that two files claim"))?.count).toBeGreaterThan(0);
    expect(findings.find((finding) => finding.what.includes("no file claims"))?.count).toBeGreaterThan(0);
  });

  it("a folder whose record is gone, and a record that counts its names wrongly, are reported with the files they concern", () => {
    const truth = readTruth("small-mbr");
    const folder = truth.entries.find((entry) => entry.type === "dir" && /\/Documents$/.test(entry.path)) as TrueEntry;
    const inside = truth.entries.filter(
      (entry) => entry.type === "file" && entry.state === "live" && entry.path.replace(/\/[^/]*$/, "") === folder.path,
    );
    const other = truth.entries.find(
      (entry) => entry.type === "file" && entry.state === "live" && entry.mft && !entry.path.startsWith(folder.path),
    ) as TrueEntry;
    expect(inside.length).toBeGreaterThan(0);
    const recordAt = (entry: TrueEntry) => SMALL_NTFS.mftAt + (entry.mft?.record as number) * 1024;
    const bytes = smallDisk([[recordAt(folder), 1024]]);
    // Offset 18 of a record: its count of names (FILE_RECORD_SEGMENT_HEADER, "hard link count").
    const view = new DataView(bytes.buffer);
    const count = view.getUint16(recordAt(other) + 18, true);
    view.setUint16(recordAt(other) + 18, count + 3, true);
    const { volume } = read(new MemorySource(bytes), SMALL_NTFS.offset);
    const findings = volume.findings?.() ?? [];
    const findingOf = (words: string) => findings.find((finding) => finding.what.startsWith(words));
    expect(findingOf("Files whose folder is not there any more")?.count).toBeGreaterThanOrEqual(inside.length);
    expect(findingOf("Files whose record counts another number of names")).toMatchObject({
      count: 1,
      examples: [expect.stringMatching(new RegExp(`${count + 3} instead of \\d`))],
    });
  });
});

/**
 * Marks every file with one run as kept elsewhere (file attribute FILE_ATTRIBUTE_RECALL_ON_DATA_ACCESS, [MS-FSCC] 2.6); of every second one
 * the clusters are taken away too, as a cloud folder does that frees room: its run becomes a hole (run lists: a header without offset length).
 */
function keptInTheCloud(image: Buffer): { emptied: Set<number>; fetched: Set<number> } {
  const [emptied, fetched] = [new Set<number>(), new Set<number>()];
  for (let at = 0; at + 1024 <= image.length; at += 512) {
    // An MFT record in use that is no folder; its own number at 0x2c.
    if (image.toString("latin1", at, at + 4) !== "FILE" || image.readUInt16LE(at + 0x16) !== 1) continue;
    const number = image.readUInt32LE(at + 0x2c);
    if (number < 64) continue;
    let standard = 0;
    for (let own = at + image.readUInt16LE(at + 0x14); own + 0x28 < at + 500; own += image.readUInt32LE(own + 4)) {
      const type = image.readUInt32LE(own);
      if (type === 0xffffffff || image.readUInt32LE(own + 4) === 0) break;
      if (type === 0x10) standard = own + image.readUInt16LE(own + 0x14) + 0x20;
      if (type !== 0x80 || image[own + 8] !== 1 || image[own + 9] !== 0 || image.readUInt16LE(own + 0x0c) !== 0) continue;
      const run = own + image.readUInt16LE(own + 0x20);
      const header = image[run] as number;
      const single = image[run + 1 + (header >> 4) + (header & 15)] === 0;
      if (!single || header >> 4 === 0 || standard === 0) continue;
      image.writeUInt32LE((image.readUInt32LE(standard) | 0x400000) >>> 0, standard);
      const empty = (emptied.size + fetched.size) % 2 === 0;
      (empty ? emptied : fetched).add(number);
      if (empty) {
        image[run] = header & 15;
        image[run + 1 + (header & 15)] = 0;
      }
    }
  }
  return { emptied, fetched };
}

describe("files that a cloud folder keeps elsewhere", () => {
  it("have no content here and say so, and those fetched in full are read like any other", { tags: "long" }, () => {
    const image = Buffer.from(fixture("ntfs-mbr.img.gz"));
    const volume = inspectDisk(new MemorySource(image)).volumes.find((each) => each.filesystem === "ntfs");
    const before = read(new MemorySource(Buffer.from(image)), volume?.offset).copies;
    const { emptied, fetched } = keptInTheCloud(image);
    expect(Math.min(emptied.size, fetched.size)).toBeGreaterThan(5);
    const disk = new MemorySource(image);
    const { copies } = read(disk, volume?.offset);
    const of = (numbers: Set<number>) =>
      copies.filter(
        (copy) => copy.state === "live" && copy.type === "file" && numbers.has(Number(copy.reference.replace("MFT record ", ""))),
      );
    for (const copy of of(emptied)) {
      expect([copy.condition, copy.layout], copy.path).toEqual(["name-only", null]);
      expect(copy.notes.join(" "), copy.path).toContain("Kept only in the cloud");
    }
    expect(of(emptied).length).toBe(emptied.size);
    for (const copy of of(fetched)) {
      const same = before.find((each) => each.path === copy.path && each.state === "live") as Copy;
      expect(copy.notes.join(" "), copy.path).not.toContain("cloud");
      expect(contentHash(copy, disk), copy.path).toBe(contentHash(same, disk));
    }
    expect(of(fetched).length).toBe(fetched.size);
  });
});
