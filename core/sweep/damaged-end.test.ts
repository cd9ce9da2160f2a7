import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { carveImage, type PlacedFile } from "../../tests/support/lab-files";
import { randomBytesOf, sweptFinds } from "../../tests/support/pieces-disk";

/** Truth: files made by general tools, cut off by this test at known clusters; other bytes follow. */
const { bytes, files } = carveImage();
const contentOf = ({ extents }: PlacedFile) => Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
const whole = files.filter(({ state, size }) => state === "contiguous" && size > 12_000 && size < 600_000);

type Behind = "zeros" | "noise" | "ones";
const fill = (behind: Behind, length: number, seed: number) =>
  behind === "noise" ? randomBytesOf(seed, length) : Buffer.alloc(length, behind === "ones" ? 0xff : 0);

/** What is found of a file of which so many bytes are left, with a disk of other bytes behind it, and a text behind that. */
function foundOf(content: Uint8Array, cut: number, cluster: number, behind: Behind, seed: number) {
  const disk = Buffer.concat([
    Buffer.alloc(cluster * 2),
    content.subarray(0, cut),
    fill(behind, 40 * cluster, seed),
    Buffer.alloc(8 * cluster, "The minutes of the last meeting were read.\n"),
    randomBytesOf(seed + 1, 1 << 17),
  ]);
  return sweptFinds(disk, cluster).find(({ at, inside }) => at === cluster * 2 && inside === null);
}

describe("a file that is cut off", () => {
  it.each([
    [["docx", "xlsx", "odt", "ods", "zip", "gz"], 0.7],
    [["pdf"], 0.8],
    [["jpeg", "photo", "png"], 0.9],
    [["doc", "xls", "ppt"], 0.5],
  ] as const)("ends within a cluster of the cut, whatever follows: %s", { tags: "long" }, (kinds, least) => {
    const contents = whole.filter(({ kind }) => (kinds as readonly string[]).includes(kind)).map(contentOf);
    expect(contents.length).toBeGreaterThan(0);
    let [right, all] = [0, 0];
    const wrong: string[] = [];
    contents.forEach((content, index) => {
      for (const [turn, behind] of (["zeros", "noise", "ones"] as const).entries())
        for (const cluster of [index % 2 === 0 ? 1024 : 4096]) {
          const random = seeded(index * 100 + turn * 10 + cluster);
          const cut = cluster * (1 + Math.floor((0.2 + 0.7 * random()) * (content.length / cluster)));
          if (cut >= content.length - cluster) continue;
          const found = foundOf(content, cut, cluster, behind, index + 1);
          if (!found) continue;
          expect(found.extent.verdict.verdict === "sound").toBe(false);
          all += 1;
          if (Math.abs(found.size - cut) <= cluster) right += 1;
          else wrong.push(`${found.format.id} of ${content.length} cut at ${cut} before ${behind}: ${found.size}`);
        }
    });
    expect(all).toBeGreaterThan(5);
    expect(right / all, wrong.join("\n")).toBeGreaterThanOrEqual(least);
  });
});
