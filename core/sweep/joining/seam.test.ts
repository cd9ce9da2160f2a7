import { describe, expect, it } from "vitest";
import { seeded } from "../../../demo/draw";
import { randomBytesOf } from "../../../tests/support/pieces-disk";
import { MemorySource } from "../../bytes/byte-source";
import { USUAL } from "./effort";
import { Allowance, type PieceRoom, Pieces } from "./pieces";
import { likeliestSeam } from "./seam";

/** Truth: the place at which this test cut what it laid on the disk. */
const CLUSTER = 1024;

const words = (list: string, length: number, seed: number): Buffer => {
  const random = seeded(seed);
  const from = list.split(" ");
  let text = "";
  while (text.length < length) text += `${from[Math.floor(random() * from.length)]} `;
  return Buffer.from(text.slice(0, length), "latin1");
};
const letters = (length: number, seed: number) => words("orbit nebula dome mirror minutes meeting observatory Tamsin", length, seed);
const foreignLetters = (length: number, seed: number) => words("0042 1997 <td> </td> 3.14 #ff00ff; 66 {} []", length, seed);
/** Rows of numbers that change little, as tables have them. */
const numbers = (length: number, seed: number): Buffer => {
  const random = seeded(seed);
  const bytes = Buffer.alloc(length);
  for (let at = 0; at + 8 <= length; at += 8) {
    bytes.writeUInt32LE(40_000 + Math.floor(random() * 900), at);
    bytes.writeUInt16LE(at / 8, at + 4);
  }
  return bytes;
};
const packed = (length: number, seed: number) => randomBytesOf(seed + 7, length);
const zeros = (length: number) => Buffer.alloc(length);

/** A picture that is not packed: rows of points of three bytes, whose colours change slowly in both directions, with some noise. */
const picture =
  (row: number) =>
  (length: number, seed: number): Buffer => {
    const random = seeded(seed);
    const [wide, high, turn] = [20 + random() * 60, 8 + random() * 20, random() * 6];
    return Buffer.from(
      Array.from({ length }, (_, at) => {
        const [x, y] = [(at % row) / 3, Math.floor(at / row)];
        return 128 + 90 * Math.sin(x / wide + turn + (at % 3)) * Math.cos(y / high) + random() * 8;
      }),
    );
  };

/** A file in two pieces with something between them, and at which of all places it is taken for cut. */
function seamOf(own: (length: number, seed: number) => Buffer, foreign: (length: number, seed: number) => Buffer, seed: number) {
  const random = seeded(seed);
  const size = 60 * CLUSTER;
  const cut = (12 + Math.floor(random() * 36)) * CLUSTER;
  const gap = (1 + Math.floor(random() * 30)) * CLUSTER;
  const file = own(size, seed);
  const disk = Buffer.concat([file.subarray(0, cut), foreign(gap, seed + 1), file.subarray(cut), foreign(80 * CLUSTER, seed + 2)]);
  const room: PieceRoom = {
    disk: new Allowance(new MemorySource(disk), 2 ** 40),
    effort: USUAL,
    cluster: CLUSTER,
    origin: 0,
    limitOf: () => disk.length,
    freeFrom: (_, length) => length,
    beginsIn: () => false,
  };
  const passes = Array.from({ length: 41 }, (_, i) => (10 + i) * CLUSTER);
  return { cut, found: likeliestSeam(Pieces.beginningAt(room, 0), gap, passes, size) };
}

describe("of several places for a seam the likeliest", () => {
  it.each([
    ["letters around other letters", letters, foreignLetters, 0.9],
    ["letters around packed data", letters, packed, 0.9],
    ["letters around zeros", letters, zeros, 0.8],
    ["rows of numbers around letters", numbers, letters, 0.9],
    ["packed data around zeros", packed, zeros, 0.8],
    ["packed data around letters", packed, letters, 0.9],
  ] as const)("is the true one: %s", { tags: "long" }, (_, own, foreign, least) => {
    let right = 0;
    for (let seed = 1; seed <= 40; seed += 1) {
      const { cut, found } = seamOf(own, foreign, seed);
      if (found === cut) right += 1;
    }
    expect(right / 40).toBeGreaterThanOrEqual(least);
  });

  it.each([
    ["packed data", packed, 0.7],
    ["zeros", zeros, 0.9],
    ["letters", letters, 0.9],
    ["a picture with other rows", picture(1011), 0.6],
    ["another picture with the same rows", picture(768), 0.9],
  ] as const)("is found by the rows of a picture that is not packed, around %s", { tags: "long" }, (_, foreign, least) => {
    let right = 0;
    for (let seed = 1; seed <= 40; seed += 1) {
      const { cut, found } = seamOf(picture(768), foreign, seed);
      if (found === cut) right += 1;
    }
    expect(right / 40).toBeGreaterThanOrEqual(least);
  });

  it("is the last one where nothing tells", () => {
    for (let seed = 1; seed <= 8; seed += 1) expect(seamOf(zeros, zeros, seed).found).toBe(50 * CLUSTER);
  });
});
