import { describe, expect, it } from "vitest";
import { unpackBlocks } from "../../../tests/support/blocks";
import { copiesOf, hashOf, macBytes, macFixture, macSource, macTruth, macVolumes } from "../../../tests/support/mac-truth";
import { objectChecksum } from "../../../tests/support/object-checksum";
import { MemorySource } from "../../bytes/byte-source";
import { openVolume, type VolumeReport } from "../../volumes/inspect";
import { isSound } from "./objects";

const BLOCK = 4096;
const NAMES = ["apfs-features", "apfs-checkpoints", "apfs-home", "apfs-twovol"] as const;
const FILE_TREE = 0xe;
const EXTENT_TREE = 0x1f;
const sealed = () => unpackBlocks(macFixture("apfs-features-sealed.blocks.gz"), macBytes("apfs-features"));

/** Blocks of sound leaves of a kind of tree, the latest version of each. */
function leavesOf(bytes: Uint8Array, subtype: number): number[] {
  const view = new DataView(bytes.buffer);
  const newest = new Map<number, { at: number; xid: number }>();
  for (let at = 0; at + BLOCK <= bytes.length; at += BLOCK) {
    if (view.getUint32(at + 28, true) !== subtype || (view.getUint16(at + 32, true) & 2) === 0) continue;
    if (!isSound(bytes.subarray(at, at + BLOCK))) continue;
    const [oid, xid] = [view.getUint32(at + 8, true), view.getUint32(at + 16, true)];
    if ((newest.get(oid)?.xid ?? -1) < xid) newest.set(oid, { at, xid });
  }
  return [...newest.values()].map(({ at }) => at);
}

const findingsOf = (bytes: Uint8Array) => {
  const disk = new MemorySource(bytes);
  return openVolume(disk, macVolumes(disk)[0] as VolumeReport).findings?.() ?? [];
};
const wordsOf = (bytes: Uint8Array) =>
  findingsOf(bytes)
    .map(({ what, count }) => `${count} ${what}`)
    .join("\n");

/** Live files whose bytes are not those of the manifest, and are called whole or in place all the same. */
function falseOnes(bytes: Uint8Array): string[] {
  const disk = new MemorySource(bytes);
  const truth = new Map(
    macTruth("apfs-features").entries.flatMap(({ path, state, sha256 }) =>
      state === "live" ? [[`/${path}`.normalize("NFC"), sha256]] : [],
    ),
  );
  return copiesOf(disk, macVolumes(disk)[0] as VolumeReport)
    .filter(({ state, type, size }) => state === "live" && type === "file" && size > 0)
    .filter(
      ({ path, layout, condition }) => condition === "whole" && truth.get(path) !== undefined && hashOf(layout, disk) !== truth.get(path),
    )
    .map(({ path }) => path);
}

describe("what does not add up in an APFS volume", () => {
  it.each(NAMES)("%s, which the driver wrote, has nothing of it", (name) => {
    const disk = macSource(name);
    for (const volume of macVolumes(disk)) expect(openVolume(disk, volume).findings?.()).toEqual([]);
  });

  it("a damaged node is named; no file of which it had the extents is called whole with zeros in their place", () => {
    for (const [bytes, subtype] of [
      [macBytes("apfs-features"), FILE_TREE],
      [sealed(), EXTENT_TREE],
    ] as const) {
      let [named, leaves] = [0, 0];
      for (const at of leavesOf(bytes, subtype)) {
        bytes[at + 3000] = (bytes[at + 3000] as number) ^ 0x10;
        expect(falseOnes(bytes), `block ${at / BLOCK}`).toEqual([]);
        leaves += 1;
        if (wordsOf(bytes).includes("that are damaged or cannot be found")) named += 1;
        bytes[at + 3000] = (bytes[at + 3000] as number) ^ 0x10;
      }
      expect(leaves).toBeGreaterThan(5);
      // Leaves of older trees are among them.
      expect(named).toBeGreaterThan(leaves / 3);
    }
  });

  it("blocks that two files claim are distinguished from those of clones; lost files, entries and numbers are reported", () => {
    const bytes = macBytes("apfs-checkpoints");
    const view = new DataView(bytes.buffer);
    const seal = (at: number) => bytes.set(objectChecksum(bytes.subarray(at, at + BLOCK)), at);
    // The number of files in each version of the superblock.
    for (let at = 0; at + BLOCK <= bytes.length; at += BLOCK)
      if (view.getUint32(at + 32, true) === 0x4253_5041) {
        view.setUint32(at + 184, 4711, true);
        seal(at);
      }
    expect(wordsOf(bytes)).toMatch(/^1 Numbers in the volume's superblock/);
    // Extents of several files get the block of the first; an entry leads to a number that no file has.
    let [extents, entries] = [0, 0];
    for (const at of leavesOf(bytes, FILE_TREE)) {
      const [count, table, length] = [view.getUint32(at + 36, true), view.getUint16(at + 40, true), view.getUint16(at + 42, true)];
      const keysAt = at + 56 + table + length;
      const end = at + BLOCK - ((view.getUint16(at + 32, true) & 1) !== 0 ? 40 : 0);
      let first: { stream: number; block: number } | null = null;
      for (let index = 0; index < count; index += 1) {
        const entry = at + 56 + table + index * 8;
        const key = keysAt + view.getUint16(entry, true);
        const value = end - view.getUint16(entry + 4, true);
        const type = view.getUint32(key + 4, true) >>> 28;
        const block = view.getUint32(value + 8, true);
        if (type === 8 && block !== 0) {
          const stream = view.getUint32(key, true);
          first ??= { stream, block };
          if (stream !== first.stream && block !== first.block) {
            view.setUint32(value + 8, first.block, true);
            extents += 1;
          }
        }
        if (type === 9 && view.getUint32(value, true) > 20 && entries < 1) {
          view.setUint32(value, 999_999, true);
          entries += 1;
        }
      }
      seal(at);
    }
    expect(extents).toBeGreaterThan(0);
    expect(entries).toBe(1);
    const words = wordsOf(bytes);
    expect(words).toContain("Blocks that two files claim");
    expect(words).toMatch(/^1 Entries of folders that lead to a file that is not in the tree/m);
    expect(words).toMatch(/^1 Files and folders that no folder has an entry for/m);
  });

  it("blocks in use that the container's map calls free are reported", () => {
    const bytes = macBytes("apfs-checkpoints");
    const disk = new MemorySource(bytes);
    const volume = macVolumes(disk)[0] as VolumeReport;
    const copy = copiesOf(disk, volume).find(({ state, layout }) => state === "live" && layout?.segments[0]?.kind === "disk");
    const segment = copy?.layout?.segments[0];
    if (segment?.kind !== "disk") throw new Error("no file with a block");
    const block = segment.at / BLOCK;
    // The bitmap of the first chunk, wherever a version of it stands: a block whose first bits are set as the superblock's are, and that is no object.
    let cleared = 0;
    for (let at = 0; at + BLOCK <= bytes.length; at += BLOCK)
      if ((bytes[at] as number) === 0xff && ((bytes[at + (block >>> 3)] as number) & (1 << (block & 7))) !== 0 && bytes[at + 1] === 0xff) {
        bytes[at + (block >>> 3)] = (bytes[at + (block >>> 3)] as number) & ~(1 << (block & 7));
        cleared += 1;
      }
    expect(cleared).toBeGreaterThan(0);
    expect(findingsOf(bytes).map(({ what, count, examples }) => [what.slice(0, 31), count, examples[0]])).toEqual([
      ["Blocks that belong to a file wh", 1, expect.stringMatching(/^block \d+/)],
    ]);
  });
});
