import { describe, expect, it } from "vitest";
import { carveImage, type PlacedFile } from "../../../tests/support/lab-files";
import { randomBytesOf } from "../../../tests/support/pieces-disk";
import { MemorySource } from "../../bytes/byte-source";
import { followJpeg } from "./jpeg";
import { PROGRESSIVE } from "./markers";
import type { OpenScan } from "./open-scan";
import { BEYOND, ScanReader, type ScanState } from "./scan";

/** Truth: pictures made by general tools, as the manifest of the image without a file system has them. */
const { bytes, files } = carveImage();
const contentOf = ({ extents }: PlacedFile) => Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
const pictures = files
  .filter(({ kind, state, size }) => (kind === "jpeg" || kind === "photo") && /^(contiguous|fragmented)/.test(state) && size > 5_000)
  .map(contentOf);
const isProgressive = (content: Buffer) => followJpeg(new MemorySource(content)).frame?.marker === PROGRESSIVE;
const progressive = pictures.filter(isProgressive);

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

describe("a scan that goes on with data of another picture", () => {
  /** Bytes that are decoded behind a place before the data are refused. */
  const decoded = (source: Buffer, { frame, scan }: OpenScan, state: ScanState, beyond: number) => {
    const end = new ScanReader(new MemorySource(source), frame, scan, state, 1024, beyond).run();
    return end.at - state.at;
  };

  it("is noticed by brightness that samples cannot give (ITU-T T.81, A.3.3), and its own data never are", () => {
    let [strict, lenient, own] = [0, 0, 0];
    const sequential = pictures.filter((content) => !isProgressive(content));
    for (const content of sequential)
      for (let part = 3; part < 12; part += 1) {
        const cut = Math.floor((content.length * part) / 13);
        const { open } = followJpeg(new MemorySource(brokenAt(content, cut, part)), true);
        const state = open?.states.findLast(({ at }) => at + 4 <= cut);
        if (!open || !state || open.scan.restart > 0) continue;
        const kept = open.goOn(new MemorySource(content), state);
        expect(kept.ended, `cut at ${cut}`).toBe(true);
        own += 1;
        // Data of other pictures, coded by the same tables more often than not.
        for (const other of sequential) {
          if (other === content) continue;
          const mixed = Buffer.concat([content.subarray(0, cut), other.subarray(Math.floor(other.length / 2))]);
          const [first, second] = [decoded(mixed, open, state, BEYOND.try), decoded(mixed, open, state, BEYOND.follow)];
          expect(first).toBeLessThanOrEqual(second);
          strict += first;
          lenient += second;
        }
      }
    expect(own).toBeGreaterThan(20);
    expect(strict).toBeLessThan(0.9 * lenient);
  });
});
