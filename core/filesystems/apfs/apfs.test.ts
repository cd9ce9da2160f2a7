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
import { objectChecksum } from "../../../tests/support/object-checksum";
import { GROUP, systemAndData } from "../../../tests/support/system-and-data";
import { MemorySource } from "../../bytes/byte-source";
import { inspectDisk, openVolume, type VolumeReport } from "../../volumes/inspect";
import { isSound } from "./objects";

/** Containers made by mkapfs of apfsprogs 0.2.1 and the apfs driver 0.3.22 of Linux; their manifests were written by the maker. */
const NAMES = ["apfs-features", "apfs-checkpoints", "apfs-home", "apfs-twovol"] as const;
const ofVolume = (entries: readonly MacEntry[], volume: number) => entries.filter((entry) => (entry.volume ?? 0) === volume);
const inState = (entries: readonly MacEntry[], state: string) => entries.filter((entry) => entry.state === state);

describe("APFS", () => {
  it.each(NAMES)("%s: all live files come out with their bytes and attributes; nothing gone is called whole", (name) => {
    const disk = macSource(name);
    const truth = macTruth(name);
    macVolumes(disk).forEach((volume, index) => {
      const entries = ofVolume(truth.entries, index);
      const copies = copiesOf(disk, volume);
      expect(wrongOnes(inState(entries, "live"), copies, disk)).toEqual([]);
      expect(falselyWhole({ entries }, copies, disk)).toEqual([]);
      for (const entry of entries.filter(({ state }) => state === "deleted-overwritten"))
        for (const copy of copies.filter(
          (each) => each.state === "deleted" && each.path === `/${entry.path}`.normalize("NFC") && each.size > 0,
        ))
          if (hashOf(copy.layout, disk) !== entry.sha256) expect(copy.condition, entry.path).not.toBe("whole");
    });
  });

  it("at least 95 of 100 deleted files whose bytes all stand come out under their full path", { tags: "long" }, () => {
    let [wanted, whole] = [0, 0];
    for (const name of NAMES) {
      const disk = macSource(name);
      const truth = macTruth(name);
      macVolumes(disk).forEach((volume, index) => {
        const deleted = inState(ofVolume(truth.entries, index), "deleted").filter(({ type }) => type === "file");
        wanted += deleted.length;
        whole += deletedOnes(deleted, copiesOf(disk, volume), disk).whole;
      });
    }
    // Of the others no node in the images has the name any more.
    expect(wanted).toBe(61);
    expect(whole / wanted).toBeGreaterThanOrEqual(0.95);
  });

  it("every file of every snapshot comes out of the snapshot, byte for byte", () => {
    let checked = 0;
    for (const name of NAMES) {
      const disk = macSource(name);
      const truth = macTruth(name);
      macVolumes(disk).forEach((volume, index) => {
        for (const { view, kind, label } of openVolume(disk, volume).states?.() ?? []) {
          if (kind !== "snapshot") continue;
          const entries = inState(ofVolume(truth.entries, index), `in-snapshot:${label}`);
          expect(wrongOnes(entries, copiesOf(disk, { ...volume, view }), disk)).toEqual([]);
          checked += entries.length;
        }
      });
    }
    expect(checked).toBeGreaterThan(300);
  });

  it("an older checkpoint shows a state that was once committed", () => {
    const disk = macSource("apfs-checkpoints");
    const [volume] = macVolumes(disk) as [VolumeReport];
    const history = macTruth("apfs-checkpoints").volumes?.[0]?.history ?? [];
    const states = openVolume(disk, volume).states?.() ?? [];
    expect(states.length).toBeGreaterThan(0);
    for (const { view } of states) {
      const files = copiesOf(disk, { ...volume, view }).filter(({ type, state }) => type === "file" && state === "live");
      const shown = Object.fromEntries(files.map((copy) => [copy.path.slice(1), hashOf(copy.layout, disk)]));
      expect(
        history.some((step) => JSON.stringify(Object.entries(step.files).sort()) === JSON.stringify(Object.entries(shown).sort())),
      ).toBe(true);
    }
  });

  it("an older checkpoint, which nothing keeps, calls whole only what is the volume's still, or proves itself by its content", () => {
    const bytes = macBytes("apfs-checkpoints");
    const disk = new MemorySource(bytes);
    const [volume] = macVolumes(disk) as [VolumeReport];
    const now = new Set(copiesOf(disk, volume).flatMap(({ state, layout }) => (state === "live" && layout ? [hashOf(layout, disk)] : [])));
    let [kept, notKept] = [0, 0];
    for (const { view } of openVolume(disk, volume).states?.() ?? [])
      for (const copy of copiesOf(disk, { ...volume, view })) {
        if (copy.type !== "file" || copy.size === 0 || !copy.layout) continue;
        // As if a file that is gone by now had written there: the record of the old state cannot know.
        if (now.has(hashOf(copy.layout, disk))) kept += copy.condition === "whole" ? 1 : 0;
        else {
          notKept += 1;
          const { content } = copy.evidence;
          const proven = content?.finding === "agrees" && content.checked;
          expect(copy.condition === "whole", copy.path).toBe(proven);
        }
      }
    expect(kept).toBeGreaterThan(30);
    expect(notKept).toBeGreaterThan(0);
  });

  it("volumes of one container are distinguished, by name and by what stands in them", () => {
    const { volumes, notes } = inspectDisk(macSource("apfs-twovol"));
    expect(volumes.map(({ label, offset, view }) => [label, offset, view])).toEqual([
      ["Alpha", 0, "0"],
      ["Beta", 0, "1"],
    ]);
    expect(notes.join()).not.toContain("overlap");
    // As fsapfsinfo of libfsapfs 20201107 prints them of the same image.
    expect(volumes.map(({ identity }) => identity)).toEqual([
      { id: "4774468c-a508-4122-bba7-b0d76d45fe72", drive: null, part: null },
      { id: "b3bbef8a-1321-4458-b508-78ead0581ba3", drive: null, part: null },
    ]);
  });

  it("volumes that make up one drive say so: which part of it each is", () => {
    const disk = new MemorySource(systemAndData());
    const volumes = macVolumes(disk);
    expect(volumes.map(({ label, identity }) => [label, identity?.drive, identity?.part])).toEqual([
      ["Alpha", GROUP, "system"],
      ["Beta", GROUP, "data"],
    ]);
    expect(volumes.map(({ notes }) => notes.join())).toEqual([
      expect.stringContaining("It holds the system of one drive, and the volume “Beta” the data of its users: they are one tree."),
      expect.stringContaining("It holds the users’ data of one drive, and the volume “Alpha” the system: they are one tree."),
    ]);
    // Nothing else of them is another: their files still come out.
    const { entries } = macTruth("apfs-twovol");
    volumes.forEach((volume, index) => {
      expect(wrongOnes(inState(ofVolume(entries, index), "live"), copiesOf(disk, volume), disk)).toEqual([]);
    });
  });
});

describe("a damaged APFS container", () => {
  const live = inState(macTruth("apfs-checkpoints").entries, "live");
  const opened = (bytes: Uint8Array) => {
    const disk = new MemorySource(bytes);
    const { volumes } = inspectDisk(disk);
    return { disk, volumes, volume: volumes.find(({ filesystem }) => filesystem === "apfs") as VolumeReport };
  };

  it("without its first block is opened by its checkpoints", () => {
    const bytes = macBytes("apfs-checkpoints");
    bytes.fill(0, 0, 4096);
    const { disk, volume } = opened(bytes);
    expect(volume.notes.join()).toContain("first block is damaged");
    expect(wrongOnes(live, copiesOf(disk, volume), disk)).toEqual([]);
  });

  it("that no partition table names is found by its superblock, or by a checkpoint", () => {
    const own = macBytes("apfs-checkpoints");
    for (const zeroed of [false, true]) {
      const start = (3 << 20) + 512 * 8;
      const bytes = new Uint8Array(start + own.length);
      bytes.set(own, start);
      if (zeroed) bytes.fill(0, start, start + 4096);
      const { disk, volume } = opened(bytes);
      expect(volume).toMatchObject({ offset: start, standing: "lost" });
      expect(wrongOnes(live, copiesOf(disk, volume), disk)).toEqual([]);
    }
  });

  it("whose newest checkpoint is torn is opened by the one before it", () => {
    const bytes = macBytes("apfs-checkpoints");
    // The newest superblock in the descriptor area: its checksum is spoilt.
    const view = new DataView(bytes.buffer);
    let newest = { at: 0, xid: -1 };
    for (let block = 1; block < 64; block += 1)
      if (view.getUint32(block * 4096 + 32, true) === 0x4253_584e && isSound(bytes.subarray(block * 4096, block * 4096 + 4096))) {
        const xid = view.getUint32(block * 4096 + 16, true);
        if (xid > newest.xid) newest = { at: block * 4096, xid };
      }
    expect(newest.xid).toBeGreaterThan(0);
    bytes[newest.at + 200] = (bytes[newest.at + 200] as number) ^ 1;
    const { disk, volume } = opened(bytes);
    const copies = copiesOf(disk, volume, false).filter(({ state, type }) => state === "live" && type === "file");
    expect(copies.length).toBeGreaterThan(30);
    for (const copy of copies) expect(copy.condition).toBe("whole");
  });

  it("that is encrypted is said to be at once, and its files are not guessed at", () => {
    const bytes = macBytes("apfs-checkpoints");
    // The mark of an unencrypted volume is taken out of every superblock of it, and the checksums are made right again.
    for (let at = 0; at + 4096 <= bytes.length; at += 4096) {
      if (new DataView(bytes.buffer).getUint32(at + 32, true) !== 0x4253_5041) continue;
      bytes[at + 264] = (bytes[at + 264] as number) & ~1;
      bytes.set(objectChecksum(bytes.subarray(at, at + 4096)), at);
    }
    const { volume } = opened(bytes);
    expect(volume.closed).toContain("encrypted");
    expect(() => openVolume(new MemorySource(bytes), volume)).toThrow("encrypted");
  });
});
