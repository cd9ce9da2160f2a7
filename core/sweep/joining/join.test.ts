import { crc32 } from "node:zlib";
import { describe, expect, it } from "vitest";
import { carveImage, type PlacedFile, sha256 } from "../../../tests/support/lab-files";
import { diskOfPieces, type PiecesOptions, randomBytesOf, sweptFinds } from "../../../tests/support/pieces-disk";
import { fixture } from "../../../tests/support/volume-truth";
import { type Find, isProven, isWhole } from "../find";

/** Truth: files made by general tools, as the manifest of the image without a file system has them, cut by this test at known clusters. */
const { bytes, files } = carveImage();
const contentOf = ({ extents }: PlacedFile) => Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
/** Pictures of that coding are not followed. */
const ARITHMETIC = /arithmetic/;
const whole = files.filter(
  ({ state, size, path }) => (state === "contiguous" || state.startsWith("fragmented")) && size > 3000 && !ARITHMETIC.test(path),
);
const ofKind = (...kinds: string[]) => whole.filter(({ kind, size }) => kinds.includes(kind) && size < 600_000).map(contentOf);

const laid = (disk: Uint8Array, { segments }: Find) => Buffer.concat(segments.map(({ at, length }) => disk.subarray(at, at + length)));

interface Tally {
  exact: number;
  /** Exact, and called whole. */
  whole: number;
  all: number;
  /** Called whole, and other bytes than the file's. */
  untrue: string[];
}

function tally(contents: readonly Buffer[], options: readonly Omit<PiecesOptions, "seed">[]): Tally {
  const sum: Tally = { exact: 0, whole: 0, all: 0, untrue: [] };
  contents.forEach((content, index) => {
    options.forEach((option, turn) => {
      const made = diskOfPieces(content, { ...option, seed: 1000 + index * 31 + turn });
      if (!made) return;
      sum.all += 1;
      const at = made.segments[0]?.at;
      const found = sweptFinds(made.disk, option.cluster).find((find) => find.at === at && find.inside === null);
      if (!found) return;
      if (sha256(laid(made.disk, found)) === sha256(content)) {
        sum.exact += 1;
        if (isProven(found)) sum.whole += 1;
      } else if (isProven(found))
        sum.untrue.push(`${found.format.id} ${JSON.stringify(found.segments)} of ${JSON.stringify(made.segments)}`);
    });
  });
  return sum;
}

const two = (cluster: number, around: PiecesOptions["around"], shuffled = false) => ({ cluster, around, shuffled, pieces: 2 as const });
const three = (cluster: number, around: PiecesOptions["around"], shuffled = false) => ({ cluster, around, shuffled, pieces: 3 as const });

describe("a file in two pieces", () => {
  it.each([
    ["PNG, by its chunks and their checksums", ["png"], 0.9, true],
    ["archives and office files, by their lists of contents", ["zip", "docx", "xlsx", "odt", "ods"], 0.9, true],
    ["documents, by their tables of objects", ["pdf"], 0.9, false],
    ["rich text, by its braces, but not among letters", ["rtf"], 0.3, false],
    ["databases, by their pages", ["sqlite"], 0.6, false],
    ["pictures, by their coded data", ["jpeg", "photo"], 0.9, true],
  ] as const)("is put together, wherever it was cut and whatever lies around: %s", { tags: "long" }, (_, kinds, least, proves) => {
    const contents = ofKind(...kinds).slice(0, 6);
    expect(contents.length).toBeGreaterThan(0);
    const { exact, whole: called, all, untrue } = tally(contents, [two(4096, "noise"), two(1024, "text"), two(2048, "zeros", true)]);
    expect(all).toBeGreaterThan(2);
    expect(exact / all).toBeGreaterThanOrEqual(least);
    // Whole is said only where a checksum or coded data prove the seam.
    if (proves) expect(called / all).toBeGreaterThan(0.5);
    else expect(called).toBe(0);
    expect(untrue).toEqual([]);
  });

  it("is never called whole where nothing proves that the right bytes stand behind the seam", { tags: "long" }, () => {
    const contents = whole.filter(({ size }) => size < 120_000).map(contentOf);
    const other = ofKind("jpeg", "photo")[0] as Buffer;
    const { all, untrue } = tally(contents.slice(0, 30), [two(2048, other.subarray(5000))]);
    expect(all).toBeGreaterThan(20);
    expect(untrue).toEqual([]);
  });

  it("is never called whole with the zeros of a gap in it: they decode for as long as they go on", { tags: "long" }, () => {
    const pictures = ofKind("jpeg", "photo").filter(({ length }) => length > 8000);
    const turns = Array.from({ length: 12 }, () => two(512, "zeros"));
    const { exact, all, untrue } = tally(pictures, turns);
    expect(all).toBeGreaterThan(80);
    expect(exact / all).toBeGreaterThan(0.85);
    expect(untrue).toEqual([]);
  });

  it("is never called whole where it was cut inside what nothing checks: a picture's application data", () => {
    const picture = ofKind("jpeg", "photo")[0] as Buffer;
    const segment = Buffer.concat([Buffer.from([0xff, 0xe9, 0x60, 0x02]), randomBytesOf(5, 0x6000)]);
    const long = Buffer.concat([picture.subarray(0, 2), segment, picture.subarray(2)]);
    const { exact, all, untrue } = tally(
      Array.from({ length: 12 }, () => long),
      [two(1024, "noise"), two(1024, "text", true)],
    );
    expect(all).toBe(24);
    expect(exact).toBeGreaterThan(2);
    expect(untrue).toEqual([]);
  }, 120_000);
});

it("a picture that breaks in its application data goes on where its next part begins, whatever those data look like", {
  tags: "long",
}, () => {
  const picture = ofKind("jpeg", "photo")[0] as Buffer;
  // Entries of a camera, each with room behind it, as much of it filled with zeros as in many of them.
  const entries = Array.from({ length: 270 }, (_, i) =>
    Buffer.concat([Buffer.from(`\xffLens profile ${i * 37}; focus`, "latin1"), Buffer.alloc(230 - (i % 5) * 30)]),
  );
  const data = Buffer.concat(entries);
  const segment = Buffer.concat([Buffer.from([0xff, 0xe9, (data.length + 2) >> 8, (data.length + 2) & 255]), data]);
  // Behind the part that says what it is.
  const first = 4 + picture.readUInt16BE(4);
  const long = Buffer.concat([picture.subarray(0, first), segment, picture.subarray(first)]);
  const [between] = ofKind("png", "docx", "odt", "xlsx").sort((a, b) => a.length - b.length) as [Buffer];
  let [exact, all] = [0, 0];
  for (let seed = 1; seed <= 12; seed += 1) {
    const cluster = 1024;
    const cut = cluster * (20 + 2 * seed);
    // In the gap lies a whole file, so that no other place for the seam is as good.
    const gap = Buffer.alloc(cluster * Math.ceil(between.length / cluster), randomBytesOf(seed, 64));
    between.copy(gap);
    const disk = Buffer.concat([
      randomBytesOf(seed + 1, 4 * cluster),
      long.subarray(0, cut),
      gap,
      long.subarray(cut),
      randomBytesOf(seed + 2, 64 * cluster),
    ]);
    const found = sweptFinds(disk, cluster).find(({ at, inside }) => at === 4 * cluster && inside === null);
    all += 1;
    if (!found || sha256(laid(disk, found)) !== sha256(long)) continue;
    exact += 1;
    expect(isWhole(found)).toBe(false);
  }
  expect(exact / all).toBeGreaterThanOrEqual(0.75);
});

describe("what nothing checks", () => {
  it("keeps a picture of several passes from being called whole, wherever it was cut", { tags: "long" }, () => {
    const contents = files.filter(({ path }) => /progressive/.test(path)).map(contentOf);
    expect(contents.length).toBeGreaterThan(0);
    const many = Array.from({ length: 8 }, () => contents[0] as Buffer);
    const { exact, whole: called, untrue } = tally(many, [two(1024, "noise"), two(512, "text", true)]);
    expect(exact).toBeGreaterThan(8);
    expect(called).toBe(0);
    expect(untrue).toEqual([]);
  });

  it("is counted in a sound's tags and a picture's application data: with much of it neither is called whole", () => {
    const cluster = 4096;
    const more = JSON.parse(fixture("more-files.json.gz").toString()) as { files: { name: string; content: string }[] };
    const flac = Buffer.from(more.files.find(({ name }) => name === "still.flac")?.content ?? "", "base64");
    const [picture] = ofKind("jpeg", "photo");
    if (!picture) throw new Error("no picture");
    const block = Buffer.concat([Buffer.from([2, 0, 0x30, 0]), randomBytesOf(7, 0x3000)]);
    const segment = Buffer.concat([Buffer.from([0xff, 0xe9, 0x30, 0x02]), randomBytesOf(8, 0x3000)]);
    const long = [
      Buffer.concat([flac.subarray(0, 42), block, flac.subarray(42)]),
      Buffer.concat([picture.subarray(0, 2), segment, picture.subarray(2)]),
    ];
    for (const [file, whole] of [
      [flac, true],
      [picture, true],
      [long[0] as Buffer, false],
      [long[1] as Buffer, false],
    ] as const) {
      const disk = Buffer.alloc(Math.ceil(file.length / cluster) * cluster + 4 * cluster);
      disk.set(file, cluster);
      const found = sweptFinds(disk, cluster).find(({ at }) => at === cluster);
      expect(found?.size).toBe(file.length);
      expect(found && isWhole(found)).toBe(whole);
    }
  });
});

describe("a file in three pieces", () => {
  it.each([
    [
      "archives and office files, by their lists of contents and the checksums of their members",
      ["zip", "docx", "xlsx", "odt", "ods"],
      0.7,
    ],
    ["PNG, by the checksums of its chunks", ["png"], 0.7],
    ["documents, by their tables of objects", ["pdf"], 0.4],
  ] as const)(
    "is put together, wherever it was cut and in any order, and nothing else is called whole: %s",
    { tags: "long" },
    (_, kinds, least) => {
      const contents = ofKind(...kinds).slice(0, 6);
      expect(contents.length).toBeGreaterThan(0);
      const { exact, all, untrue } = tally(contents, [three(1024, "noise"), three(2048, "text", true), three(512, "noise", true)]);
      expect(all).toBeGreaterThan(2);
      expect(exact / all).toBeGreaterThanOrEqual(least);
      expect(untrue).toEqual([]);
    },
  );

  it("is put together with a whole piece inside one stored member, and called whole only where chance cannot have done it", () => {
    // Stored (APPNOTE, 4.4.5), as the package archiver writes it without compression.
    const member = randomBytesOf(31, 90_000);
    const archive = storedZip("picture.raw", member);
    const {
      exact,
      whole: called,
      all,
      untrue,
    } = tally(
      Array.from({ length: 6 }, () => archive),
      [three(1024, "noise"), three(4096, "text", true)],
    );
    expect(all).toBe(12);
    expect(exact).toBe(12);
    expect(untrue).toEqual([]);
    // With some 90 clusters in the member and as many around, millions of ways are compared with 32 bits.
    expect(called).toBeLessThan(7);
  });

  it("is never called whole where it was cut in a header whose bytes nothing checks", () => {
    const archive = storedZip("picture.raw", randomBytesOf(33, 20_000), randomBytesOf(34, 9000));
    const { exact, all, untrue } = tally(
      Array.from({ length: 10 }, () => archive),
      [two(512, "noise"), two(1024, "text", true)],
    );
    expect(all).toBe(20);
    expect(exact).toBeGreaterThan(4);
    expect(untrue).toEqual([]);
  }, 120_000);
});

/** The first bytes of a member whose length comes behind its data (APPNOTE, 4.3.9), in an archive that goes on elsewhere. */
function streamedZip(name: string, content: Uint8Array): Buffer {
  const whole = storedZip(name, content);
  const streamed = Buffer.from(whole);
  for (const header of [whole.indexOf("PK\x03\x04") + 6, whole.indexOf("PK\x01\x02") + 8]) streamed.writeUInt16LE(8, header);
  streamed.fill(0, 14, 26);
  const descriptor = Buffer.alloc(16);
  descriptor.write("PK\x07\x08", 0, "latin1");
  descriptor.writeUInt32LE(crc32(content), 4);
  descriptor.writeUInt32LE(content.length, 8);
  descriptor.writeUInt32LE(content.length, 12);
  const list = whole.indexOf("PK\x01\x02");
  const joined = Buffer.concat([streamed.subarray(0, list), descriptor, streamed.subarray(list)]);
  joined.writeUInt32LE(list + descriptor.length, joined.length - 6);
  return joined;
}

/** A TAR archive of some files (POSIX.1-2017, pax, "ustar Interchange Format"). */
function tarOf(contents: readonly Uint8Array[]): Buffer {
  const parts = contents.flatMap((content, index) => {
    const header = Buffer.alloc(512);
    header.write(`notes/${index}.bin`, 0);
    header.write("0000644\x000000000\x000000000\0", 100);
    header.write(`${content.length.toString(8).padStart(11, "0")}\x0015000000000\0        0`, 124);
    header.write("ustar\x0000", 257);
    let sum = 0;
    for (const byte of header) sum += byte;
    header.write(`${sum.toString(8).padStart(6, "0")}\0 `, 148);
    return [header, content, Buffer.alloc((512 - (content.length % 512)) % 512)];
  });
  const all = Buffer.concat([...parts, Buffer.alloc(1024)]);
  return Buffer.concat([all, Buffer.alloc((10_240 - (all.length % 10_240)) % 10_240)]);
}

describe("an archive whose beginning says little", () => {
  it("is put together where the length of its first member stands behind it", () => {
    const archives = Array.from({ length: 6 }, (_, i) => streamedZip(`part ${i}.raw`, randomBytesOf(40 + i, 15_000 + i * 700)));
    const { exact, all, untrue } = tally(archives, [two(1024, "noise"), two(2048, "text", true)]);
    expect(all).toBe(12);
    expect(exact).toBeGreaterThan(9);
    expect(untrue).toEqual([]);
  }, 120_000);

  it("is put together by the headers of its members, and never called whole", { tags: "long" }, () => {
    const archives = Array.from({ length: 6 }, (_, i) =>
      tarOf(
        Array.from({ length: 8 }, (_, j) => Buffer.alloc(2500 + j * 1800 + i * 300, `${i} ${j} letters of the members, and minutes. `)),
      ),
    );
    const { exact, whole: called, all, untrue } = tally(archives, [two(1024, "noise"), two(2048, "noise", true)]);
    expect(all).toBe(12);
    expect(exact).toBeGreaterThan(7);
    expect(called).toBe(0);
    expect(untrue).toEqual([]);
  });
});

/** An archive of one member that is not packed, perhaps with more in its local header (APPNOTE, 4.3.7, 4.3.12 and 4.3.16). */
function storedZip(name: string, content: Uint8Array, extra: Uint8Array = new Uint8Array()): Buffer {
  const head = Buffer.alloc(26);
  head.writeUInt16LE(20, 0);
  head.writeUInt32LE(crc32(content), 10);
  head.writeUInt32LE(content.length, 14);
  head.writeUInt32LE(content.length, 18);
  head.writeUInt16LE(name.length, 22);
  const own = Buffer.from(head);
  own.writeUInt16LE(extra.length, 24);
  const local = Buffer.concat([Buffer.from("PK\x03\x04"), own, Buffer.from(name), extra, content]);
  const central = Buffer.concat([Buffer.from("PK\x01\x02\x14\x00", "latin1"), head, Buffer.alloc(14), Buffer.from(name)]);
  const end = Buffer.alloc(22);
  end.write("PK\x05\x06", 0, "latin1");
  end.writeUInt16LE(1, 8);
  end.writeUInt16LE(1, 10);
  end.writeUInt32LE(central.length, 12);
  end.writeUInt32LE(local.length, 16);
  return Buffer.concat([local, central, end]);
}

describe("what is damaged", () => {
  it("ends in the cluster in which that shows, and leaves what begins behind it to itself", () => {
    const [png, jpeg] = [ofKind("png")[0], ofKind("jpeg", "photo")[0]] as [Buffer, Buffer];
    const cluster = 4096;
    const disk = Buffer.alloc(64 * cluster, "All is well that ends well.\n");
    disk.set(png.subarray(0, cluster), cluster);
    disk.set(jpeg, 2 * cluster);
    const found = sweptFinds(disk, cluster);
    const cut = found.find(({ at }) => at === cluster);
    expect(cut?.extent.verdict.verdict).toBe("damaged");
    expect(cut?.size).toBeLessThanOrEqual(2 * cluster);
    const behind = found.find(({ at }) => at === 2 * cluster);
    expect(behind && isProven(behind)).toBe(true);
    expect(behind?.inside).toBeNull();
  });
});
