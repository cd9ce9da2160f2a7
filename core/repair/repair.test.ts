import { getDocument } from "pdfjs-dist/legacy/build/pdf.mjs";
import sharp from "sharp";
import initSqlite from "sql.js";
import { describe, expect, it } from "vitest";
import yauzl from "yauzl";
import { allBytes, carveImage, labFiles, sha256 } from "../../tests/support/lab-files";
import { MemorySource } from "../bytes/byte-source";
import { type RepairedFile, repair } from "./repair";

const lab = labFiles();
const source = (path: string) => new MemorySource(lab.bytes(path));
const repaired = (path: string, like?: string): RepairedFile => {
  const found = repair(source(path), path, like ? source(like) : null);
  if (!found) throw new Error(`${path} was not repaired`);
  return found;
};
const bytesOf = (file: RepairedFile) => Buffer.from(allBytes(file.content));

/** Every member of an archive by an independent reader, checksums compared. */
function members(bytes: Buffer): Promise<Map<string, Buffer>> {
  return new Promise((done, fail) => {
    const found = new Map<string, Buffer>();
    yauzl.fromBuffer(bytes, { lazyEntries: true }, (error, zip) => {
      if (error) return fail(error);
      zip.on("error", fail);
      zip.on("end", () => done(found));
      zip.on("entry", (entry: yauzl.Entry) =>
        zip.openReadStream(entry, (failed, stream) => {
          if (failed) return fail(failed);
          const pieces: Buffer[] = [];
          stream.on("error", fail);
          stream.on("data", (piece: Buffer) => pieces.push(piece));
          stream.on("end", () => {
            found.set(entry.fileName, Buffer.concat(pieces));
            zip.readEntry();
          });
        }),
      );
      zip.readEntry();
    });
  });
}

const archives = lab.entries.filter(({ state, path }) => state === "damaged" && /\.(zip|docx|xlsx|odt)$/.test(path));

/** Truth: damaged files with their originals and the hashes of their members, made by script and general tools. */
describe("archives", () => {
  it.each(archives)("$path: every sound member is saved ($note)", async ({ path, members: truth = [], note }) => {
    const file = repaired(path);
    expect(file.after).toEqual({ verdict: "sound" });
    const saved = await members(bytesOf(file));
    const damaged = /the data of the member "([^"]+)"/.exec(note)?.[1];
    for (const { name, sha256: hash, whole = true } of truth) {
      if (!whole || name === damaged || name.endsWith("/")) continue;
      expect(sha256(saved.get(name) ?? Buffer.alloc(0)), name).toBe(hash);
    }
    if (damaged) expect(file.done.join(" ")).toContain(damaged);
  });
});

/** Mean difference a pixel of the upper part of two pictures, 0 … 255. */
async function differs(a: Buffer, b: Buffer, share: number): Promise<number> {
  const raw = (bytes: Buffer) => sharp(bytes, { failOn: "none" }).raw().toBuffer({ resolveWithObject: true });
  const [one, other] = await Promise.all([raw(a), raw(b)]);
  expect(one.info).toMatchObject({ width: other.info.width, height: other.info.height });
  const length = Math.floor(one.info.height * share) * one.info.width * one.info.channels;
  let sum = 0;
  for (let i = 0; i < length; i += 1) sum += Math.abs((one.data[i] as number) - (other.data[i] as number));
  return sum / length;
}

describe("pictures", () => {
  it.each([
    ["truncated-60-LMR_0226.JPG", "good-LMR_0226.JPG"],
    ["truncated-60-restart-markers.jpg", "good-restart-markers.jpg"],
    ["truncated-60-progressive.jpg", "good-progressive.jpg"],
    ["zeroed-block-LMR_0226.JPG", "good-LMR_0226.JPG"],
    ["zeroed-block-restart-markers.jpg", "good-restart-markers.jpg"],
    ["zeroed-block-progressive.jpg", "good-progressive.jpg"],
  ])("%s opens without a warning, and looks like the original where it is there", async (path, original) => {
    const file = repaired(path);
    expect(file.after).toEqual({ verdict: "sound" });
    const bytes = bytesOf(file);
    // An independent decoder that takes any warning for an error.
    await sharp(bytes, { failOn: "warning" }).raw().toBuffer();
    expect(await differs(bytes, lab.bytes(original), 0.3)).toBeLessThan(12);
  });

  it("takes the picture up again at restart marks: what lies behind the damage is as it was", async () => {
    const bytes = bytesOf(repaired("zeroed-block-restart-markers.jpg"));
    const raw = (of: Buffer) => sharp(of).extract({ left: 0, top: 260, width: 480, height: 60 }).raw().toBuffer();
    const [mended, original] = await Promise.all([raw(bytes), raw(lab.bytes("good-restart-markers.jpg"))]);
    let sum = 0;
    mended.forEach((value, i) => {
      sum += Math.abs(value - (original[i] as number));
    });
    expect(sum / mended.length).toBeLessThan(2);
  });

  it("borrows the header of a sound picture of the same camera", () => {
    const file = repaired("no-header-plain-baseline.jpg", "good-plain-baseline.jpg");
    expect(sha256(allBytes(file.content))).toBe(sha256(lab.bytes("good-plain-baseline.jpg")));
    expect(repair(source("no-header-plain-baseline.jpg"), "no-header-plain-baseline.jpg")).toBeNull();
  });

  it("takes up a picture whose beginning was overwritten, in the middle of its data", async () => {
    const { bytes } = carveImage();
    const good = lab.bytes("good-plain-baseline.jpg");
    // The first 4 KiB are gone, as where its first cluster was used again.
    const tail = new MemorySource(good.subarray(4096));
    const file = repair(tail, "headless.jpg", new MemorySource(good));
    expect(file?.after).toEqual({ verdict: "sound" });
    await sharp(bytesOf(file as RepairedFile), { failOn: "warning" })
      .raw()
      .toBuffer();
    expect(bytes.length).toBeGreaterThan(0);
  });

  it("packs a PNG again as far as it can be unpacked", async () => {
    const file = repaired("png-bad-idat.png");
    expect(file.after).toEqual({ verdict: "sound" });
    await sharp(bytesOf(file), { failOn: "warning" }).raw().toBuffer();
  });
});

describe("documents, databases and recordings", () => {
  it.each([
    ["pdf-no-xref.pdf", "good-uncompressed.pdf"],
    ["pdf-bad-startxref.pdf", "good-uncompressed.pdf"],
    ["pdf-objstreams-cut.pdf", "good-objstreams.pdf"],
  ])("%s has the pages and words of the original for an independent reader", async (path, original) => {
    const words = async (bytes: Buffer) => {
      const document = await getDocument({ data: new Uint8Array(bytes), verbosity: 0 }).promise;
      const pages: string[] = [];
      for (let page = 1; page <= document.numPages; page += 1) {
        const { items } = await (await document.getPage(page)).getTextContent();
        pages.push(items.map((item) => ("str" in item ? item.str : "")).join(" "));
      }
      return pages;
    };
    const file = repaired(path);
    expect(file.after).toEqual({ verdict: "sound" });
    expect(await words(bytesOf(file))).toEqual(await words(lab.bytes(original)));
  });

  const rows = async (bytes: Buffer) => {
    const { Database } = await initSqlite();
    const database = new Database(bytes);
    const check = database.exec("pragma integrity_check")[0]?.values[0]?.[0];
    const found = database.exec("select * from item order by 1")[0]?.values ?? [];
    database.close();
    return { check, found };
  };

  it("a database without its header has all its rows again", async () => {
    const mended = await rows(bytesOf(repaired("sqlite-zeroed-header.db")));
    expect(mended.check).toBe("ok");
    expect(mended.found).toEqual((await rows(lab.bytes("good-catalog.db"))).found);
  });

  it("a database with a damaged page gives the rows on the others", async () => {
    const good = lab.bytes("good-catalog.db");
    const hurt = Buffer.from(good);
    // Page 6 of 4 KiB: overwritten by something else.
    hurt.fill(0x5a, 5 * 4096, 6 * 4096);
    const file = repair(new MemorySource(hurt), "catalog.db");
    const mended = await rows(bytesOf(file as RepairedFile));
    const all = (await rows(good)).found;
    expect(mended.found.length).toBeGreaterThan(all.length / 2);
    expect(mended.found.length).toBeLessThan(all.length);
    for (const row of mended.found) expect(all).toContainEqual(row);
  });

  it("a recording without its index takes that of the same recording, and no other", () => {
    const file = repaired("mp4-no-moov.mp4", "good-moov-at-end.mp4");
    expect(sha256(allBytes(file.content))).toBe(sha256(lab.bytes("good-moov-at-end.mp4")));
    const broken = lab.bytes("mp4-no-moov.mp4");
    broken.fill(0x33, 9000, 12_000);
    expect(repair(new MemorySource(broken), "a.mp4", source("good-moov-at-end.mp4"))).toBeNull();
  });

  it("GZIP is unpacked up to the damage, TAR keeps the entries before and behind it", () => {
    const { bytes, files } = carveImage();
    const placed = (path: string) => {
      const file = files.find((each) => each.path === path);
      return Buffer.from(bytes.subarray(file?.firstOffset ?? 0, (file?.firstOffset ?? 0) + (file?.size ?? 0)));
    };
    const packed = placed("backup.tar.gz");
    const plain = placed("backup.tar");
    const half = repair(new MemorySource(packed.subarray(0, packed.length / 2)), "backup.tar.gz") as RepairedFile;
    expect(half.extension).toBe("unpacked");
    const unpacked = allBytes(half.content);
    expect(unpacked.length).toBeGreaterThan(1000);
    expect(Buffer.from(unpacked).equals(plain.subarray(0, unpacked.length))).toBe(true);
    const hurt = Buffer.from(plain);
    hurt.fill(0, 18_432, 18_944);
    const mended = repair(new MemorySource(hurt), "backup.tar") as RepairedFile;
    expect(mended.after).toEqual({ verdict: "sound" });
    const text = bytesOf(mended).toString("latin1");
    for (const name of ["accounts.csv", "notes-utf8.txt", "saved page.html", "sketch-palette.png"]) expect(text).toContain(name);
  });

  it("leaves alone what is sound, and what cannot be saved", () => {
    for (const path of ["good.zip", "good-LMR_0226.JPG", "good-uncompressed.pdf", "good-catalog.db"])
      expect(repair(source(path), path)).toBeNull();
    expect(repair(new MemorySource(new Uint8Array(5000)), "a.jpg")).toBeNull();
    expect(repair(new MemorySource(Buffer.from("words")), "a.txt")).toBeNull();
  });
});
