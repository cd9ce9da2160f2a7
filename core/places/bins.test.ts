import { strToU8 } from "fflate";
import { beforeAll, describe, expect, it } from "vitest";
import { bytesOf, placedCopies, places, treeOf } from "../../tests/support/placed-files";
import { imageSource, readTruth } from "../../tests/support/volume-truth";
import type { Copy } from "../copies/copy";
import type { FileRecord } from "../filesystems/file-record";
import { inspectDisk, openVolume } from "../volumes/inspect";
import { volumeSerial } from "../volumes/volume-serial";
import { binCopies } from "./bin-copies";
import { volumeTree } from "./file-tree";
import { putBackPlaces, readFolderMetadata } from "./folder-metadata";
import { readBinIndex } from "./windows-bin";

describe("the Windows bin of the lab's volume", () => {
  let copies: Copy[];
  interface Entry {
    i?: string;
    r?: string;
    originalPath?: string;
    originalSize: number;
    deletedTime: string;
    emptied: boolean;
    folder?: boolean;
    children?: string[];
  }
  let bin: Entry[];
  beforeAll(() => {
    const disk = imageSource("ntfs-gpt");
    const truth = readTruth("ntfs-gpt") as unknown as { volume: { partitionOffset: number; recycleBin: Entry[] } };
    bin = truth.volume.recycleBin;
    const report = inspectDisk(disk).volumes.find((volume) => volume.offset === truth.volume.partitionOffset);
    if (!report) throw new Error("no volume");
    copies = placedCopies(volumeTree(openVolume(disk, report), disk, volumeSerial(disk, report.offset, report.filesystem))).filter(
      (copy) => copy.place === "bin",
    );
  });

  it("gives each thing in it its old path and the moment of its deletion, emptied ones included", () => {
    expect(bin.length).toBeGreaterThan(12);
    for (const { i, r, originalPath, originalSize, deletedTime, emptied, folder, children } of bin) {
      if (!originalPath) continue;
      const path = originalPath.startsWith("C:")
        ? originalPath.slice(2).replaceAll("\\", "/")
        : `/D_${originalPath.slice(2).replaceAll("\\", "/")}`;
      for (const each of folder ? (children ?? []).map((child) => `${path}/${child}`) : [path]) {
        const copy = copies.find((one) => one.path.normalize("NFC") === each.normalize("NFC"));
        expect(copy, each).toBeDefined();
        expect(copy?.deletedAt).toBe(Date.parse(deletedTime));
        expect(copy?.state).toBe(emptied ? "deleted" : "live");
        if (!folder) expect(copy?.size).toBe(originalSize);
        expect(copy?.found?.path).toContain(folder ? (r ?? "") : (r ?? i ?? ""));
        expect(copy?.condition).toBe(r ? "whole" : "name-only");
      }
    }
  });

  it("shows a content whose record is gone, and invents nothing", () => {
    const orphan = bin.find((entry) => entry.r && !entry.originalPath);
    expect(copies.some((copy) => copy.path === `/${orphan?.r}` && copy.notes.some((note) => note.includes("record of it is gone")))).toBe(
      true,
    );
    const expected = bin.reduce((sum, entry) => sum + (entry.folder ? (entry.children?.length ?? 0) : 1), 0);
    expect(copies.length).toBe(expected);
  });
});

describe("a folder in the bin whose own record is gone", () => {
  it("is described by the files in it, at any depth, and is no find itself", () => {
    const bin = "/$Recycle.Bin/S-1-5-21-1-2-3-1001/$RM17MDT";
    const record = (path: string, type: "file" | "folder") =>
      ({ path, name: path.slice(path.lastIndexOf("/") + 1), type, state: "live", modified: null, size: 5 }) as FileRecord;
    const records = [
      record(bin, "folder"),
      record(`${bin}/inner`, "folder"),
      record(`${bin}/inner/a.txt`, "file"),
      record(`${bin}/b.txt`, "file"),
    ];
    expect(binCopies(records, () => null).map(({ path }) => path)).toEqual([`${bin}/inner/a.txt`, `${bin}/b.txt`]);
  });
});

describe("the older bin's index", () => {
  /** An index as the layout (from memory, no published source) has it. */
  function index(paths: readonly [path: string, number: number, removed?: boolean][]): Uint8Array {
    const bytes = Buffer.alloc(20 + 800 * paths.length);
    bytes.writeUInt32LE(5, 0);
    bytes.writeUInt32LE(800, 12);
    paths.forEach(([path, number, removed], i) => {
      const at = 20 + 800 * i;
      bytes.write(path, at, "latin1");
      if (removed) bytes[at] = 0;
      bytes.writeUInt32LE(number, at + 260);
      bytes.writeUInt32LE(2, at + 264);
      bytes.writeBigUInt64LE((BigInt(Date.UTC(2004, 4, 5, 6, 7, 8)) + 11_644_473_600_000n) * 10_000n, at + 268);
      bytes.writeUInt32LE(4096, at + 276);
      bytes.write(path, at + 280, "utf16le");
    });
    return new Uint8Array(bytes);
  }

  it("gives the old paths, those of removed ones too", () => {
    const read = readBinIndex(
      index([
        ["C:\\My Documents\\plan.doc", 1],
        ["C:\\old.txt", 2, true],
      ]),
    );
    expect(read.map(({ held, original, deletedAt, size }) => [held, original, deletedAt, size])).toEqual([
      ["Dc1", "C:\\My Documents\\plan.doc", Date.UTC(2004, 4, 5, 6, 7, 8), 4096],
      ["Dc2", "C:\\old.txt", Date.UTC(2004, 4, 5, 6, 7, 8), 4096],
    ]);
  });

  it("gives the contents their old names, the children of a folder too", () => {
    const tree = treeOf([
      {
        path: "/RECYCLER/S-1-5-21-1/INFO2",
        content: index([
          ["C:\\My Documents\\plan.doc", 1],
          ["C:\\Box", 3],
        ]),
      },
      { path: "/RECYCLER/S-1-5-21-1/Dc1.doc", content: strToU8("plan") },
      { path: "/RECYCLER/S-1-5-21-1/Dc3/inside/a.txt", content: strToU8("a") },
      { path: "/RECYCLER/S-1-5-21-1/Dc7.txt", content: strToU8("b") },
    ]);
    expect(placedCopies(tree).map((copy) => copy.path)).toEqual([
      "/My Documents/plan.doc",
      "/Box/inside/a.txt",
      "/RECYCLER/S-1-5-21-1/Dc7.txt",
    ]);
  });
});

describe("the metadata file of a Mac's folder", () => {
  it("gives where the things in a bin came from, as another program wrote it", () => {
    const found = putBackPlaces(readFolderMetadata(bytesOf(places.folderMetadata)));
    expect(found.size).toBe(places.facts.length);
    for (const { name, folder, old } of places.facts) expect(found.get(name)).toEqual({ folder: folder.replace(/\/$/, ""), name: old });
  });

  it("puts what is in the bin back in its place, children of a folder too", () => {
    const tree = treeOf([
      { path: "/Users/maribel/.Trash/.DS_Store", content: bytesOf(places.folderMetadata) },
      { path: "/Users/maribel/.Trash/Thing 03.txt", content: strToU8("three") },
      { path: "/Users/maribel/.Trash/Thing 04.txt/part", content: strToU8("four"), state: "deleted" },
      { path: "/Users/maribel/.Trash/Unknown.txt", content: strToU8("?") },
    ]);
    expect(placedCopies(tree).map((copy) => copy.path)).toEqual([
      "/Users/maribel/Documents/Box 3/Thing of old 3.txt",
      "/Users/maribel/Documents/Box 4/Thing of old 4.txt/part",
      "/Users/maribel/.Trash/Unknown.txt",
    ]);
  });
});
