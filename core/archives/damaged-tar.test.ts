import { spawnSync } from "node:child_process";
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { zipSync } from "fflate";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { BlockReader } from "../bytes/block-reader";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { recogniseRemains } from "../filesystems/recognise";
import { tarEntry } from "../formats/archives";
import { readTarArchive } from "./tar-archive";

// Archives by GNU tar in each of its formats; bytes are taken out or put in by script (POSIX.1-2017, pax, "ustar Interchange Format").

const FORMATS = ["gnu", "pax", "ustar", "v7"] as const;
let work: string;
beforeAll(() => {
  work = mkdtempSync(join(tmpdir(), "compass-"));
});
afterAll(() => rmSync(work, { recursive: true, force: true }));

interface Drawn {
  readonly next: (below: number) => number;
  readonly tar: Buffer;
  readonly files: ReadonlyMap<string, Buffer>;
  /** Where each member stands, with the headers before it that are its own. */
  readonly extents: readonly { readonly path: string; readonly start: number; readonly dataAt: number; readonly end: number }[];
}

function draw(seed: number): Drawn {
  const random = seeded(seed);
  const next = (below: number) => Math.floor(random() * below);
  const format = FORMATS[seed % FORMATS.length] as string;
  const root = join(work, String(seed));
  const files = new Map<string, Buffer>();
  for (let i = 0; i < 6 + next(10); i += 1) {
    const long = format !== "v7" && next(4) === 0 ? `${"long ".repeat(15)}/${"name ".repeat(10)}` : "letters/";
    const path = `${long}${"x".repeat(1 + next(9))} ${i}.bin`;
    const bytes = Buffer.alloc(next(4) === 0 ? next(3) : next(6000), next(3) === 0 ? 0 : 1);
    if (bytes[0]) for (let at = 0; at < bytes.length; at += 1) bytes[at] = next(256);
    mkdirSync(dirname(join(root, path)), { recursive: true });
    writeFileSync(join(root, path), bytes);
    files.set(path, bytes);
  }
  const tar = spawnSync("tar", ["-cf", "-", `--format=${format}`, "-C", root, ...files.keys()], { maxBuffer: 1 << 26 }).stdout;
  rmSync(root, { recursive: true });
  const reader = new BlockReader(new MemorySource(tar));
  const extents: { path: string; start: number; dataAt: number; end: number }[] = [];
  const paths = [...files.keys()];
  let start = 0;
  for (let entry = tarEntry(reader, 0); entry; entry = tarEntry(reader, entry.next)) {
    if ("LKx".includes(entry.type)) continue;
    extents.push({ path: paths[extents.length] as string, start, dataAt: entry.dataAt, end: entry.dataAt + entry.size });
    start = entry.next;
  }
  return { next, tar, files, extents };
}

describe("a TAR archive of which bytes are missing, or into which some slipped", () => {
  it.each([
    ["light", 0.98],
    ["thorough", 0.99],
  ])("%s: gives the members that stand, and none in which they are missing as sound", (reading, share) => {
    let [standing, back] = [0, 0];
    for (let seed = 1; seed <= 60; seed += 1) {
      const { next, tar, files, extents } = draw(seed);
      expect(extents).toHaveLength(files.size);
      const hurt = extents[next(extents.length - 1)] as (typeof extents)[number];
      const at = hurt.end > hurt.dataAt ? hurt.dataAt + next(hurt.end - hurt.dataAt) : hurt.start;
      const many = [1, 24, 512, 1 + next(1500)][next(4)] as number;
      const slips = next(3) === 0;
      const bytes = slips
        ? Buffer.concat([tar.subarray(0, at), Buffer.from(Array.from({ length: many }, () => next(256))), tar.subarray(at)])
        : Buffer.concat([tar.subarray(0, at), tar.subarray(at + many)]);
      const found = new Map(readTarArchive(new MemorySource(bytes), reading === "thorough").entries.map((entry) => [entry.path, entry]));
      for (const { path, start, end } of extents) {
        const isHurt = slips ? start <= at && at < end : start < at + many && at < end;
        const entry = found.get(path);
        const wanted = files.get(path) as Buffer;
        const given = entry && Buffer.from(readBytes(entry.open(), 0, entry.present));
        if (!isHurt) {
          standing += 1;
          if (given?.equals(wanted)) back += 1;
        } else if (entry && wanted.length > 0 && many % 512 !== 0 && entry.size === wanted.length)
          expect(entry.standing !== "sound" || given?.equals(wanted), `${seed}: ${path}`).toBe(true);
      }
    }
    expect(standing).toBeGreaterThan(400);
    expect(back / standing).toBeGreaterThan(share);
  });

  it("is known without its beginning, though what is left begins in a ZIP archive in it", () => {
    for (let seed = 101; seed <= 108; seed += 1) {
      const { next, tar, extents } = draw(seed);
      expect(recogniseRemains(new MemorySource(tar.subarray((extents[1]?.start ?? 0) - next(500)))).filesystem, `${seed}`).toBe("tar");
    }
    const root = join(work, "with a ZIP");
    mkdirSync(root);
    const pages = Object.fromEntries(["one", "two", "three"].map((name) => [name, new Uint8Array(700).fill(name.length)]));
    writeFileSync(join(root, "pages.zip"), zipSync(pages, { level: 0 }));
    for (const name of ["note.txt", "more.txt"]) writeFileSync(join(root, name), name.repeat(40));
    const tar = spawnSync("tar", ["-C", root, "-cf", "-", "pages.zip", "note.txt", "more.txt"]).stdout;
    expect(recogniseRemains(new MemorySource(tar.subarray(1000))).filesystem).toBe("tar");
  });

  it("is not taken for one where a member holds another archive", () => {
    const root = join(work, "nested");
    mkdirSync(root);
    writeFileSync(join(root, "a.txt"), "a");
    writeFileSync(join(root, "b.txt"), "b".repeat(700));
    const tar = (args: readonly string[]) => expect(spawnSync("tar", ["-C", root, ...args]).status).toBe(0);
    tar(["-cf", join(root, "inner.tar"), "a.txt", "b.txt"]);
    writeFileSync(join(root, "disk.img"), Buffer.concat([Buffer.alloc(2048, 7), spawnSync("cat", [join(root, "inner.tar")]).stdout]));
    const outer = spawnSync("tar", ["-C", root, "-cf", "-", "inner.tar", "disk.img", "b.txt"]).stdout;
    const { entries } = readTarArchive(new MemorySource(outer), true);
    expect(entries.map(({ path, standing }) => [path, standing])).toEqual([
      ["inner.tar", "sound"],
      ["disk.img", "sound"],
      ["b.txt", "sound"],
    ]);
  });
});
