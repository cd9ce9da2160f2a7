import { describe, expect, it } from "vitest";
import { unpackBlocks } from "../../../tests/support/blocks";
import {
  copiesOf,
  falselyWhole,
  type MacEntry,
  macBytes,
  macFixture,
  macTruth,
  macVolumes,
  wrongOnes,
} from "../../../tests/support/mac-truth";
import { objectChecksum } from "../../../tests/support/object-checksum";
import { MemorySource } from "../../bytes/byte-source";
import { openVolume, type VolumeReport } from "../../volumes/inspect";

const BLOCK = 4096;
const sealed = (name: string): Uint8Array => unpackBlocks(macFixture(`${name}-sealed.blocks.gz`), macBytes(name));
const firstVolume = (bytes: Uint8Array): VolumeReport => macVolumes(new MemorySource(bytes))[0] as VolumeReport;
const liveOf = (name: string): MacEntry[] => macTruth(name).entries.filter(({ state, volume }) => state === "live" && (volume ?? 0) === 0);

/** Blocks of nodes of a tree of files that have no header of their own. */
function bareNodes(bytes: Uint8Array, leaf: boolean): number[] {
  const view = new DataView(bytes.buffer);
  const found: number[] = [];
  for (let at = 0; at + BLOCK <= bytes.length; at += BLOCK) {
    const flags = view.getUint16(at + 32, true);
    if ((flags & 0x18) === 0x18 && ((flags & 2) !== 0) === leaf && bytes.subarray(at, at + 32).every((byte) => byte === 0)) found.push(at);
  }
  return found;
}

/** Containers sealed by script after they were written by the apfs driver; apfsck agrees with what the script wrote (of apfs-twovol: the other one it cannot read). */
describe("a sealed APFS volume", () => {
  it.each(["apfs-twovol", "apfs-features"])("%s: all files come out with their bytes and attributes, as before it was sealed", (name) => {
    const disk = new MemorySource(sealed(name));
    const [volume] = macVolumes(disk) as [VolumeReport];
    expect(volume.notes.join(" ")).toContain("It is sealed: its files are those of the system");
    const copies = copiesOf(disk, volume);
    const live = liveOf(name);
    expect(live.length).toBeGreaterThan(name === "apfs-features" ? 80 : 30);
    expect(wrongOnes(live, copies, disk)).toEqual([]);
    expect(copies.filter(({ state }) => state === "live")).toHaveLength(live.length);
    expect(falselyWhole(macTruth(name), copies, disk)).toEqual([]);
  });

  it("its snapshots from before it was sealed, and the volume beside it, are read as ever", () => {
    const disk = new MemorySource(sealed("apfs-features"));
    const [volume] = macVolumes(disk) as [VolumeReport];
    const snapshots = (openVolume(disk, volume).states?.() ?? []).filter(({ kind }) => kind === "snapshot");
    expect(snapshots).toHaveLength(2);
    for (const { view, label } of snapshots) {
      const entries = macTruth("apfs-features").entries.filter(({ state }) => state === `in-snapshot:${label}`);
      expect(entries.length).toBeGreaterThan(90);
      expect(wrongOnes(entries, copiesOf(disk, { ...volume, view }), disk)).toEqual([]);
    }
    const two = new MemorySource(sealed("apfs-twovol"));
    const other = macVolumes(two)[1] as VolumeReport;
    expect(other.notes.join(" ")).not.toContain("sealed");
    const entries = macTruth("apfs-twovol").entries.filter((entry) => entry.state === "live" && entry.volume === 1);
    expect(entries.length).toBeGreaterThan(0);
    expect(wrongOnes(entries, copiesOf(two, other), two)).toEqual([]);
  });

  it("a node whose block has not the hash that stands above it is passed by, and said; the files of the others come out", () => {
    const bytes = sealed("apfs-features");
    const leaves = bareNodes(bytes, true);
    expect(leaves.length).toBeGreaterThan(20);
    // A byte of a name or of a value near the end of the node: nothing in the node itself would tell.
    const at = leaves[5] as number;
    bytes[at + 4000] = (bytes[at + 4000] as number) ^ 1;
    const disk = new MemorySource(bytes);
    const volume = firstVolume(bytes);
    const copies = copiesOf(disk, volume).filter(({ state }) => state === "live");
    const before = liveOf("apfs-features");
    expect(copies.length).toBeLessThan(before.length);
    expect(copies.length).toBeGreaterThan(before.length * 0.8);
    const findings = openVolume(disk, volume).findings?.() ?? [];
    expect(findings[0]?.what).toContain("Nodes of the tree of files that are damaged");
    expect(findings[0]?.examples).toEqual([`block ${at / BLOCK}`]);
  });

  it("whose seal is broken says so, and is read", () => {
    const bytes = sealed("apfs-twovol");
    const view = new DataView(bytes.buffer);
    let found = 0;
    for (let at = 0; at + BLOCK <= bytes.length; at += BLOCK) {
      if (view.getUint32(at + 24, true) !== 0x1e) continue;
      view.setUint32(at + 36, 1, true);
      bytes.set(objectChecksum(bytes.subarray(at, at + BLOCK)), at);
      found += 1;
    }
    expect(found).toBe(1);
    const leaf = bareNodes(bytes, true)[0] as number;
    // The time at which a folder's entry was added, or a file's: of no matter to what is read.
    bytes[leaf + BLOCK - 60] = (bytes[leaf + BLOCK - 60] as number) ^ 1;
    const disk = new MemorySource(bytes);
    const volume = firstVolume(bytes);
    expect(volume.notes.join(" ")).toContain("its seal is broken");
    const live = liveOf("apfs-twovol").filter(({ type }) => type === "file");
    expect(copiesOf(disk, volume).filter(({ state }) => state === "live").length).toBeGreaterThanOrEqual(live.length - 1);
  });

  it("whose seal cannot be read is read without its hashes, and says so", () => {
    const bytes = sealed("apfs-twovol");
    const view = new DataView(bytes.buffer);
    for (let at = 0; at + BLOCK <= bytes.length; at += BLOCK) if (view.getUint32(at + 24, true) === 0x1e) bytes[at + 60] = 1;
    const disk = new MemorySource(bytes);
    const volume = firstVolume(bytes);
    expect(volume.notes.join(" ")).toContain("damage in its tree of files goes unnoticed");
    expect(wrongOnes(liveOf("apfs-twovol"), copiesOf(disk, volume), disk)).toEqual([]);
  });
});
