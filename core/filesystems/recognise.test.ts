import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { fixture, readTruth } from "../../tests/support/volume-truth";
import { MemorySource, WindowSource } from "../bytes/byte-source";
import { recogniseFileSystem } from "./recognise";

const volume = (name: string) => {
  const { partitionOffset } = readTruth(name).volume;
  const bytes = fixture(`${name}.img.gz`);
  return new WindowSource(new MemorySource(bytes), partitionOffset, bytes.length - partitionOffset);
};

describe("recognising a file system by its first sectors", () => {
  it.each([
    ["ntfs-gpt", "ntfs"],
    ["ntfs-mbr", "ntfs"],
    ["fat12", "fat12"],
    ["fat16", "fat16"],
    ["fat32", "fat32"],
    ["exfat", "exfat"],
  ])("%s is %s, with the cluster size its maker names", (name, filesystem) => {
    const found = recogniseFileSystem(volume(name));
    expect([found.filesystem, found.clusterSize]).toEqual([filesystem, readTruth(name).volume.clusterSize]);
    expect(found.length).toBeGreaterThan(0);
  });

  it("knows HFS Plus and APFS by the marks their published descriptions give (TN1150; nx_superblock_t)", () => {
    const bytes = new Uint8Array(4096);
    const view = new DataView(bytes.buffer);
    view.setUint16(1024, 0x482b);
    view.setUint32(1024 + 40, 4096);
    view.setUint32(1024 + 44, 1000);
    expect(recogniseFileSystem(new MemorySource(bytes))).toMatchObject({ filesystem: "hfsplus", clusterSize: 4096, length: 4_096_000 });
    view.setUint16(1024, 0x4858);
    expect(recogniseFileSystem(new MemorySource(bytes)).filesystem).toBe("hfsx");
    bytes.fill(0);
    bytes.set(Buffer.from("NXSB"), 32);
    view.setUint32(36, 4096, true);
    view.setUint32(40, 500, true);
    expect(recogniseFileSystem(new MemorySource(bytes))).toMatchObject({ filesystem: "apfs", clusterSize: 4096, length: 2_048_000 });
  });

  it("takes noise, zeros and what is too short for nothing", () => {
    const random = seeded(3);
    for (let round = 0; round < 300; round += 1) {
      const noise = Uint8Array.from({ length: 8192 }, () => Math.floor(random() * 256));
      expect(recogniseFileSystem(new MemorySource(noise)).filesystem).toBe("unknown");
    }
    for (const length of [0, 511, 1535, 8192])
      expect(recogniseFileSystem(new MemorySource(new Uint8Array(length))).filesystem).toBe("unknown");
  });
});
