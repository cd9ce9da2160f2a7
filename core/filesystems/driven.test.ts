import { describe, expect, it } from "vitest";
import { type DrivenTruth, drivenVolumes } from "../../tests/support/driven-volumes";
import { copiesOf, hashOf } from "../../tests/support/mac-truth";
import type { ByteSource } from "../bytes/byte-source";
import type { Copy } from "../copies/copy";
import { inspectDisk } from "../volumes/inspect";

/**
 * Volumes after some hundred operations drawn by lot, carried out by the drivers of the Linux kernel, against what these operations come to
 * (`make-driven-volumes.py`).
 */
const shown = (path: string) => `/${path}`.normalize("NFC");
const volumes = drivenVolumes();

function copiesIn(disk: ByteSource): Copy[] {
  const [volume, ...others] = inspectDisk(disk).volumes;
  expect(others).toEqual([]);
  return copiesOf(disk, volume as NonNullable<typeof volume>);
}

/** What the list of live files has wrong; empty: nothing. */
function wrongLive(copies: readonly Copy[], truth: DrivenTruth, disk: ByteSource): string[] {
  const live = copies.filter(({ state, system }) => state === "live" && !system);
  const byPath = new Map<string, Copy[]>();
  for (const copy of live) {
    const path = copy.path.normalize("NFC");
    byPath.set(path, [...(byPath.get(path) ?? []), copy]);
  }
  const wrong: string[] = [];
  for (const [path, { size, sha256 }] of Object.entries(truth.live)) {
    const [copy, ...more] = byPath.get(shown(path)) ?? [];
    const bytes = copy && (copy.size === 0 ? size === 0 : hashOf(copy.layout, disk) === sha256);
    if (!copy || more.length > 0 || copy.condition !== "whole" || !bytes)
      wrong.push(`${path}: ${copy ? `${1 + more.length} times, ${copy.condition}, ${copy.size} of ${size} bytes` : "not listed"}`);
  }
  for (const path of truth.folders) if (byPath.get(shown(path))?.[0]?.type !== "folder") wrong.push(`${path}: no folder`);
  for (const path of Object.keys(truth.symbolic))
    if (byPath.get(shown(path))?.[0]?.absent !== "not-followed") wrong.push(`${path}: no link`);
  const known = new Set([...Object.keys(truth.live), ...truth.folders, ...Object.keys(truth.symbolic)].map(shown));
  for (const path of byPath.keys()) if (!known.has(path)) wrong.push(`${path}: was not there`);
  return wrong;
}

const RECORDS_ALONE = "rests on the records alone";

/** The copies of deleted files that are called whole, and whose bytes are no content that any file ever had. */
function falselyWhole(copies: readonly Copy[], truth: DrivenTruth, disk: ByteSource): Copy[] {
  const ever = new Set([...Object.values(truth.history).flat(), ...truth.midway]);
  return copies.filter(
    ({ state, condition, type, size, layout }) =>
      state === "deleted" && condition === "whole" && type === "file" && size > 0 && !ever.has(hashOf(layout, disk) ?? ""),
  );
}

describe.each(volumes)("$name: $truth.form", ({ truth, open }) => {
  const disk = open();
  const copies = copiesIn(disk);

  it("lists what lives, byte for byte, and nothing else", () => {
    expect(wrongLive(copies, truth, disk)).toEqual([]);
  });

  it("calls nothing deleted whole whose bytes no file ever had, unless it says that the records alone say so", () => {
    // On a Mac's volumes there is no such excuse.
    const mayRest = truth.kind !== "hfsplus" && truth.kind !== "apfs";
    const isExcused = ({ notes }: Copy) => mayRest && notes.join().includes(RECORDS_ALONE);
    expect(falselyWhole(copies, truth, disk).flatMap((copy) => (isExcused(copy) ? [] : [copy.path]))).toEqual([]);
  });

  it("names nothing that never was", () => {
    const names = new Set(truth.names.map((name) => name.normalize("NFC")));
    const invented = copies.filter(
      ({ state, type, system, name, incompleteName }) =>
        state === "deleted" && type === "file" && !system && !incompleteName && !names.has(name.normalize("NFC")),
    );
    expect(invented.map(({ path, size }) => `${path}: ${size} bytes`)).toEqual([]);
  });
});

it("finds parts of deleted FAT folders whose chains are gone, with the files they name", () => {
  const inParts = volumes.flatMap(({ truth, open }) => {
    if (truth.kind !== "fat") return [];
    const copies = copiesIn(open());
    const parts = copies.filter(({ type, notes }) => type === "folder" && notes.join().startsWith("A part of a folder"));
    const named = copies.filter(
      ({ type, size, incompleteName, path }) =>
        type === "file" && size > 0 && !incompleteName && parts.some((part) => path === `${part.path}/${path.split("/").at(-1)}`),
    );
    return named.map((copy) => ({ copy, deleted: truth.deleted }));
  });
  const right = inParts.filter(({ copy, deleted }) =>
    deleted.some(({ path, size }) => size === copy.size && shown(path).endsWith(`/${copy.name.normalize("NFC")}`)),
  );
  expect(inParts.length).toBeGreaterThan(0);
  // What a file was moved away from keeps the size it had then.
  expect(right.length / inParts.length).toBeGreaterThanOrEqual(0.8);
});

it("lists a deleted file of HFS+ under each name that a record of it has, and says which the others are", () => {
  let checked = 0;
  for (const { truth, open } of volumes.filter(({ truth }) => truth.kind === "hfsplus")) {
    const copies = copiesIn(open());
    const names = new Set(truth.names.map((name) => name.normalize("NFC")));
    for (const copy of copies) {
      const other = /another record of it calls it “([^”]+)”/.exec(copy.notes.join(" "))?.[1];
      if (!other) continue;
      const first = copies.find(({ path, reference }) => path === other && copy.reference.startsWith(reference));
      expect([first?.state, first?.size, first?.layout], copy.path).toEqual([copy.state, copy.size, copy.layout]);
      expect([copy.name, first?.name ?? ""].every((name) => names.has(name.normalize("NFC")))).toBe(true);
      checked += 1;
    }
  }
  expect(checked).toBeGreaterThan(0);
});

it("does not call whole what was deleted from a folder whose record was used again, and says on what it rests elsewhere", () => {
  const ntfs = volumes.filter(({ truth }) => truth.kind === "ntfs").map(({ truth, open }) => ({ truth, disk: open() }));
  const gone = ntfs.flatMap(({ disk, truth }) =>
    copiesIn(disk)
      .filter(({ state, type, size }) => state === "deleted" && type === "file" && size > 0)
      .map((copy) => ({ copy, truth, disk })),
  );
  const onDisk = gone.filter(({ copy }) => copy.layout?.segments.some(({ kind }) => kind === "disk"));
  const lost = onDisk.filter(({ copy }) => copy.path.startsWith("/?/"));
  expect(lost.length).toBeGreaterThan(5);
  expect(lost.filter(({ copy }) => copy.condition === "whole" && copy.evidence.content?.finding !== "agrees")).toEqual([]);
  const restsOnRecords = onDisk.filter(({ copy }) => copy.notes.join().includes(RECORDS_ALONE));
  expect(restsOnRecords.every(({ copy }) => copy.condition === "whole")).toBe(true);
  const wrong = restsOnRecords.filter(({ copy, truth, disk }) => falselyWhole([copy], truth, disk).length > 0);
  // One of these volumes was chosen because there is such a file on it: its place was used again by a file of which no record is left.
  expect(wrong.map(({ copy }) => copy.path)).toContain("/Über uns 173");
  expect(restsOnRecords.length).toBeGreaterThan(wrong.length);
});

it("does not take a deleted file for an empty one because its record says that it is empty", () => {
  const empty = volumes
    .filter(({ truth }) => truth.kind === "fat" || truth.kind === "exfat" || truth.kind === "hfsplus")
    .flatMap(({ truth, open }) =>
      copiesIn(open())
        .filter(({ state, type, size, system }) => state === "deleted" && type === "file" && size === 0 && !system)
        .map((copy) => ({ copy, truth })),
    );
  const hadBytes = empty.filter(({ copy, truth }) =>
    truth.deleted.some(({ path, size }) => size > 0 && shown(path).endsWith(`/${copy.name.normalize("NFC")}`)),
  );
  expect(hadBytes.length).toBeGreaterThan(0);
  expect(empty.filter(({ copy }) => copy.condition === "whole").map(({ copy }) => copy.path)).toEqual([]);
});

it("has enough to list", () => {
  expect(volumes.flatMap(({ truth }) => Object.keys(truth.live)).length).toBeGreaterThan(150);
});

it("finds deleted files again under their own paths, on every kind of file system", () => {
  for (const kind of new Set(volumes.map(({ truth }) => truth.kind))) {
    const found = volumes.flatMap(({ truth, open }) => {
      if (truth.kind !== kind) return [];
      const disk = open();
      const gone = copiesIn(disk).filter(({ state, type, size }) => state === "deleted" && type === "file" && size > 0);
      return truth.deleted.filter(({ path, sha256 }) =>
        gone.some((copy) => copy.path.normalize("NFC") === shown(path) && hashOf(copy.layout, disk) === sha256),
      );
    });
    expect(found.length, kind).toBeGreaterThan(0);
  }
});
