import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { MemorySource } from "../core/bytes/byte-source";
import { textCheckpoint } from "../core/bytes/checkpoint";
import { encodeLayout } from "../core/bytes/layout-code";
import type { Copy } from "../core/copies/copy";
import { volumeTree } from "../core/places/file-tree";
import { recordsOf } from "../core/sets/backup-set";
import { type Around, type EarlierStatesOptions, earlierStatesPass } from "../core/sets/earlier-states-pass";
import { inspectDisk, openVolume, type VolumeReport } from "../core/volumes/inspect";
import { unpackSet } from "../tests/support/set-truth";
import { snapshotVolume } from "../tests/support/snapshot-truth";
import { FolderSource } from "./folder-source";

const work = mkdtempSync(join(tmpdir(), "compass-newest-first-"));
afterAll(() => rmSync(work, { recursive: true, force: true }));

/** All that a pass says of each version, in the order in which it gives them. */
function given(around: Around, options: EarlierStatesOptions): string[] {
  const found: string[] = [];
  for (const { copies } of earlierStatesPass(around, 256, options))
    for (const { layout, ...copy } of copies)
      found.push(JSON.stringify([copy, layout && Buffer.from(encodeLayout(layout)).toString("base64")]));
  return found;
}

function inFolder(path: string): Around {
  const folder = new FolderSource(path);
  return {
    volume: folder,
    tree: folder,
    openState: () => {
      throw new Error("a folder has no snapshots");
    },
  };
}

function withSnapshots(): Around {
  const disk = new MemorySource(snapshotVolume("main"));
  const [report] = inspectDisk(disk).volumes as [VolumeReport];
  const open = (view: string | null) => {
    const volume = openVolume(disk, { ...report, view });
    return { volume, tree: volumeTree(volume, disk, null), close: () => undefined };
  };
  return { ...open(report.view), openState: open };
}

const between = { from: Date.UTC(2026, 0, 10), to: Date.UTC(2026, 1, 20) };

describe("earlier states, the newest read first", () => {
  it.each(["dated-copies", "linked-trees", "archive-sets", "folder-copies"])(
    "of %s give the same versions with the same dates and words, also narrowed",
    { tags: "long" },
    (name) => {
      const path = unpackSet(name, work);
      for (const options of [{}, { between }]) {
        const oldest = given(inFolder(path), options);
        const newest = given(inFolder(path), { ...options, newestFirst: true });
        if (!("between" in options)) expect(oldest.length).toBeGreaterThan(100);
        expect([...newest].sort()).toEqual([...oldest].sort());
        if (oldest.length > 20) expect(newest).not.toEqual(oldest);
      }
    },
  );

  it("of snapshots give the same versions", () => {
    const oldest = given(withSnapshots(), {});
    const newest = given(withSnapshots(), { newestFirst: true });
    expect(oldest.length).toBeGreaterThan(10);
    expect([...newest].sort()).toEqual([...oldest].sort());
  });
});

describe("earlier states of snapshots, narrowed", () => {
  const of = (copy: Copy) => copy.present as { from: number; until: number | null };

  it("with snapshots left out between them and now, claim nothing of those, and say what became of what stood then", () => {
    const around = withSnapshots();
    const moments = (around.volume.states?.() ?? []).flatMap(({ kind, asOf }) => (kind === "snapshot" && asOf !== null ? [asOf] : []));
    moments.sort((a, b) => a - b);
    expect(moments.length).toBeGreaterThan(2);
    const [first] = moments as [number];
    const only = { from: first, to: first };
    const copies = [...earlierStatesPass(around, 256, { between: only })].flatMap((batch) => batch.copies);
    expect(copies.length).toBeGreaterThan(3);
    for (const copy of copies) {
      // Only the first snapshot and the volume as it is now were read.
      expect(of(copy).from).toBe(first);
      expect(of(copy).until).toBe(first);
      expect(copy.notes.join(" ")).not.toContain("the state after it");
    }
    const all = [...earlierStatesPass(withSnapshots(), 256)].flatMap((batch) => batch.copies);
    const live = [...recordsOf(around.volume)].filter(({ state }) => state === "live");
    const now = new Set(live.map(({ path, reference, size, modified }) => `${path}: ${reference} ${size} ${modified}`));
    const standing = all.filter((copy) => of(copy).from === first && !now.has(`${copy.path}: ${copy.sameAs}`));
    expect(standing.length).toBeGreaterThan(50);
    // What stood in the first snapshot and does not stand in the volume now is there, whatever lay between.
    expect(new Set(copies.map(({ path }) => path))).toEqual(new Set(standing.map(({ path }) => path)));
    expect(given(withSnapshots(), { between: only, newestFirst: true }).sort()).toEqual(given(withSnapshots(), { between: only }).sort());
  });
});

describe("earlier states, gone on with", () => {
  it.each([false, true])("give every version once, whatever batch it was after (the newest first: %s)", { tags: "long" }, (newestFirst) => {
    const path = unpackSet("linked-trees", work);
    const all = given(inFolder(path), { newestFirst });
    const asText = ({ layout: _, ...copy }: Copy) => JSON.stringify(copy);
    const before: string[] = [];
    let [ends, batches, midst] = [0, 0, 0];
    for (const { copies, resume, sets } of earlierStatesPass(inFolder(path), 64, { newestFirst })) {
      before.push(...copies.map(asText));
      batches += 1;
      if (batches % 6 !== 0) continue;
      const rest = [...earlierStatesPass(inFolder(path), 64, { newestFirst, from: resume })];
      const after = rest.flatMap((batch) => batch.copies);
      expect([...before, ...after.map(asText)].length).toBe(all.length);
      expect(new Set([...before, ...after.map(asText)]).size).toBe(all.length);
      const last = rest.at(-1);
      expect(last?.sets.map(({ id, read, versions }) => [id, read, versions])).toEqual(
        [...earlierStatesPass(inFolder(path), 4096, { newestFirst })].at(-1)?.sets.map(({ id, read, versions }) => [id, read, versions]),
      );
      const readBefore = sets.filter((set) => !after.some((copy) => copy.set === set.id)).length;
      ends = Math.max(ends, readBefore);
      if (after.some((copy) => before.some((line) => line.includes(JSON.stringify(copy.set))))) midst += 1;
    }
    // At least one set was not read again, and one was left in its midst.
    expect(ends).toBeGreaterThan(0);
    expect(midst).toBeGreaterThan(0);
  });

  it("give all versions of a set anew where other ones come than before: its tree has changed", () => {
    const path = unpackSet("linked-trees", mkdtempSync(join(work, "changed-")));
    const first = [...earlierStatesPass(inFolder(path), 64)];
    const stopped = first.findIndex(({ copies }) => copies.length > 0);
    const [gone] = first[stopped]?.copies ?? [];
    rmSync(join(path, gone?.file ?? ""));
    const rest = [...earlierStatesPass(inFolder(path), 64, { from: first[stopped]?.resume ?? null })].flatMap(({ copies }) => copies);
    const all = given(inFolder(path), {});
    expect(new Set(rest.map(({ path: each, sameAs, present }) => `${each} ${sameAs} ${present?.from}`)).size).toBe(all.length);
  });

  it("refuse a checkpoint of another reader", () => {
    const path = unpackSet("linked-trees", work);
    expect(() => [...earlierStatesPass(inFolder(path), 64, { from: textCheckpoint(["a"]) })]).toThrow("not of this reader");
  });
});
