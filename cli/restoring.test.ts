import { spawnSync } from "node:child_process";
import {
  appendFileSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import Papa from "papaparse";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { hashEntry } from "../io/log-chain";
import { backupFile, backupJson, damagedBackups, sha256, type TapeTruth } from "../tests/support/backup-truth";
import { compass } from "../tests/support/command-line";
import { macBytes } from "../tests/support/mac-truth";
import { recordsFiles } from "../tests/support/records-truth";
import { GROUP, systemAndData } from "../tests/support/system-and-data";
import { fixture } from "../tests/support/volume-truth";

const work = mkdtempSync(join(tmpdir(), "compass-restoring-"));
const small = join(work, "small.bkf");
const large = join(work, "large.bkf");
const archive = join(work, "archive.zip");
const truth = backupJson<TapeTruth>("tape-small.json").entries.filter(({ type }) => type === "file");
beforeAll(() => {
  writeFileSync(small, backupFile("tape-small.bkf"));
  writeFileSync(large, backupFile("tape.bkf"));
  writeFileSync(archive, damagedBackups("zip-damaged").find(({ name }) => name === "open-zip-plain-central-cut")?.bytes ?? "");
});
afterAll(() => rmSync(work, { recursive: true, force: true }));

/** An archive as the general tool writes it. */
function tarOf(files: Readonly<Record<string, Buffer>>): Buffer {
  const folder = mkdtempSync(join(tmpdir(), "compass-tar-"));
  for (const [name, bytes] of Object.entries(files)) writeFileSync(join(folder, name), bytes);
  return spawnSync("tar", ["-C", folder, "-cf", "-", ...Object.keys(files)], { maxBuffer: 1 << 26 }).stdout;
}

/** What a line of a restore or of its rehearsal has. */
interface Line {
  path: string;
  output: string;
  target?: string | null;
  leftBehind?: string[];
}

const filesIn = (folder: string): string[] =>
  readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => join(entry.parentPath, entry.name).slice(folder.length + 1));

describe("a drive of several volumes on the command line", () => {
  const image = join(work, "system-and-data.img");
  beforeAll(() => writeFileSync(image, systemAndData()));

  it("inspect says which part of which drive a volume is", () => {
    const volumes = compass("inspect", image, "--json").lines();
    expect(volumes).toMatchObject([
      { label: "Alpha", identifier: "4774468c-a508-4122-bba7-b0d76d45fe72", drive: GROUP, part: "system" },
      { label: "Beta", identifier: "b3bbef8a-1321-4458-b508-78ead0581ba3", drive: GROUP, part: "data" },
    ]);
  });

  it("restores both volumes as the one tree their user saw; volumes of their own go into folders of their own", () => {
    const [joined, apart] = [join(work, "joined"), join(work, "apart")];
    compass("restore", image, "--to", joined, "--state", "live", "--records-only", "--json");
    expect(readdirSync(joined).sort()).toEqual(expect.arrayContaining(["Alpha docs", "Beta"]));
    const own = join(work, "two-volumes.img");
    writeFileSync(own, macBytes("apfs-twovol"));
    compass("restore", own, "--to", apart, "--state", "live", "--records-only", "--json");
    expect(readdirSync(apart).sort()).toEqual(["volume-0", "volume-1"]);
    expect(filesIn(joined).sort()).toEqual(
      filesIn(apart)
        .map((path) => path.slice("volume-0/".length))
        .sort(),
    );
  });
});

describe("backup files on the command line", () => {
  it("inspect and stores name the file and its sets", () => {
    expect(compass("inspect", large, "--json").lines()[0]).toMatchObject({ filesystem: "tape", label: "Work weekly" });
    const [thorough] = compass("inspect", large, "--thorough", "--json").lines() as [{ files: Record<string, number> }];
    expect(Object.values(thorough.files).reduce((sum, count) => sum + count, 0)).toBe(298);
    expect(compass("inspect", large, "--range", "75%-100%").out).toMatch(/files: \d+ whole, \d+ partial/);
    const sets = compass("stores", large, "--json")
      .lines()
      .filter(({ kind }) => kind === "set");
    expect(sets.map(({ label }) => label)).toEqual(["Set one – Work", "Set two", "Set three"]);
    const one = compass("list", large, "--store", String(sets[1]?.store), "--json")
      .lines()
      .filter(({ type }) => type === "file");
    expect(one).toHaveLength(31);
    expect(new Set(one.map(({ set }) => set))).toEqual(new Set(["2"]));
  });

  it("archives in archives are stores, however deep, and give their own members back", () => {
    const nested = join(work, "nested.zip");
    writeFileSync(nested, backupFile("zip-nested.zip"));
    const inner = compass("stores", nested, "--deep", "--json")
      .lines()
      .filter(({ kind, parent }) => kind === "volume" && parent !== "image");
    const { inside } = backupJson<{ originals: { file?: string; inside?: Record<string, unknown> }[] }>("zip.json").originals.find(
      ({ file }) => file === "open-zip-nested.zip",
    ) as { inside: Record<string, unknown> };
    // Two archives in it, and one in one of those.
    expect(inner).toHaveLength(3);
    expect(Object.keys(inside).length).toBeGreaterThanOrEqual(2);
    for (const { store } of inner) {
      const restored = compass(
        "restore",
        nested,
        "--store",
        String(store),
        "--thorough",
        "--to",
        join(work, String(store).replaceAll("/", "_")),
        "--json",
      ).lines();
      expect(restored.length).toBeGreaterThan(0);
      expect(restored.every(({ condition, size }) => condition === "whole" || size === 0)).toBe(true);
    }
  });

  it("list is light unless it is asked to be thorough, and takes a part", () => {
    const light = compass("list", large, "--json")
      .lines()
      .filter(({ type, size }) => type === "file" && Number(size) > 0);
    expect(light.every(({ condition }) => condition !== "whole")).toBe(true);
    const thorough = compass("list", large, "--thorough", "--json").lines();
    expect(thorough.filter(({ condition, type }) => condition === "whole" && type === "file").length).toBeGreaterThan(60);
    const part = compass("list", large, "--range", "75%-100%", "--json")
      .lines()
      .filter(({ type }) => type === "file");
    expect(part.length).toBeGreaterThan(60);
    expect(part.length).toBeLessThan(110);
    expect(compass("list", large, "--range", "75-x").code).toBe(2);
  });

  it("restore gives several sets folders of their own, and archives without a list of contents their members", () => {
    const sets = join(work, "sets");
    compass("restore", large, "--to", sets, "--thorough", "--match", "*.csv");
    expect(new Set(filesIn(sets).map((path) => path.split("/")[0]))).toEqual(new Set(["set-1", "set-2", "set-3"]));
    const members = compass("restore", archive, "--to", join(work, "members"), "--thorough", "--json").lines();
    expect(members.filter(({ condition, sha256: hash }) => condition === "whole" && hash)).toHaveLength(39);
  });
});

describe("how a restore lies", () => {
  it("by kind, with names by a pattern, and a list by which all of it can be undone", () => {
    const to = join(work, "by kind");
    const { code } = compass("restore", small, "--to", to, "--layout", "kind", "--names", "{number} {name}");
    expect(code).toBe(0);
    const listed = Papa.parse<Record<string, string>>(readFileSync(join(to, "restored files.csv"), "utf8").replace(/^\ufeff/, ""), {
      header: true,
      skipEmptyLines: true,
    }).data;
    expect(listed).toHaveLength(truth.length);
    for (const row of listed) {
      const entry = truth.find(({ path }) => row["original path"]?.endsWith(`/${path}`));
      expect(row["sha-256"]).toBe(entry?.sha256);
      expect(sha256(readFileSync(join(to, row["written as"] as string)))).toBe(entry?.sha256);
      expect(Buffer.from(row["name as stored, hex"] as string, "hex").toString("latin1")).toBe(entry?.path.split("/").at(-1));
      expect(row["written as"]).toMatch(/^(Documents|Sheets|Pictures|Other)\/\d{4} /);
    }
  });

  it("compare leaves what is the same, and keeps both where it is not", () => {
    const to = join(work, "compared");
    compass("restore", small, "--to", to);
    const [first] = filesIn(to);
    const other = join(to, first as string);
    writeFileSync(
      other,
      readFileSync(other).map((byte, at) => (at === 3 ? byte ^ 1 : byte)),
    );
    const { lines } = compass("restore", small, "--to", to, "--conflict", "compare", "--json");
    expect(lines().filter(({ same }) => same)).toHaveLength(truth.length - 1);
    expect(filesIn(to)).toHaveLength(truth.length + 1);
    expect(compass("restore", small, "--to", to, "--conflict", "maybe").code).toBe(2);
  });

  it("streams, forks and attributes go along in second files, or what is left is reported", () => {
    const volume = join(work, "features.img");
    writeFileSync(volume, fixture("ntfs-features.img.gz"));
    const listed = compass("list", volume, "--state", "live", "--records-only", "--json")
      .lines()
      .filter(({ streams, type }) => streams && type === "file") as unknown as { path: string; streams: { name: string }[] }[];
    expect(listed.length).toBeGreaterThan(0);
    const wanted = ["--state", "live", "--records-only", "--match", "*.txt", "--json"];
    const named = (path: string) => listed.find((each) => each.path === path)?.streams.map(({ name }) => name) ?? [];
    const left = compass("restore", volume, "--to", join(work, "left behind"), ...wanted).lines() as unknown as Line[];
    expect(left.some(({ leftBehind }) => leftBehind)).toBe(true);
    for (const { path, leftBehind } of left) expect([path, leftBehind !== undefined]).toEqual([path, named(path).length > 0]);
    const keeping = compass("restore", volume, "--to", join(work, "kept"), "--keep-streams", ...wanted).lines() as unknown as Line[];
    for (const { path, output, leftBehind } of keeping.filter((each) => each.output)) {
      const there = spawnSync("getfattr", ["--absolute-names", "--", output], { encoding: "utf8" }).stdout ?? "";
      // Each stream is there, or reported.
      for (const name of named(path)) expect(there.includes(`user.${name}\n`) || leftBehind?.join().includes(name)).toBe(true);
      if (leftBehind) expect(named(path).length).toBeGreaterThan(0);
    }
    expect(compass("restore", volume, "--to", join(work, "kept"), "--keep-streams", "--two-file").code).toBe(2);
    const to = join(work, "two files");
    const rehearsed = compass("rehearse", volume, "--to", to, "--two-file", ...wanted).lines() as unknown as Line[];
    const done = compass("restore", volume, "--to", to, "--two-file", ...wanted).lines() as unknown as Line[];
    expect(rehearsed.flatMap(({ target }) => (target ? [target] : [])).sort()).toEqual(filesIn(to).sort());
    const seconds = done.filter(({ path }) => /\/\._[^/]*$/.test(path));
    expect(seconds).toHaveLength(left.filter(({ leftBehind }) => leftBehind).length);
    for (const { output, path } of seconds) {
      const bytes = readFileSync(output);
      expect(bytes.readUInt32BE(0)).toBe(0x00051607);
      for (const name of named(path.replace("/._", "/"))) expect(bytes.includes(`${name}\0`)).toBe(true);
    }
    expect(compass("restore", volume, "--to", to, "--two-file", "--streams").code).toBe(2);
  });

  it("a database and its log are numbered together, and never taken for another one's", () => {
    const zip = join(work, "profile.tar");
    const database = [...recordsFiles("plain").values()][0] as Buffer;
    writeFileSync(zip, tarOf({ "history.db": database, "history.db-wal": Buffer.from("the log of the lost one") }));
    const to = join(work, "profile");
    mkdirSync(to);
    writeFileSync(join(to, "history.db"), "another database");
    const done = compass("restore", zip, "--to", to, "--json").lines() as unknown as Line[];
    expect(done.map(({ output }) => output.slice(to.length + 1)).sort()).toEqual(["history (2).db", "history (2).db-wal"]);
    const orphaned = join(work, "orphaned");
    mkdirSync(orphaned);
    writeFileSync(join(orphaned, "history.db-wal"), "left by another one");
    const again = compass("restore", zip, "--to", orphaned, "--json").lines() as unknown as Line[];
    expect(again.map(({ output }) => output.slice(orphaned.length + 1)).sort()).toEqual(["history (2).db", "history (2).db-wal"]);
  });

  it("rehearse says what a restore would do, and writes nothing", () => {
    const to = join(work, "rehearsed");
    const before = compass("rehearse", small, "--to", to, "--json");
    expect(existsSync(to)).toBe(false);
    const said = before.lines();
    const { sums } = said.at(-1) as { sums: Record<string, number | boolean> };
    expect(sums).toMatchObject({
      files: truth.length,
      conflicts: 0,
      unwritable: 0,
      fits: true,
      bytes: truth.reduce((sum, { size = 0 }) => sum + size, 0),
    });
    compass("restore", small, "--to", to);
    // What it said is what was done.
    expect(filesIn(to).sort()).toEqual(
      said
        .slice(0, -1)
        .map(({ target }) => String(target))
        .sort(),
    );
    const after = compass("rehearse", small, "--to", to, "--json").lines().at(-1) as { sums: Record<string, number> };
    expect(after.sums.conflicts).toBe(truth.length);
  });
});

describe("a package", () => {
  const bag = join(work, "bag");
  beforeAll(() => {
    expect(compass("restore", small, "--to", bag, "--package", "bagit").code).toBe(0);
  });

  it("is a bag as RFC 8493 has it, by the general tools' own reckoning", () => {
    expect(readFileSync(join(bag, "bagit.txt"), "utf8")).toBe("BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n");
    for (const algorithm of ["sha256", "sha512"])
      for (const manifest of [`manifest-${algorithm}.txt`, `tagmanifest-${algorithm}.txt`]) {
        const done = spawnSync(`${algorithm}sum`, ["--strict", "-c", manifest], { cwd: bag, encoding: "utf8" });
        expect(done.status, done.stderr).toBe(0);
      }
    const payload = filesIn(join(bag, "data"));
    expect(payload).toHaveLength(truth.length);
    const bytes = Number(
      spawnSync("sh", ["-c", "find data -type f -printf '%s\\n' | awk '{n+=$1} END {print n}'"], { cwd: bag, encoding: "utf8" }).stdout,
    );
    expect(readFileSync(join(bag, "bag-info.txt"), "utf8")).toContain(`Payload-Oxum: ${bytes}.${payload.length}\n`);
  });

  it("is verified; every change to it is found and named", () => {
    expect(compass("verify", bag).code).toBe(0);
    const [victim = ""] = filesIn(join(bag, "data")).filter((path) => path.endsWith(".CSV"));
    const file = join(bag, "data", victim);
    const changes: [string, () => void, () => void][] = [
      [victim, () => appendFileSync(file, "x"), () => writeFileSync(file, readFileSync(file).subarray(0, -1))],
      [victim, () => renameSync(file, `${file}.gone`), () => renameSync(`${file}.gone`, file)],
      ["added.txt", () => writeFileSync(join(bag, "data", "added.txt"), ""), () => rmSync(join(bag, "data", "added.txt"))],
      ["link", () => symlinkSync("/etc/hostname", join(bag, "data", "link")), () => rmSync(join(bag, "data", "link"))],
      [
        "bag-info.txt",
        () => appendFileSync(join(bag, "bag-info.txt"), "More: x\n"),
        () => writeFileSync(join(bag, "bag-info.txt"), readFileSync(join(bag, "bag-info.txt"), "utf8").replace("More: x\n", "")),
      ],
      [
        "bagit.txt",
        () => writeFileSync(join(bag, "bagit.txt"), "nothing"),
        () => writeFileSync(join(bag, "bagit.txt"), "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"),
      ],
    ];
    for (const [name, change, undo] of changes) {
      change();
      const { code, lines } = compass("verify", bag, "--json");
      expect(code, name).toBe(1);
      expect(
        lines().some(({ path }) => String(path).includes(name)),
        name,
      ).toBe(true);
      undo();
    }
    expect(compass("verify", bag).code).toBe(0);
  });

  it("needs a folder of its own", () => {
    expect(compass("restore", small, "--to", bag, "--package", "bagit").code).toBe(2);
    expect(compass("restore", small, "--to", join(work, "x"), "--package", "zip").code).toBe(2);
    expect(compass("verify", work).code).toBe(2);
  });

  it("with a handover in it must be known to that, and its log must be the chain it was", () => {
    const handover = join(bag, "handover.json");
    const hashes = readFileSync(join(bag, "manifest-sha256.txt"), "utf8")
      .trim()
      .split("\n")
      .map((line) => line.slice(0, 64));
    const entries = ["Job made", "Restore started", "Restore finished"].map((what, index) => ({
      at: `2026-03-12T10:0${index}:00.000Z`,
      what,
      detail: { index },
    }));
    const log: ((typeof entries)[number] & { hash: string })[] = [];
    for (const entry of entries) log.push({ ...entry, hash: hashEntry(log.at(-1)?.hash ?? null, entry) });
    const write = (change: object = {}) =>
      writeFileSync(
        handover,
        JSON.stringify({
          format: "recovery-handover",
          version: 1,
          log,
          logHash: log.at(-1)?.hash,
          restores: [{ results: hashes.map((sha256) => ({ state: "verified", sha256 })) }],
          ...change,
        }),
      );
    write();
    expect(compass("verify", bag).code).toBe(0);
    expect(compass("verify", handover, "--json").lines()).toEqual([{ entries: 3, unchained: 0, lastHash: log.at(-1)?.hash, problems: 0 }]);
    // Another log with hashes of its own holds together as well: only its last hash gives it away, so that is always said.
    const forged = { at: "2026-03-12T10:00:00.000Z", what: "Job made", detail: {} };
    write({ log: [{ ...forged, hash: hashEntry(null, forged) }], logHash: hashEntry(null, forged) });
    expect(compass("verify", handover, "--json").lines()).toEqual([
      { entries: 1, unchained: 0, lastHash: hashEntry(null, forged), problems: 0 },
    ]);
    write({ log: log.toSpliced(1, 1) });
    expect(compass("verify", handover).code).toBe(1);
    write({ log: log.slice(0, 2) });
    expect(compass("verify", bag).code).toBe(1);
    write({ restores: [{ results: hashes.slice(1).map((sha256) => ({ state: "verified", sha256 })) }] });
    expect(compass("verify", bag, "--json").lines()).toHaveLength(2);
    write({ restores: [{ results: hashes.map((sha256) => ({ state: "failed", sha256 })) }] });
    expect(compass("verify", bag).code).toBe(1);
    writeFileSync(handover, "{");
    expect(compass("verify", handover).code).toBe(1);
    rmSync(handover);
    expect(compass("verify", bag).code).toBe(0);
  });
});
