import { describe, expect, it } from "vitest";
import { carveImage, type PlacedFile } from "../../../tests/support/lab-files";
import { randomBytesOf } from "../../../tests/support/pieces-disk";
import { MemorySource } from "../../bytes/byte-source";
import { followJpeg } from "./jpeg";
import { PROGRESSIVE } from "./markers";

/** Truth: pictures made by general tools, as the manifest of the image without a file system has them. */
const { bytes, files } = carveImage();
const contentOf = ({ extents }: PlacedFile) => Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
const progressive = files
  .filter(({ kind, state, size }) => (kind === "jpeg" || kind === "photo") && state === "contiguous" && size > 5_000)
  .map(contentOf)
  .filter((content) => followJpeg(new MemorySource(content)).frame?.marker === PROGRESSIVE);

/** The picture with foreign bytes from a place on. */
function brokenAt(content: Buffer, at: number, seed: number): Buffer {
  const broken = Buffer.from(content);
  randomBytesOf(seed, Math.min(8192, content.length - at)).copy(broken, at);
  return broken;
}

describe("a progressive scan that is taken up again", () => {
  it("goes on with the right bytes as if it had never broken off, whatever was tried before", () => {
    expect(progressive.length).toBeGreaterThan(0);
    let tried = 0;
    for (const content of progressive.slice(0, 4))
      for (let part = 2; part < 12; part += 1) {
        const cut = Math.floor((content.length * part) / 13);
        const { open } = followJpeg(new MemorySource(brokenAt(content, cut, part)), true);
        const state = open?.states.findLast(({ at }) => at + 4 <= cut);
        if (!open || !state) continue;
        const right = new MemorySource(content);
        const expected = open.goOn(right, state);
        expect(expected.ended, `cut at ${cut}`).toBe(true);
        // Others leave no trace of what they seemed to know, wherever they were taken up.
        for (const other of open.states.slice(-6)) open.goOn(new MemorySource(brokenAt(content, other.at + 8, 90 + part)), other);
        open.goOn(new MemorySource(brokenAt(content, state.at + 200, 50)), open.states[0] as typeof state);
        expect(open.goOn(right, state)).toEqual(expected);
        tried += 1;
      }
    expect(tried).toBeGreaterThan(8);
  });
});
