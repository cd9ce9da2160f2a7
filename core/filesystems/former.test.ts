import { describe, expect, it } from "vitest";
import { type DrivenVolume, drivenOver, drivenOverBy } from "../../tests/support/driven-volumes";
import { ALL, bareGround, tracesOn } from "../../tests/support/former-traces";
import { copiesOf, hashOf } from "../../tests/support/mac-truth";
import { type ByteSource, MemorySource, readBytes } from "../bytes/byte-source";
import { type Copy, copyOfRecord } from "../copies/copy";
import { fileRecordsPass, leftoversPass } from "../copies/file-records-pass";
import { inspectDisk, openVolume, type VolumeReport } from "../volumes/inspect";
import { underLater } from "../volumes/under-later";
import { readExfatDirectory } from "./exfat/entry-set";
import { formerExfat } from "./exfat/exfat";
import { likeliest } from "./file-record";
import { readLeftovers } from "./leftovers";

/**
 * Volumes that drivers of their kinds had used, that were formatted as another kind (or in other measures) and used again (`make-driven-volumes.py`).
 */
const FORMER = "Left by a file system of another kind";

/** What all volumes of a disk list as it is: on earlier ones weighed against those that lie over them. */
function copiesIn(disk: ByteSource): Copy[] {
  return inspectDisk(disk).volumes.flatMap((volume) => (volume.over.length > 0 ? copiesUnder(disk, volume) : copiesOf(disk, volume)));
}

function copiesUnder(disk: ByteSource, volume: VolumeReport): Copy[] {
  const present = inspectDisk(disk).volumes[0] as VolumeReport;
  const later = { offset: present.offset, length: present.length, opened: openVolume(disk, present) };
  const opened = underLater(openVolume(disk, volume), [later]);
  return [...fileRecordsPass(opened, disk), ...leftoversPass(opened, disk)].flatMap(({ copies }) => copies);
}

const shown = (path: string) => `/${path}`.normalize("NFC");
const isFile = ({ type, size, system }: Copy) => type === "file" && size > 0 && !system;
const namesOf = ({ truth }: DrivenVolume) => new Set(truth.names.map((name) => name.normalize("NFC")));
const everOf = ({ truth }: DrivenVolume) => new Set([...Object.values(truth.history).flat(), ...truth.midway]);

/** How many of the files that lived before the volume was formatted again are listed with their bytes: under their path, or at least by their name. */
function recalled({ truth }: DrivenVolume, copies: readonly Copy[], disk: ByteSource) {
  const byName = new Map<string, Copy[]>();
  for (const copy of copies.filter(isFile)) {
    const name = copy.name.normalize("NFC");
    byName.set(name, [...(byName.get(name) ?? []), copy]);
  }
  const former = Object.entries(truth.former ?? {}).filter(([, { size }]) => size > 0);
  let [byPath, named] = [0, 0];
  for (const [path, { sha256 }] of former) {
    const right = (byName.get(shown(path).split("/").at(-1) as string) ?? []).filter((copy) => hashOf(copy.layout, disk) === sha256);
    if (right.length > 0) named += 1;
    if (right.some((copy) => copy.path.normalize("NFC") === shown(path))) byPath += 1;
  }
  return { former: former.length, named, byPath };
}

/** The same disk with its last sectors gone, where NTFS and HFS Plus keep a copy of their beginning. */
function withoutEnd(disk: ByteSource): ByteSource {
  const bytes = readBytes(disk, 0, disk.size);
  return new MemorySource(bytes.fill(0, bytes.length - 4096));
}

describe.each(drivenOver())("$name: $truth.form", (volume) => {
  const disk = volume.open();
  const copies = copiesIn(disk);

  it("calls nothing whole that no file ever was, and lists no name that never was", () => {
    const ever = everOf(volume);
    const names = namesOf(volume);
    const whole = copies.filter((copy) => isFile(copy) && copy.condition === "whole" && !ever.has(hashOf(copy.layout, disk) ?? ""));
    expect(whole.map(({ path }) => path)).toEqual([]);
    const invented = copies.filter((copy) => isFile(copy) && !copy.incompleteName && !names.has(copy.name.normalize("NFC")));
    expect(invented.map(({ path, reference }) => `${path} (${reference})`)).toEqual([]);
  });

  it("lists no file of what was there before as a live one", () => {
    const former = copies.filter(({ notes }) => notes.some((note) => note.startsWith(FORMER)));
    expect(former.filter(({ state, place }) => state === "live" || place !== "leftover-record")).toEqual([]);
  });
});

describe("what is found of a file system of another kind", () => {
  it.each([
    ["exfat-over-apfs", { former: 21, named: 21, byPath: 21 }],
    // Its root was written over: the names of the folders above are gone.
    ["hfsplus-over-fat", { former: 25, named: 9, byPath: 0 }],
    ["ntfs-over-exfat", { former: 20, named: 17, byPath: 17 }],
    ["exfat-over-exfat", { former: 17, named: 12, byPath: 12 }],
  ] as const)("%s: comes with its bytes", (name, expected) => {
    const [volume] = drivenOverBy(name) as [DrivenVolume];
    const disk = volume.open();
    expect(recalled(volume, copiesIn(disk), disk)).toEqual(expected);
  });

  it.each([
    ["fat-over-ntfs", "NTFS"],
    ["ntfs-over-hfsplus", "HFS+"],
  ])("%s: comes also where nothing of its own says any more where it began", (name, title) => {
    const [volume] = drivenOverBy(name) as [DrivenVolume];
    const whole = volume.open();
    const disk = withoutEnd(whole);
    expect(inspectDisk(disk).volumes.map(({ standing }) => standing)).toEqual(["present"]);
    const copies = copiesIn(disk);
    const former = copies.filter(({ notes }) => notes.some((note) => note.startsWith(`${FORMER} that was here before (${title})`)));
    // What stands in clusters that are in use now is not looked at, though it may be in a part that nobody has written.
    const [byRecords, asVolume] = [recalled(volume, former, disk), recalled(volume, copiesIn(whole), whole)];
    expect(asVolume.byPath).toBeGreaterThan(2);
    expect(byRecords.byPath).toBeGreaterThanOrEqual(0.6 * asVolume.byPath);
    const isWrong = (copy: Copy) => isFile(copy) && copy.condition === "whole" && !everOf(volume).has(hashOf(copy.layout, disk) ?? "");
    expect(copies.filter(isWrong).map(({ path }) => path)).toEqual([]);
  });
});

describe("folders of exFAT by themselves", () => {
  const [volume] = drivenOverBy("ntfs-over-exfat") as [DrivenVolume];
  const folders = tracesOn(volume.open(), formerExfat, 100);
  const SIZE = 16 << 20;
  const found = (places: readonly (readonly [at: number, bytes: Uint8Array])[]) => {
    const bytes = new Uint8Array(SIZE);
    for (const [at, folder] of places) bytes.set(folder, at);
    const disk = new MemorySource(bytes);
    const batches = [...readLeftovers({ volume: disk, start: 0, scans: [formerExfat(bareGround(disk))] }, null, 512, ALL, null)];
    return batches.flatMap(({ records }) => records).map((record) => ({ record, copy: copyOfRecord(record, disk) }));
  };
  /** Folders that list files, and one that lists one other folder too. */
  const entriesOf = (folder: Uint8Array) => readExfatDirectory(folder).entries;
  const isRoot = (folder: Uint8Array) => readExfatDirectory(folder).bitmap !== null;
  const listing = folders.filter(({ bytes }) => !isRoot(bytes) && entriesOf(bytes).some(({ directory, size }) => !directory && size > 0));
  const leadsOf = (folder: Uint8Array) => entriesOf(folder).filter(({ directory }) => directory);
  const above = listing.find(({ bytes }) => leadsOf(bytes).length === 1);

  it("of one nothing says where its files stood: they are named, with their sizes, and nothing is promised", () => {
    const [lone] = listing;
    const files = found([[1 << 20, lone?.bytes as Uint8Array]]).filter(({ record }) => record.type === "file" && record.size > 0);
    expect(files.length).toBeGreaterThan(0);
    const names = namesOf(volume);
    for (const { record, copy } of files) {
      expect(names.has(record.name.normalize("NFC"))).toBe(true);
      expect([copy.condition, record.path.startsWith("/?/folder-at-1048576/")]).toEqual(["name-only", true]);
    }
  });

  it("of two, of which one leads to the other, the usual size of clusters is taken, and only contents could prove it", () => {
    const { bytes } = above as { bytes: Uint8Array };
    const [lead] = leadsOf(bytes);
    const other = listing.find((each) => each !== above && leadsOf(each.bytes).length === 0);
    const [dataAt, cluster] = [2 << 20, lead?.firstCluster as number];
    // By default a small volume has clusters of 4096 bytes.
    const at = dataAt + (cluster - 2) * 4096;
    const records = found([
      [3 << 20, bytes],
      [at, other?.bytes as Uint8Array],
    ]);
    const inside = records.filter(({ record }) => record.path.endsWith(`/${lead?.name}/${record.name}`) && record.size > 0);
    expect(inside.length).toBeGreaterThan(0);
    for (const { record } of inside.filter(({ record: { type } }) => type === "file")) {
      const place = likeliest(record);
      const entry = entriesOf(other?.bytes as Uint8Array).find(({ name }) => name === record.name);
      expect(place?.layout.segments[0]).toMatchObject({ kind: "disk", at: dataAt + ((entry?.firstCluster as number) - 2) * 4096 });
    }
  });
});
