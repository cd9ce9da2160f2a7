import { describe, expect, it } from "vitest";
import { compareState, damageEffect, snapshotDisk, snapshotTruth, snapshotVolume } from "../../../../tests/support/snapshot-truth";
import { MemorySource } from "../../../bytes/byte-source";
import type { Copy } from "../../../copies/copy";
import { fileRecordsPass, leftoversPass } from "../../../copies/file-records-pass";
import { inspectDisk, openVolume } from "../../../volumes/inspect";

const STATES = ["T1", "T2", "T3"];

function opened(bytes: Uint8Array) {
  const disk = new MemorySource(bytes);
  const report = inspectDisk(disk).volumes.find(({ filesystem }) => filesystem === "ntfs");
  if (!report) throw new Error("no volume");
  const now = openVolume(disk, report);
  const states = now.states?.() ?? [];
  const copiesAt = (view: string | null) => {
    const volume = openVolume(disk, { ...report, view });
    const copies = [...fileRecordsPass(volume, disk)].flatMap((batch) => batch.copies);
    return { volume, copies };
  };
  return { disk, states, copiesAt };
}

/** Truth: states mounted and hashed before the structures were laid in; `vshadowmount` (libvshadow-utils 20190323) reads them the same. */
describe("snapshots kept inside a volume", () => {
  it("are states of it, with their times and machine, each with all its files byte by byte and their dates", { tags: "long" }, () => {
    const bytes = snapshotDisk();
    const { states, copiesAt } = opened(bytes);
    expect(states.map(({ kind, asOf, machine }) => ({ kind, asOf, machine }))).toEqual(
      snapshotTruth.snapshots.map(({ created, machine }) => ({ kind: "snapshot", asOf: Date.parse(created), machine })),
    );
    states.forEach(({ view }, index) => {
      const state = STATES[index] as string;
      const { volume, copies } = copiesAt(view);
      const files = Object.keys(snapshotTruth.states.find((each) => each.state === state)?.tree ?? {}).length;
      expect(compareState(state, copies, bytes), state).toEqual({
        exact: files,
        whole: files,
        lies: [],
        missing: [],
        extra: [],
        dates: [],
      });
      expect(volume.states?.()).toEqual([]);
      expect([...leftoversPass(volume, new MemorySource(bytes))]).toEqual([]);
    });
    expect(compareState("now", copiesAt(null).copies, bytes)).toMatchObject({ lies: [], missing: [], extra: [] });
  });

  it("give what is sound where a list or kept blocks are damaged, and call nothing whole that is not", () => {
    const bytes = snapshotVolume("damaged");
    const { states, copiesAt } = opened(bytes);
    expect(states).toHaveLength(3);
    const found = states.map(({ view }, index) => {
      const state = STATES[index] as string;
      const { volume, copies } = copiesAt(view);
      const result = compareState(state, copies, bytes);
      expect(result.lies, state).toEqual([]);
      const whole = new Set(copies.filter(({ condition }) => condition === "whole").map(({ path }) => path.slice(1)));
      const wrong = Object.entries(damageEffect.files).flatMap(([path, effect]) => (effect[state]?.includes("wrong") ? [path] : []));
      expect(wrong.filter((path) => whole.has(path))).toEqual([]);
      return { notes: volume.notes.length, whole: result.whole, missing: result.missing.length };
    });
    // The list of the oldest is damaged: what the later ones keep is in doubt for it, and for it alone.
    expect(found).toEqual([
      { notes: 1, whole: 38, missing: 0 },
      { notes: 0, whole: 96, missing: 0 },
      { notes: 0, whole: 77, missing: 1 },
    ]);
  });

  it("are found by their files' records when they were deleted; what stands in blocks that are free is looked into", {
    tags: "long",
  }, () => {
    const bytes = snapshotVolume("deleted");
    const { states, copiesAt } = opened(bytes);
    expect(states.map(({ machine, notes }) => [machine, notes?.length])).toEqual([
      ["WERKBANK-07", 1],
      ["WERKBANK-07", 1],
      ["WERKBANK-07", 1],
    ]);
    states.forEach(({ view }, index) => {
      const result = compareState(STATES[index] as string, copiesAt(view).copies, bytes);
      expect(result).toMatchObject({ lies: [], missing: [], extra: [] });
      expect(result.exact).toBeGreaterThan(97);
      // The present content of places nothing watched over any more proves itself, or is not called whole.
      expect(result.whole).toBeGreaterThan(60);
    });
  });

  it("say which bytes other files have now, where a deleted snapshot's blocks were given away", { tags: "long" }, () => {
    const bytes = snapshotVolume("deleted").slice();
    const before = opened(bytes);
    const view = before.states[2]?.view as string;
    // The map of used clusters is a file of the volume.
    const bitmap = before.copiesAt(null).copies.find(({ name }) => name === "$Bitmap")?.layout?.segments[0];
    if (bitmap?.kind !== "disk") throw new Error("no map");
    const placeOf = (cluster: number) => ({ at: bitmap.at + Math.floor(cluster / 8), bit: 1 << (cluster % 8) });
    const isFree = (cluster: number) => ((bytes[placeOf(cluster).at] as number) & placeOf(cluster).bit) === 0;
    const [victim, run] =
      before.copiesAt(view).copies.flatMap((copy): [Copy, { at: number; length: number }][] => {
        const piece = copy.layout?.segments.find(
          (segment) => segment.kind === "disk" && segment.length >= 4096 && isFree(segment.at / 4096),
        );
        return copy.state === "live" && !copy.system && piece?.kind === "disk" ? [[copy, piece]] : [];
      })[0] ?? [];
    if (!victim || !run) throw new Error("no file in freed blocks");
    // One of its clusters is given to another file, and overwritten.
    const { at, bit } = placeOf(run.at / 4096);
    bytes[at] = (bytes[at] as number) | bit;
    bytes.fill(0x55, run.at, run.at + 4096);
    const hurt = opened(bytes)
      .copiesAt(view)
      .copies.find(({ path, state }) => path === victim.path && state === "live");
    expect(hurt?.condition).toBe("partial");
    expect(hurt?.evidence.usedByOthers).toBe(Math.min(4096, run.length));
  });

  it("are found by the records of their files where the catalog is lost", () => {
    const bytes = snapshotVolume("main").slice();
    new DataView(bytes.buffer).setBigUint64(0x1e00 + 48, 0n, true);
    const { states, copiesAt } = opened(bytes);
    expect(states).toHaveLength(3);
    const result = compareState("T3", copiesAt(states[2]?.view ?? null).copies, bytes);
    expect(result).toMatchObject({ lies: [], missing: [], extra: [] });
  });
});
