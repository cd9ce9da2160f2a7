import { describe, expect, it } from "vitest";
import { carveImage, type PlacedFile } from "../../../tests/support/lab-files";
import { randomBytesOf, sweptFinds } from "../../../tests/support/pieces-disk";
import { isProven } from "../find";

/** Truth: files made by general tools, as the manifest of the image without a file system has them, laid out by this test. */
const { bytes, files } = carveImage();
const contentOf = ({ extents }: PlacedFile) => Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
const ofKind = (kind: string, least = 6000): Buffer[] =>
  files.filter((file) => file.kind === kind && /^(contiguous|fragmented)/.test(file.state) && file.size > least).map(contentOf);
const one = (kind: string, least?: number): Buffer => {
  const [first] = ofKind(kind, least);
  if (!first) throw new Error(`no ${kind} in the image`);
  return first;
};
const CLUSTER = 1024;
const roundUp = (at: number) => Math.ceil(at / CLUSTER) * CLUSTER;

/** A disk with these parts, each at its place, and noise around them. */
function diskOf(length: number, parts: readonly (readonly [at: number, part: Uint8Array])[]): Buffer {
  const disk = Buffer.from(randomBytesOf(7, length));
  for (const [at, part] of parts) disk.set(part, at);
  return disk;
}

describe("the beginning of a file whose rest is not found", () => {
  const archive = one("odt", 12_000);
  const head = archive.subarray(0, 4 * CLUSTER);

  it.each(["mp4", "webp", "bmp", "wav"])(
    "is found where it stands in the reach of one that nothing proves: %s",
    { tags: "long" },
    (kind) => {
      const parent = one(kind, 4 * CLUSTER);
      // The parent's second half lies elsewhere; where it should be, the archive begins.
      const cut = roundUp(parent.length / 2);
      const disk = diskOf(roundUp(parent.length) + 64 * CLUSTER, [
        [CLUSTER, parent.subarray(0, cut)],
        [CLUSTER + cut, head],
      ]);
      const found = sweptFinds(disk, CLUSTER).filter(({ at, inside }) => at === CLUSTER + cut && inside === null);
      expect(found.map(({ format }) => format.id)).toEqual([expect.stringMatching(/zip|odt/)]);
    },
  );

  it("is found behind a document whose damage shows late, and an old office file too", { tags: "long" }, () => {
    const document = one("pdf", 20_000);
    const cut = roundUp(document.length / 2);
    const old = one("doc", 20_000).subarray(0, 6 * CLUSTER);
    // The end of another one lies far behind it: up to there the document might reach.
    const disk = diskOf(400 * CLUSTER, [
      [CLUSTER, document.subarray(0, cut)],
      [CLUSTER + cut + 2 * CLUSTER, head],
      [CLUSTER + cut + 40 * CLUSTER, old],
      [CLUSTER + cut + 80 * CLUSTER, document.subarray(document.length - 600)],
    ]);
    const at = sweptFinds(disk, CLUSTER).map((find) => find.at);
    expect(at).toContain(CLUSTER + cut + 2 * CLUSTER);
    expect(at).toContain(CLUSTER + cut + 40 * CLUSTER);
  });

  it("is not made of what an archive holds", () => {
    // An archive in an archive, stored, both damaged: the inner one is no file of the client's drive.
    const outer = Buffer.concat([head, archive.subarray(0, 3 * CLUSTER)]);
    const disk = diskOf(64 * CLUSTER, [[CLUSTER, outer]]);
    const apart = sweptFinds(disk, CLUSTER).filter(
      ({ at, inside, extent }) => at > CLUSTER && at < CLUSTER + head.length && inside === null && extent.closed,
    );
    expect(apart).toEqual([]);
  });
});

it("a whole file that begins in the last bytes of a damaged one is found, wherever clusters begin", () => {
  const document = one("pdf", 20_000);
  const archive = one("odt");
  const at = CLUSTER + roundUp(document.length / 2) - 512;
  const disk = diskOf(roundUp(at + archive.length) + 32 * CLUSTER, [
    [CLUSTER, document.subarray(0, at - CLUSTER)],
    [at, archive],
  ]);
  const [found] = sweptFinds(disk, CLUSTER).filter((find) => find.at === at);
  expect(found && isProven(found)).toBe(true);
});

it("what is put together without proof does not swallow a file that begins where its pieces were laid", { tags: "long" }, () => {
  const film = one("mp4", 16 * CLUSTER);
  const cut = 4 * CLUSTER;
  const far = CLUSTER + cut + 20 * CLUSTER;
  // In the middle of the second piece, whose bytes nothing checks, a picture was written over it and broke off.
  const over = far + roundUp((film.length - cut) / 2);
  const picture = one("jpeg", 3 * CLUSTER).subarray(0, 2 * CLUSTER);
  const disk = diskOf(far + film.length + 64 * CLUSTER, [
    [CLUSTER, film.subarray(0, cut)],
    [far, film.subarray(cut)],
    [over, picture],
  ]);
  const finds = sweptFinds(disk, CLUSTER);
  expect(finds.some(({ at, format, inside }) => at === over && format.id === "jpeg" && inside === null)).toBe(true);
  expect(finds.filter(isProven).map(({ at }) => at)).not.toContain(CLUSTER);
});

/** The checksum of an Ogg page (RFC 3533, section 6): polynomial 0x04c11db7, begun with 0, its own field counted as 0. */
function pageChecksum(page: Uint8Array): number {
  let crc = 0;
  page.forEach((byte, index) => {
    crc ^= (index >= 22 && index < 26 ? 0 : byte) << 24;
    for (let bit = 0; bit < 8; bit += 1) crc = (crc & 0x80000000 ? (crc << 1) ^ 0x04c11db7 : crc << 1) | 0;
  });
  return crc >>> 0;
}

describe("a recording in Ogg pages", () => {
  const recording = one("ogg", 5 * CLUSTER);
  const firstPage = 27 + (recording[26] as number) + (recording[27] as number);

  it("is whole where a checksum of its own sound stands across the seam", () => {
    expect(pageChecksum(recording.subarray(0, firstPage))).toBe(recording.readUInt32LE(22));
    const cut = roundUp(recording.length - 2 * CLUSTER);
    const disk = diskOf(recording.length + 64 * CLUSTER, [
      [CLUSTER, recording.subarray(0, cut)],
      [CLUSTER + cut + 5 * CLUSTER, recording.subarray(cut)],
    ]);
    const [found] = sweptFinds(disk, CLUSTER).filter(({ at }) => at === CLUSTER);
    expect(found?.segments.length).toBe(2);
    expect(found && isProven(found)).toBe(true);
  });

  it("is not called whole where its beginning may be that of another: the headers of one program are alike", () => {
    // Another recording of the same program, whose first page says another rate; of this one the first cluster is left, of that one all but it.
    const other = Buffer.from(recording);
    other.writeUInt32LE(other.readUInt32LE(40) + 1, 40);
    other.writeUInt32LE(pageChecksum(other.subarray(0, firstPage)), 22);
    const disk = diskOf(recording.length + 64 * CLUSTER, [
      [CLUSTER, other.subarray(0, CLUSTER)],
      [8 * CLUSTER, recording.subarray(CLUSTER)],
    ]);
    const [found] = sweptFinds(disk, CLUSTER).filter(({ at }) => at === CLUSTER);
    expect(found && isProven(found)).toBe(false);
  });
});
