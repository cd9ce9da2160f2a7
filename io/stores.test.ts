import { spawnSync } from "node:child_process";
import { createHash } from "node:crypto";
import { copyFileSync, mkdirSync, mkdtempSync, rmSync, truncateSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { readBytes } from "../core/bytes/byte-source";
import { diskRuns, firstByte, LayoutSource } from "../core/bytes/layout";
import { decodeLayout } from "../core/bytes/layout-code";
import { fileRecordsPass } from "../core/copies/file-records-pass";
import { likeliest } from "../core/filesystems/file-record";
import { openVolume } from "../core/volumes/inspect";
import { seeded } from "../demo/draw";
import { threadTime } from "../tests/support/thread-time";
import { fixture } from "../tests/support/volume-truth";
import { MOST_WITHIN } from "./inner-file";
import { openSearchable } from "./open-searchable";
import { openDisk } from "./open-source";
import { findStore, listStores, type Store } from "./stores";

interface Entry {
  path: string;
  state: "live" | "deleted";
  size: number;
  sha256: string;
}
/** What `make-nested.ts` put into the sticks. */
const truth = JSON.parse(fixture("nested.json.gz").toString()) as {
  "/Backups/laptop.vhdx": { "/Sticks/blue stick.img": Entry[] };
  "/Sticks/red.001": Entry[];
};

const work = mkdtempSync(join(tmpdir(), "compass-stores-"));
const image = join(work, "drive.img");
afterAll(() => rmSync(work, { recursive: true }));
beforeAll(() => writeFileSync(image, fixture("nested.img.gz")));

/** In the midst of the virtual disk, behind its tables. */
const CUT = 26 << 20;

const storesOf = (path: string, deep = true) => [...listStores({ sourcePath: path }, deep)];

/** All files of a volume, as the truth has them. */
function filesOf(store: Store): Entry[] {
  const { offset, length, filesystem, view } = store.volume as NonNullable<Store["volume"]>;
  const { disk, volume, close } = openSearchable(store.disk, { offset, length, filesystem, view });
  try {
    return [...fileRecordsPass(volume, disk)]
      .flatMap(({ copies }) => copies)
      .filter(({ type, system }) => type === "file" && !system)
      .map(({ path, state, size, layout }) => {
        const content = layout ? readBytes(new LayoutSource(disk, layout), 0, size) : new Uint8Array();
        return { path, state, size, sha256: createHash("sha256").update(content).digest("hex") };
      });
  } finally {
    close();
  }
}
const byPath = (entries: readonly Entry[]) => [...entries].sort((a, b) => (a.path < b.path ? -1 : 1));

describe("stores of a drive with disks in its files", () => {
  it("are listed with what they lie in: an image, its volume, an image on that, and so on", () => {
    const stores = storesOf(image);
    const byId = new Map(stores.map((store) => [store.id, store]));
    expect(byId.size).toBe(stores.length);
    for (const { parent } of stores) expect(parent === null || byId.has(parent)).toBe(true);
    const way = (store: Store | undefined): (string | null)[] => (store ? [...way(byId.get(store.parent ?? "")), store.label] : []);
    expect(stores.filter(({ kind }) => kind === "volume").map(way)).toEqual(
      expect.arrayContaining([
        ["drive.img", "Backup drive"],
        ["drive.img", "Backup drive", "laptop.vhdx", "Laptop"],
        ["drive.img", "Backup drive", "laptop.vhdx", "Laptop", "blue stick.img", "BLUE"],
        ["drive.img", "Backup drive", "laptop-old.vhdx", "Laptop", "blue stick.img", "BLUE"],
        ["drive.img", "Backup drive", "red.001", "RED"],
      ]),
    );
    const old = stores.find(({ label }) => label === "laptop-old.vhdx");
    expect(old?.notes).toContain("It lies in a deleted file.");
  });

  it("give their files byte-exact, three disks deep, in pieces and in parts", () => {
    const sticks = storesOf(image).filter(({ volume }) => volume?.filesystem === "fat12");
    const blue = byPath(truth["/Backups/laptop.vhdx"]["/Sticks/blue stick.img"]);
    const red = byPath(truth["/Sticks/red.001"]);
    // A deleted file on FAT loses its first letter and is found again by its long name.
    expect(sticks.length).toBe(4);
    for (const stick of sticks) expect(byPath(filesOf(stick))).toEqual(stick.label === "RED" ? red : blue);
  });

  it("have ids that stay the same, and lead straight to them", { tags: "long" }, () => {
    const stores = storesOf(image);
    expect(storesOf(image).map(({ id }) => id)).toEqual(stores.map(({ id }) => id));
    for (const store of stores) expect(findStore({ sourcePath: image }, store.id)).toEqual(store);
    for (const id of ["", "image/", "image/volume@1", "folder", `${stores.at(-1)?.id}/volume@7`])
      expect(findStore({ sourcePath: image }, id), id).toBeNull();
  });

  it("are only the present, lost and earlier volumes where nobody asks for what lies in files", () => {
    expect(storesOf(image, false).map(({ kind, label }) => [kind, label])).toEqual([
      ["image", "drive.img"],
      ["volume", "Backup drive"],
      ["volume", "Laptop"],
    ]);
  });

  it("of a folder: the images in it, parts and parents beside them", () => {
    const folder = join(work, "shelf");
    mkdirSync(join(folder, "deeper"), { recursive: true });
    copyFileSync(image, join(folder, "deeper", "drive.img"));
    writeFileSync(join(folder, "open-diff-child.vhd"), fixture("diff-child.vhd.gz"));
    writeFileSync(join(folder, "open-diff-parent.vhd"), fixture("diff-parent.vhd.gz"));
    writeFileSync(join(folder, "note.txt"), "no disk\n".repeat(20_000));
    const stores = storesOf(folder);
    expect(stores[0]).toMatchObject({ id: "folder", kind: "folder", parent: null });
    const child = stores.filter(({ parent }) => parent === "folder/file:/open-diff-child.vhd");
    expect(child.map(({ volume }) => volume?.filesystem)).toEqual(["ntfs", "fat16"]);
    expect(stores.filter(({ volume }) => volume?.filesystem === "fat12").length).toBe(4);
    expect(stores.some(({ label }) => label === "note.txt")).toBe(false);
    const deepest = stores.findLast(({ volume }) => volume?.filesystem === "fat12") as Store;
    expect(findStore({ sourcePath: folder }, deepest.id)).toEqual(deepest);
    expect(filesOf(deepest).length).toBe(4);
  });

  it("that cannot be opened are reported as closed, with why; the others stay", () => {
    const folder = join(work, "alone");
    mkdirSync(folder);
    // A differencing disk whose parent is not there.
    writeFileSync(join(folder, "child.vhd"), fixture("diff-child.vhd.gz"));
    copyFileSync(image, join(folder, "drive.img"));
    const stores = storesOf(folder);
    expect(stores.find(({ label }) => label === "child.vhd")?.closed).toContain("which is not beside it");
    expect(stores.filter(({ volume }) => volume?.filesystem === "fat12").length).toBe(4);
  });
});

describe("stores of an archive with compressed files in it", () => {
  it("are those files, and the archives that are compressed as a whole, deep in one another", () => {
    const folder = join(work, "packed");
    mkdirSync(join(folder, "letters"), { recursive: true });
    const letters = Object.fromEntries(["one", "two", "three"].map((name, i) => [`letters/${name}.txt`, `${name} `.repeat(400 * (i + 1))]));
    for (const [name, text] of Object.entries(letters)) writeFileSync(join(folder, name), text);
    const ran = (command: string) => expect(spawnSync("sh", ["-c", command], { cwd: folder }).status).toBe(0);
    ran(
      "tar -czf letters.tgz letters && xz -k letters/one.txt && bzip2 -k letters/two.txt && tar -cJf both.txz letters.tgz letters/three.txt",
    );
    ran("tar -cf outer.tar both.txz letters/one.txt.xz letters/two.txt.bz2");
    const outer = join(folder, "outer.tar");
    const found = storesOf(outer).flatMap((store) =>
      store.volume && !store.closed ? filesOf(store).map((file) => ({ store, ...file })) : [],
    );
    const hash = (text: string) => createHash("sha256").update(text).digest("hex");
    for (const [path, text] of Object.entries(letters))
      expect(found.filter(({ sha256 }) => sha256 === hash(text)).length, path).toBeGreaterThan(0);
    expect(found.filter(({ path }) => path.endsWith("/letters/one.txt")).map(({ store }) => store.id.split("/file").length - 1)).toEqual([
      2,
    ]);
    for (const { store } of found) expect(findStore({ sourcePath: outer }, store.id)?.volume).toEqual(store.volume);
    expect(storesOf(outer, false)).toHaveLength(2);
  });

  it("leave out what is too large to be unpacked for that, and say that these are not all", () => {
    const folder = join(work, "too large");
    mkdirSync(folder);
    const large = join(folder, "large.gz");
    writeFileSync(large, gzipSync("the beginning"));
    truncateSync(large, (1 << 30) + 4096);
    const outer = join(folder, "outer.tar");
    expect(spawnSync("tar", ["-S", "-cf", outer, "-C", folder, "large.gz"]).status).toBe(0);
    rmSync(large);
    const stores = listStores({ sourcePath: outer }, true);
    let [count, step] = [0, stores.next()];
    for (; !step.done; step = stores.next()) count += 1;
    expect([count, step.value]).toEqual([2, false]);
  });
});

describe("stores of a source with very many disks in it", () => {
  it("are listed up to a number, and it is said that these are not all", { tags: "long" }, () => {
    const folder = join(work, "many");
    mkdirSync(folder);
    const many = 4100;
    for (let number = 0; number < many; number += 1) {
      const path = join(folder, `${number}.vhd`);
      writeFileSync(path, "conectix");
      truncateSync(path, 64 << 10);
    }
    const walk = listStores({ sourcePath: folder }, true);
    let count = 0;
    let last = walk.next();
    for (; !last.done; last = walk.next()) count += 1;
    expect([count, last.value]).toEqual([4096 + 1, false]);
    const few = listStores({ sourcePath: image }, true);
    let end = few.next();
    while (!end.done) end = few.next();
    expect(end.value).toBe(true);
  });
});

describe("stores of a damaged drive", () => {
  // As many as elsewhere when many are asked for; each goes through four disks.
  const rounds = Math.max(30, Math.floor(Number(process.env.COMPASS_MUTATIONS ?? 300) / 10));

  it(`are listed as far as they go, or refused in words, ${rounds} times`, { tags: "long" }, () => {
    const whole = fixture("nested.img.gz");
    const sound = storesOf(image);
    const random = seeded(15);
    /** Where damage hurts: the tables and heads of the disks inside, which stand where their files begin. */
    const heads = sound.flatMap(({ disk: { within = [] } }) =>
      within.length === 1 ? [firstByte(decodeLayout(Buffer.from(within[0]?.layout ?? "", "base64"))) ?? 0] : [0],
    );
    const path = join(work, "damaged.img");
    let found = 0;
    for (let round = 0; round < rounds; round += 1) {
      const bytes = Buffer.from(whole);
      for (let hits = 1 + Math.floor(random() * 12); hits > 0; hits -= 1) {
        const at = (heads[Math.floor(random() * heads.length)] as number) + Math.floor(random() ** 3 * (4 << 20));
        if (at < bytes.length) bytes[at] = Math.floor(random() * 256);
      }
      writeFileSync(path, bytes);
      const before = threadTime();
      const stores = storesOf(path);
      found += stores.length;
      for (const { closed, kind } of stores) expect(closed === null || closed.length > 10, kind).toBe(true);
      expect(stores.length).toBeLessThan(200);
      expect(threadTime() - before).toBeLessThan(60_000);
    }
    expect(found).toBeGreaterThan(rounds);
  });
});

describe("what is on a disk in a deleted file", () => {
  /** The conditions of the files with content on a store's volume. */
  function conditionsOn(store: Store): string[] {
    const { offset, length, filesystem, view } = store.volume as NonNullable<Store["volume"]>;
    const { disk, volume, close } = openSearchable(store.disk, { offset, length, filesystem, view });
    try {
      return [...fileRecordsPass(volume, disk)]
        .flatMap(({ copies }) => copies)
        .filter(({ type, system, size, state }) => type === "file" && !system && size > 0 && state === "live")
        .map(({ condition }) => condition);
    } finally {
      close();
    }
  }

  it("is called whole only where its own content proves it: records that lie there vouch for nothing", () => {
    const laptops = storesOf(image).filter(({ label, volume, id }) => label === "Laptop" && volume && id.includes("/file@"));
    const of = (part: string) => conditionsOn(laptops.find(({ id }) => id.includes(part)) as Store);
    expect(new Set(of("/Backups/"))).toEqual(new Set(["whole"]));
    expect(new Set(of("/Old/"))).toEqual(new Set(["not-checked"]));
  });
});

describe("a disk in a deleted file of which others have taken parts", () => {
  it("says so, and those parts count as unreadable, not as its own", () => {
    const old = storesOf(image).find(({ label, kind }) => label === "laptop-old.vhdx" && kind === "image") as Store;
    expect(old.notes).toEqual(["It lies in a deleted file."]);
    const { disk: outer, close } = openDisk({ sourcePath: image });
    const bytes = Buffer.from(readBytes(outer, 0, outer.size));
    const volume = openVolume(outer, { offset: 0, length: outer.size, filesystem: "ntfs", view: null });
    // The map says that clusters near its end are in use: by nobody that is known, which is enough.
    const [inner] = old.disk.within ?? [];
    const run = diskRuns(decodeLayout(Buffer.from(inner?.layout ?? "", "base64")))[0] as { at: number; length: number };
    const taken = { first: Math.floor((run.at + run.length) / volume.clusterSize) - 300, count: 256 };
    const map = [...volume.readRecords(null, 512)].flatMap(({ records }) => records).find(({ path }) => path === "/$Bitmap");
    const mapAt = diskRuns((map && likeliest(map)?.layout) as never)[0]?.at as number;
    close();
    for (let cluster = taken.first; cluster < taken.first + taken.count; cluster += 1)
      bytes[mapAt + (cluster >> 3)] = (bytes[mapAt + (cluster >> 3)] as number) | (1 << (cluster & 7));
    const path = join(work, "taken.img");
    writeFileSync(path, bytes);
    const found = storesOf(path).find(({ label, kind }) => label === "laptop-old.vhdx" && kind === "image") as Store;
    expect(found.notes.join(" ")).toContain(`${taken.count * volume.clusterSize} bytes of that file are lost or belong to other files now`);
    const opened = openDisk(found.disk);
    const lost = opened.disk.unreadable(0, opened.disk.size).reduce((sum, { start, end }) => sum + end - start, 0);
    opened.close();
    expect(lost).toBeGreaterThan(0);
    expect(lost).toBeLessThanOrEqual(taken.count * volume.clusterSize);
  });
});

describe("a disk inside another", () => {
  const blue = () => storesOf(image).find(({ volume, id }) => volume?.label === "BLUE" && id.includes("/Backups/")) as Store;

  it("is not opened as what it was when its file, or the image around it, is another now", () => {
    const folder = join(work, "changing");
    mkdirSync(folder);
    const path = join(folder, "drive.img");
    copyFileSync(image, path);
    const inner = storesOf(folder).find(({ volume }) => volume?.label === "Backup drive") as Store;
    openDisk(inner.disk).close();
    truncateSync(path, 30 << 20);
    expect(() => openDisk(inner.disk)).toThrow(/is another version .*read the folder again/);
  });

  it("counts bytes behind the end of the image around it as unreadable, not as zeros", () => {
    const laptop = storesOf(image).find(
      ({ label, kind, id }) => label === "laptop.vhdx" && kind === "image" && id.includes("/Backups/"),
    ) as Store;
    const unreadable = (sourcePath: string) => {
      const { disk, close } = openDisk({ ...laptop.disk, sourcePath });
      const ranges = disk.unreadable(0, disk.size);
      close();
      return ranges.reduce((sum, { start, end }) => sum + end - start, 0);
    };
    expect(unreadable(image)).toBe(0);
    const cut = join(work, "cut.img");
    copyFileSync(image, cut);
    truncateSync(cut, CUT);
    expect(unreadable(cut)).toBeGreaterThan(1 << 20);
  });

  it(`is not followed deeper than ${MOST_WITHIN}`, () => {
    const { disk } = blue();
    const within = Array.from({ length: MOST_WITHIN + 1 }, () => (disk.within ?? [])[0] as NonNullable<typeof disk.within>[number]);
    expect(() => openDisk({ ...disk, within })).toThrow(`nested more than ${MOST_WITHIN} deep`);
  });
});
