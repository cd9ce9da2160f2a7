import { describe, expect, it } from "vitest";
import { holes } from "../../tests/support/holes";
import { manyVolumes } from "../../tests/support/many-volumes";
import { SMALL_NTFS, smallDisk } from "../../tests/support/small-disk";
import { contentHash, fixture, pathOf, readTruth } from "../../tests/support/volume-truth";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { fileRecordsPass } from "../copies/file-records-pass";
import { inspectDisk, openVolume, type VolumeReport } from "./inspect";

const truth = readTruth("small-mbr");
const { offset, length, clusterSize, mftAt } = SMALL_NTFS;
const BACKUP_BOOT = offset + length - 512;
/** Where the copy of the first records stands: the volume's boot sector names its cluster. */
const mirrorAt = (() => {
  const view = new DataView(smallDisk().buffer);
  return offset + Number(view.getBigUint64(offset + 0x38, true)) * clusterSize;
})();

/** Whether every live file of the manifest comes out of this volume with its bytes. */
function readsEverything(disk: ByteSource, report: VolumeReport | undefined): boolean {
  if (!report) return false;
  const copies = [...fileRecordsPass(openVolume(disk, report), disk)]
    .flatMap((batch) => batch.copies)
    .filter((copy) => copy.state === "live");
  const found = new Map(copies.map((copy) => [copy.path.normalize("NFC"), copy]));
  const live = truth.entries.filter((entry) => entry.type === "file" && entry.state === "live" && entry.volume === undefined);
  return live.every((entry) => {
    const copy = found.get(pathOf(entry));
    return copy && (entry.size === 0 || contentHash(copy, disk) === entry.sha256);
  });
}

const inspect = (bytes: Uint8Array) => {
  const disk = new MemorySource(bytes);
  return { disk, report: inspectDisk(disk) };
};
const ntfs = (volumes: readonly VolumeReport[]) => volumes.find((each) => each.filesystem === "ntfs");

describe("what a disk holds", () => {
  it.each<[string, [number, number][], VolumeReport["standing"], string]>([
    ["whole", [], "present", ""],
    ["the partition table is zeroed", [[446, 64]], "lost", ""],
    ["the NTFS boot sector is zeroed", [[offset, 512]], "present", "its copy at the end of the volume was used"],
    [
      "both NTFS boot sectors are zeroed",
      [
        [offset, 512],
        [BACKUP_BOOT, 512],
      ],
      "present",
      "worked out from its file records",
    ],
    [
      "the table and the boot sector are zeroed",
      [
        [446, 64],
        [offset, 512],
      ],
      "lost",
      "backup boot sector",
    ],
    [
      "the table and both boot sectors are zeroed",
      [
        [446, 64],
        [offset, 512],
        [BACKUP_BOOT, 512],
      ],
      "lost",
      "file records",
    ],
    ["the file table's first record is zeroed", [[mftAt, 1024]], "present", "its copy was used"],
    [
      "the first record and its copy are zeroed",
      [
        [mftAt, 1024],
        [mirrorAt, 1024],
      ],
      "present",
      "follow one another",
    ],
  ])("%s: both volumes are found, and the NTFS files come out byte for byte", (_, zeroed, standing, note) => {
    const { disk, report } = inspect(smallDisk(zeroed));
    const volume = ntfs(report.volumes);
    expect(report.volumes.map((each) => each.filesystem)).toEqual(["ntfs", "fat16"]);
    expect(volume).toMatchObject({ offset, standing, clusterSize });
    expect(volume?.notes.join()).toContain(note);
    expect(readsEverything(disk, volume)).toBe(true);
  });

  it.each([
    ["fat32", 6 * 512],
    ["exfat", 12 * 512],
  ])("a %s volume whose table and boot sector are gone is found by the backup at byte %i", (name) => {
    const bytes = new Uint8Array(fixture(`${name}.img.gz`));
    const { partitionOffset } = readTruth(name).volume;
    bytes.fill(0, 446, 510);
    bytes.fill(0, partitionOffset, partitionOffset + 512);
    const { report } = inspect(bytes);
    expect(report.volumes).toMatchObject([{ filesystem: name, offset: partitionOffset, standing: "lost" }]);
    expect(report.volumes[0]?.notes.join()).toContain("backup boot sector");
    expect(report.notes.join()).toContain("no partition table any more");
  });

  it("a volume that another one was laid over is offered as an earlier one", () => {
    const bytes = smallDisk();
    // A FAT12 volume of 60 sectors over the beginning of the NTFS one, as a new division of the disk would put it.
    const small = new Uint8Array(fixture("fat12.img.gz")).slice(0, 4096);
    const view = new DataView(small.buffer);
    view.setUint16(19, 60, true);
    bytes.set(small, offset);
    new DataView(bytes.buffer).setUint32(446 + 12, 60, true);
    const { disk, report } = inspect(bytes);
    expect(report.volumes.map((each) => [each.filesystem, each.standing])).toEqual([
      ["fat12", "present"],
      ["fat16", "present"],
      ["ntfs", "earlier"],
    ]);
    const earlier = ntfs(report.volumes);
    expect(earlier?.notes.join()).toContain("earlier division of the disk");
    expect(readsEverything(disk, earlier)).toBe(true);
  });

  it("volumes the table lays over one another are both listed, and what is odd about them", () => {
    const bytes = smallDisk();
    const view = new DataView(bytes.buffer);
    // The logical volume's own table entry now begins 2048 sectors within the NTFS one.
    const first = view.getUint32(446 + 8, true);
    view.setUint8(446 + 16 + 4, 7);
    view.setUint32(446 + 16 + 8, first + 2048, true);
    view.setUint32(446 + 16 + 12, 4096, true);
    const { report } = inspect(bytes);
    expect(report.notes.join()).toContain(`overlap from ${(first + 2048) * 512} on: the partition table is damaged`);
    expect(report.volumes.filter((each) => each.standing === "present").length).toBeGreaterThan(1);
  });

  it("the image of a disk kept as a file is not taken for a lost volume", () => {
    const outer = new Uint8Array(fixture("ntfs-mbr.img.gz"));
    const { report } = inspect(outer);
    expect(report.volumes.every((each) => each.standing === "present")).toBe(true);
  });

  it("a boot record that counts in sectors of 4096 bytes is understood", () => {
    const volume = fixture("ntfs-4kn.img.gz");
    const bytes = new Uint8Array(volume.length + (1 << 20));
    bytes.set(volume, 1 << 20);
    const view = new DataView(bytes.buffer);
    view.setUint8(446 + 4, 7);
    view.setUint32(446 + 8, (1 << 20) / 4096, true);
    view.setUint32(446 + 12, volume.length / 4096, true);
    view.setUint16(510, 0xaa55, true);
    const { report } = inspect(bytes);
    expect(report).toMatchObject({
      table: "mbr",
      volumes: [{ filesystem: "ntfs", offset: 1 << 20, standing: "present", clusterSize: 4096 }],
    });
  });

  it.each([
    ["the mark of the Windows kind (libbde's documentation)", 3, "-FVE-FS-"],
    ["the mark of the Linux kind (on-disk format, PHDR)", 0, "LUKS\u00ba\u00be"],
  ])("an encrypted volume is said to be one at once: %s", (_, at, mark) => {
    const bytes = smallDisk();
    bytes.set(Buffer.from(mark, "latin1"), offset + at);
    const { report } = inspect(bytes);
    expect(report.volumes[0]).toMatchObject({ filesystem: "unknown", offset, standing: "present" });
    expect(report.volumes[0]?.closed).toContain("Ask the client for the key");
    expect(report.volumes.map((each) => each.standing)).toEqual(["present", "present"]);
  });

  it("a volume of nothing but random numbers is said to be encrypted or wiped", () => {
    const random = new Uint8Array(2 << 20);
    for (let at = 0; at < random.length; at += 65_536) crypto.getRandomValues(random.subarray(at, at + 65_536));
    expect(inspect(random).report.volumes[0]?.notes.join()).toContain("random numbers");
    expect(inspect(new Uint8Array(2 << 20)).report.volumes[0]?.notes.join()).not.toContain("random numbers");
  });

  it("a disk of a few megabytes is searched everywhere, however it is divided; a large one says that it was not", () => {
    const partly = "not everywhere";
    expect(inspect(new Uint8Array(fixture("fat32.img.gz"))).report.notes.join()).not.toContain(partly);
    expect(inspect(smallDisk()).report.notes.join()).not.toContain(partly);
    expect(inspect(manyVolumes(30)).report.notes.join()).not.toContain(partly);
    expect(inspectDisk(holes(1e12)).notes.join()).toContain(partly);
  });

  it("volumes of a large disk without a table are found one beside the other, wherever they begin", () => {
    // On a disk of 3 TB: an old division in cylinders of 255 heads and 63 sectors, volumes beginning a track behind a cylinder's beginning
    // (common practice, no published source); far from its beginning and its end, where nothing but their neighbours leads to them.
    const [track, cylinder] = [63 * 512, 255 * 63 * 512];
    const truths = ["ntfs-4kn", "fat32", "exfat"].map((name) => ({
      name,
      offset: readTruth(name).volume.partitionOffset,
      image: fixture(`${name}.img.gz`),
    }));
    const pieces: [number, Uint8Array][] = [];
    // Where the close look at the disk's beginning ends by itself.
    let at = 5 * cylinder + track;
    const wanted: [string, number][] = [];
    for (let round = 0; round < 4; round += 1)
      for (const { name, offset, image } of truths) {
        const volume = image.subarray(offset);
        pieces.push([at, volume]);
        wanted.push([name.split("-")[0] as string, at]);
        at = Math.ceil((at + volume.length) / cylinder) * cylinder + track;
      }
    expect(at).toBeGreaterThan(300 << 20);
    const { volumes } = inspectDisk(holes(3e12, pieces));
    expect(volumes.map((each) => [each.filesystem, each.offset, each.standing])).toEqual(
      wanted.map(([name, place]) => [name, place, "lost"]),
    );
  });

  it("a source of 30 TB of holes is looked at by reading little of it", () => {
    const source = holes(30e12);
    expect(inspectDisk(source).volumes).toMatchObject([{ filesystem: "unknown" }]);
    expect(source.counted()).toBeLessThan(256 << 20);
  });
});
