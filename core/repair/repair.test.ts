import { execFileSync } from "node:child_process";
import { createCipheriv } from "node:crypto";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { getDocument } from "pdfjs-dist/legacy/build/pdf.mjs";
import sharp from "sharp";
import initSqlite from "sql.js";
import { describe, expect, it } from "vitest";
import { allBytes, carveImage, labFiles, sha256 } from "../../tests/support/lab-files";
import { unzipped } from "../../tests/support/unzipped";
import { fixture } from "../../tests/support/volume-truth";
import { BlockReader } from "../bytes/block-reader";
import { MemorySource } from "../bytes/byte-source";
import { type Box, boxesIn, findBox } from "../formats/iso-media/boxes";
import { readTracks, type Track, trackSamples } from "../formats/iso-media/samples";
import { type RepairedFile, repair } from "./repair";

interface Film {
  readonly title: string;
  readonly sibling: Buffer;
  readonly film: Buffer;
  /** SHA-256 of its sound as it is played; null: that is coded. */
  readonly sound: string | null;
  /** Of every picture: place, length, key, when it is coded and shown. */
  readonly packets: readonly [number, number, boolean, number, number][];
}

function films(): Film[] {
  const packed = JSON.parse(fixture("films.json.gz").toString()) as {
    films: (Omit<Film, "sibling" | "film"> & Record<"sibling" | "film", string>)[];
  };
  return packed.films.map((each) => ({ ...each, sibling: Buffer.from(each.sibling, "base64"), film: Buffer.from(each.film, "base64") }));
}

const lab = labFiles();
const source = (path: string) => new MemorySource(lab.bytes(path));
const repaired = (path: string, like?: string): RepairedFile => {
  const found = repair(source(path), path, like ? source(like) : null);
  if (!found) throw new Error(`${path} was not repaired`);
  return found;
};
const bytesOf = (file: RepairedFile) => Buffer.from(allBytes(file.content));

const archives = lab.entries.filter(({ state, path }) => state === "damaged" && /\.(zip|docx|xlsx|odt)$/.test(path));

/** Truth: damaged files with their originals and the hashes of their members, made by script and general tools. */
describe("archives", () => {
  it.each(archives)("$path: every sound member is saved ($note)", async ({ path, members: truth = [], note }) => {
    const file = repaired(path);
    expect(file.after).toEqual({ verdict: "sound" });
    const saved = await unzipped(bytesOf(file));
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

  it("a recording without its index takes that of the same recording where it fits", () => {
    const file = repaired("mp4-no-moov.mp4", "good-moov-at-end.mp4");
    expect(sha256(allBytes(file.content))).toBe(sha256(lab.bytes("good-moov-at-end.mp4")));
    const broken = lab.bytes("mp4-no-moov.mp4");
    broken.fill(0x33, 9000, 12_000);
    const rest = repair(new MemorySource(broken), "a.mp4", source("good-moov-at-end.mp4"));
    expect(rest?.done.join(" ")).toMatch(/An index of \d+ pictures was made/);
    expect(repair(new MemorySource(broken), "a.mp4")).toBeNull();
  });

  /** Truth: films by ffmpeg, and what ffprobe reports of every picture in the whole one. */
  it.each(films())("a recording without its index gets one after the model of another: $title", ({ sibling, film, packets, sound }) => {
    const cut = new BlockReader(new MemorySource(film));
    const index = [...boxesIn(cut, 0, film.length)].find(({ type }) => type === "moov") as Box;
    const broken = film.subarray(0, index.at);
    const file = repair(new MemorySource(broken), "film.mp4", new MemorySource(sibling)) as RepairedFile;
    expect(file.after.verdict).not.toBe("damaged");
    expect(file.done.join(" ")).toContain(sound ? "it was taken in" : "nothing tells where the pieces of the sound begin");
    const reader = new BlockReader(file.content);
    const moov = [...boxesIn(reader, 0, file.content.size)].find(({ type }) => type === "moov") as Box;
    const [track, heard] = readTracks(reader, moov);
    if (!track) throw new Error("no track");
    // Sound that is not coded is the very sound that is played of the whole film.
    const played = heard && [...trackSamples(reader, heard)].map(({ at, length }) => reader.bytes(at, length).slice());
    expect(played ? sha256(Buffer.concat(played)) : null).toBe(sound);
    expect([...trackSamples(reader, track)].map(({ at, length }) => [at, length])).toEqual(packets.map(([at, length]) => [at, length]));
    const numbers = (type: string, from: number, each: number) => {
      const box = findBox(reader, track.box, type);
      const count = box ? reader.u32be(box.content + 4) : 0;
      return Array.from({ length: count }, (_, i) => reader.u32be((box?.content ?? 0) + from + i * each));
    };
    expect(numbers("stss", 8, 4)).toEqual(packets.flatMap(([, , key], i) => (key ? [i + 1] : [])));
    // It is as long as it was, in the same units of time.
    const whole = readTracks(cut, index)[0] as Track;
    const times = (from: BlockReader, box: Box, type: string, at: number) => {
      const found = findBox(from, box, type);
      return found && from.u32be(found.content + at);
    };
    for (const [type, at] of [
      ["mdhd", 12],
      ["mdhd", 16],
      ["tkhd", 20],
    ] as const)
      expect([type, times(reader, track.box, type, at)]).toEqual([type, times(cut, whole.box, type, at)]);
    expect(times(reader, moov, "mvhd", 16)).toBe(2000);
    // Each is shown when it was, all of them as much later.
    const step = 512;
    const later = numbers("ctts", 12, 8);
    const shown = packets.map((_, i) => i * step + (later[i] ?? 0));
    const truth = packets.map(([, , , , pts]) => pts);
    expect(shown.map((at) => at - (shown[0] ?? 0))).toEqual(truth.map((at) => at - (truth[0] ?? 0)));
    expect(later.length > 0).toBe(
      packets.some(([, , , dts, pts], i) => pts - dts !== (packets[i - 1]?.[4] ?? pts) - (packets[i - 1]?.[3] ?? dts)),
    );
    expect(file.done.join(" ")).not.toContain("may not be quite the right one");
    // Where the data are hurt, the pictures before and behind stay.
    const hurt = Buffer.from(broken);
    const at = packets[25]?.[0] ?? 0;
    hurt.fill(0x77, at, at + 300);
    const rest = repair(new MemorySource(hurt), "film.mp4", new MemorySource(sibling)) as RepairedFile;
    const kept = Number(/index of (\d+) pictures/.exec(rest.done.join(" "))?.[1]);
    // Damage among the sound would shift it against the pictures.
    expect(rest.done.join(" ")).not.toContain("taken in");
    expect(kept).toBeGreaterThan(packets.length * 0.8);
    expect(kept).toBeLessThanOrEqual(packets.length);
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

  it("GZIP is unpacked again behind the damage, and what stood before it is not made up", { tags: "long" }, () => {
    // Written with the platform's zlib; what it was is the truth.
    const lines = Array.from({ length: 60_000 }, (_, i) => `night ${i}: seeing ${(i * 7919) % 97}, clouds ${(i * 104_729) % 89}\n`).join(
      "",
    );
    const plain = Buffer.from(lines);
    for (const [level, at] of [
      [6, 0.3],
      [9, 0.55],
      [1, 0.8],
    ] as const) {
      const packed = gzipSync(plain, { level });
      const hurt = Buffer.from(packed);
      const from = Math.floor(packed.length * at);
      createCipheriv("aes-128-ctr", Buffer.alloc(16, level), Buffer.alloc(16)).update(Buffer.alloc(20_000)).copy(hurt, from);
      const file = repair(new MemorySource(hurt), "nights.txt.gz") as RepairedFile;
      const text = bytesOf(file);
      expect(file.done.join(" ")).toMatch(/Unpacked again from byte \d+/);
      // The end is there, but for what referred to bytes that stood before.
      const tail = text.subarray(-plain.length * 0.1);
      const truth = plain.subarray(-tail.length);
      let wrong = 0;
      for (let i = 0; i < tail.length; i += 1) if (tail[i] !== truth[i] && tail[i] !== 0x3f) wrong += 1;
      expect(wrong).toBe(0);
      expect(text.length).toBeGreaterThan(plain.length * 0.7);
    }
  });

  it("files of a packed archive stand in their places again behind the damage", () => {
    // Made with the system's own tar. All files have one date: what a header repeats of the one before is taken from the last known one.
    const folder = mkdtempSync(join(tmpdir(), "compass-tar-"));
    for (let i = 0; i < 80; i += 1) {
      const noise = createCipheriv("aes-128-ctr", Buffer.alloc(16, i), Buffer.alloc(16)).update(Buffer.alloc(3000 + i * 37));
      writeFileSync(join(folder, `night ${String(i).padStart(3, "0")}.txt`), noise.toString("base64"));
    }
    const date = 1_795_920_000;
    for (const mtime of [date, date + 9, date + 77_777]) {
      const plain = execFileSync("tar", ["-cf", "-", "--sort=name", `--mtime=@${mtime}`, "-C", folder, "."]);
      const packed = gzipSync(plain, { level: 9 });
      const hurt = Buffer.from(packed);
      createCipheriv("aes-128-ctr", Buffer.alloc(16, 5), Buffer.alloc(16))
        .update(Buffer.alloc(30_000))
        .copy(hurt, packed.length >> 2);
      const file = repair(new MemorySource(hurt), "backup.tar.gz") as RepairedFile;
      expect(file.done.join(" ")).toMatch(/Unpacked again/);
      const archive = repair(new MemorySource(bytesOf(file)), "backup.tar") as RepairedFile;
      expect(archive.after).toEqual({ verdict: "sound" });
      expect(Number(/(\d+) entries/.exec(archive.done.join(" "))?.[1])).toBeGreaterThan(40);
      expect(bytesOf(archive).includes("night 079.txt")).toBe(true);
    }
    rmSync(folder, { recursive: true });
  });

  it("leaves alone what is sound, and what cannot be saved", () => {
    for (const path of ["good.zip", "good-LMR_0226.JPG", "good-uncompressed.pdf", "good-catalog.db"])
      expect(repair(source(path), path)).toBeNull();
    expect(repair(new MemorySource(new Uint8Array(5000)), "a.jpg")).toBeNull();
    expect(repair(new MemorySource(Buffer.from("words")), "a.txt")).toBeNull();
  });
});
