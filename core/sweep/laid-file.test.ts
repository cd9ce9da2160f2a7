import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { carveImage, type PlacedFile, sha256 } from "../../tests/support/lab-files";
import { diskOfPieces, diskWithFarPiece, FAR_AWAY, sweptFinds } from "../../tests/support/pieces-disk";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { type DiskRun, LayoutSource } from "../bytes/layout";
import { RangeSet } from "../bytes/range-set";
import { formatById } from "../formats/registry";
import { breaksOffAt, LayingError, type LayingRoom, layFile } from "./laid-file";
import { lookLonger } from "./longer-look";
import { rawCopy } from "./raw-copy";

/** Truth: files made by general tools, as the manifest of the image without a file system has them, laid in pieces by this test. */
const { bytes, files } = carveImage();
const contentOf = ({ extents }: PlacedFile) => Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
const CLUSTER = 1024;
const ofKind = (kind: string, least = 10_000) => {
  const found = files.find(
    (file) => file.kind === kind && /^(contiguous|fragmented)/.test(file.state) && file.size > least && file.size < 900_000,
  );
  if (!found) throw new Error(`the image has no ${kind}`);
  return contentOf(found);
};
const formatOf = (id: string) => {
  const format = formatById.get(id);
  if (!format) throw new Error(`${id} is no format`);
  return { format };
};
const roomOf = (disk: Uint8Array): LayingRoom => ({
  disk: new MemorySource(disk),
  grid: { cluster: CLUSTER, origin: 0 },
  limitOf: (at) => (at >= 0 && at < disk.length ? disk.length : at),
});
const inPieces = (file: Uint8Array, seed = 7) => {
  const made = diskOfPieces(file, { seed, cluster: CLUSTER, pieces: 2, around: "noise" });
  if (!made) throw new Error("the file is too short");
  const [first, second] = made.segments as [DiskRun, DiskRun];
  return { ...made, first, second };
};
const bytesOf = (disk: Uint8Array, { layout }: ReturnType<typeof layFile>) =>
  Buffer.from(readBytes(new LayoutSource(new MemorySource(disk), layout), 0, layout.size));

describe("a file whose pieces are laid by hand", () => {
  it("ends where it says it does, and is whole where checksums over all of it agree", () => {
    const file = ofKind("png");
    const { disk, first, second } = inPieces(file);
    const laid = layFile(roomOf(disk), formatOf("png"), [first, { at: second.at, length: 0 }]);
    expect(sha256(bytesOf(disk, laid))).toBe(sha256(file));
    expect(breaksOffAt(laid)).toBeNull();
    expect(laid.find && rawCopy(laid.find, 0, false, "by-hand").condition).toBe("whole");
  });

  it("breaks off near a seam that is a cluster wrong, to either side", () => {
    const { disk, first, second } = inPieces(ofKind("png"), 9);
    for (const by of [-CLUSTER, CLUSTER]) {
      const laid = layFile(roomOf(disk), formatOf("png"), [
        { at: first.at, length: first.length + by },
        { at: second.at + by, length: 0 },
      ]);
      const broke = breaksOffAt(laid);
      expect(broke).not.toBeNull();
      const { find } = laid;
      expect(find && rawCopy(find, 0, false, "by-hand").condition).toBe("partial");
    }
  });

  it("is never called whole where nothing but its looks speaks for the seam: a picture, a film, a document", () => {
    for (const [kind, id] of [
      ["photo", "jpeg"],
      ["pdf", "pdf"],
      ["mp4", "mp4"],
    ] as const) {
      const file = ofKind(kind);
      const { disk, first, second } = inPieces(file);
      const laid = layFile(roomOf(disk), formatOf(id), [first, { at: second.at, length: 0 }]);
      expect(sha256(bytesOf(disk, laid).subarray(0, file.length)), kind).toBe(sha256(file));
      const copy = laid.find && rawCopy(laid.find, 0, false, "by-hand");
      expect(copy?.condition, kind).toBe("not-checked");
      // What a sweep proves by more than that stays whole.
      expect(laid.find && rawCopy(laid.find, 0, false).condition, kind).not.toBe("partial");
    }
  });

  it("has the size its record says, and no more", () => {
    const file = ofKind("png");
    const { disk, first, second } = inPieces(file);
    const from = { name: "a picture.png", size: file.length };
    const laid = layFile(roomOf(disk), from, [first, { at: second.at, length: 0 }]);
    expect(sha256(bytesOf(disk, laid))).toBe(sha256(file));
    expect(laid.finding).toMatchObject({ finding: "agrees", checked: true });
    expect(() =>
      layFile(roomOf(disk), from, [
        { at: first.at, length: file.length },
        { at: second.at, length: 0 },
      ]),
    ).toThrow(LayingError);
    expect(() => layFile(roomOf(disk), from, [first, { at: disk.length - 512, length: 0 }])).toThrow(/beyond the volume/);
  });

  it("is not called whole for a piece behind its own end, which nothing checks", () => {
    const file = ofKind("png");
    const { disk, first, second } = inPieces(Buffer.concat([file, Buffer.alloc(3 * CLUSTER, "x")]), 9);
    const size = file.length + 3 * CLUSTER;
    const from = { name: "a picture.png", size };
    expect(layFile(roomOf(disk), from, [first, { at: second.at, length: 0 }]).finding).toMatchObject({ finding: "agrees", checked: false });
  });

  it.each([
    ["nothing", []],
    [
      "an empty piece before the last",
      [
        { at: 0, length: 0 },
        { at: 4096, length: 0 },
      ],
    ],
    [
      "a piece outside",
      [
        { at: 1 << 30, length: 4096 },
        { at: 4096, length: 0 },
      ],
    ],
    ["a last piece outside", [{ at: 1 << 30, length: 0 }]],
    ["the same stretch twice", "twice"],
    ["more pieces than a person lays", Array.from({ length: 65 }, (_, i) => ({ at: i * 4096, length: 4096 }))],
  ] as const)("refuses %s in words", (_, pieces) => {
    const file = ofKind("png");
    const { disk, first } = inPieces(file);
    const laid = pieces === "twice" ? [first, { at: first.at, length: 0 }] : pieces;
    expect(() => layFile(roomOf(disk), formatOf("png"), laid)).toThrow(LayingError);
  });

  it("takes whatever pieces are asked for: 400 draws end, inside the disk, or are refused", () => {
    const file = ofKind("photo");
    const { disk, first } = inPieces(file);
    const random = seeded(20_261_129);
    const draw = (most: number) => Math.floor(random() * most);
    let laidOut = 0;
    for (let round = 0; round < 400; round += 1) {
      const pieces = Array.from({ length: 1 + draw(5) }, (_, index) => ({
        at: index === 0 && random() < 0.8 ? first.at : draw(disk.length + CLUSTER),
        length: draw(6) * 2048 - (random() < 0.05 ? 4096 : 0),
      }));
      try {
        const { layout, runs } = layFile(
          roomOf(disk),
          random() < 0.5 ? formatOf("jpeg") : { name: "x.jpg", size: draw(file.length) },
          pieces,
        );
        expect(runs.reduce((sum, { length }) => sum + length, 0)).toBe(layout.size);
        for (const { at, length } of runs) expect(at + length).toBeLessThanOrEqual(disk.length);
        laidOut += 1;
      } catch (error) {
        expect(error).toBeInstanceOf(LayingError);
      }
    }
    expect(laidOut).toBeGreaterThan(50);
  });
});

describe("a longer look for pieces", () => {
  const far = (file: Buffer, cut: number) => diskWithFarPiece(file, cut, CLUSTER);
  const lookAt = (disk: Uint8Array, id: string, proven = new RangeSet()) =>
    lookLonger({ ...roomOf(disk), proven, begins: [] }, formatOf(id).format, CLUSTER);

  it.each([
    ["png", "png"],
    ["photo", "jpeg"],
  ])("finds one that lies farther away than a sweep looks: %s", { tags: "long" }, (kind, id) => {
    const file = ofKind(kind);
    const cut = Math.floor(file.length / CLUSTER / 2) * CLUSTER;
    const disk = far(file, cut);
    const swept = sweptFinds(disk, CLUSTER).find(({ at }) => at === CLUSTER);
    expect(swept?.segments).toHaveLength(1);
    const find = lookAt(disk, id);
    expect(find?.segments).toEqual([
      { at: CLUSTER, length: cut },
      { at: FAR_AWAY, length: file.length - cut },
    ]);
  });

  it("takes nothing of a file that is proven, and says when nothing is missing", { tags: "long" }, () => {
    const file = ofKind("png");
    const cut = Math.floor(file.length / CLUSTER / 2) * CLUSTER;
    const taken = lookAt(far(file, cut), "png", RangeSet.from([{ start: FAR_AWAY, end: FAR_AWAY + file.length }]));
    expect(taken).toBeNull();
    expect(() => lookAt(far(file, file.length), "png")).toThrow(/sound in one piece/);
  });
});
