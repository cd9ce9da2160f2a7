import { createHash } from "node:crypto";
import { mkdirSync, mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { beforeAll, describe, expect, it } from "vitest";
import { layOut } from "../demo/lay-out";
import { compass } from "../tests/support/command-line";
import { carveImage, labFiles } from "../tests/support/lab-files";
import { setTruth, unpackSet } from "../tests/support/set-truth";
import { snapshotDisk, snapshotTruth } from "../tests/support/snapshot-truth";
import { fixture, pathOf, readTruth } from "../tests/support/volume-truth";

const work = mkdtempSync(join(tmpdir(), "compass-cli-"));
const image = join(work, "ntfs-gpt.img");

beforeAll(() => writeFileSync(image, fixture("ntfs-gpt.img.gz")));

describe("the command line", () => {
  const truth = readTruth("ntfs-gpt");
  /** The NTFS volume comes after an EFI and a reserved partition. */
  const VOLUME = "2";

  it("inspect lists each volume", () => {
    const { code, lines } = compass("inspect", image, "--json");
    expect(code).toBe(0);
    const ntfs = lines().find((line) => line.filesystem === "ntfs");
    expect(ntfs).toMatchObject({
      container: "raw",
      table: "gpt",
      offset: truth.volume.partitionOffset,
      clusterSize: truth.volume.clusterSize,
    });
    expect(Object.keys(ntfs ?? {})).toEqual(
      expect.arrayContaining(["volume", "container", "table", "offset", "length", "filesystem", "label", "clusterSize", "notes"]),
    );
  });

  it("list writes each copy in the promised form, the system's own files only when asked", () => {
    const { code, lines } = compass("list", image, "--volume", VOLUME, "--state", "deleted", "--json");
    expect(code).toBe(0);
    const copies = lines();
    expect(copies.length).toBeGreaterThan(100);
    for (const copy of copies) {
      expect(copy).toMatchObject({ volume: Number(VOLUME), place: "file-record", state: "deleted" });
      expect(["whole", "partial", "name-only", "not-checked"]).toContain(copy.condition);
      expect(String(copy.path)).toMatch(/^\//);
      expect(String(copy.path).normalize("NFC")).toBe(copy.path);
      if (copy.modified !== null) expect(new Date(String(copy.modified)).toISOString()).toBe(copy.modified);
    }
    expect(compass("list", image, "--volume", VOLUME).out).not.toContain("/$MFT");
    expect(compass("list", image, "--volume", VOLUME, "--system").out).toContain("/$MFT");
  });

  it("restore writes the matching files, each with the hash the driver's content has", () => {
    const to = join(work, "out");
    const { lines } = compass("restore", image, "--to", to, "--volume", VOLUME, "--state", "live", "--match", "*.docx", "--json");
    const hashes = new Map(truth.entries.map((entry) => [pathOf(entry), entry.sha256]));
    const results = lines();
    expect(results.length).toBeGreaterThan(2);
    for (const result of results) {
      expect(result.sha256, String(result.path)).toBe(hashes.get(String(result.path)));
      expect(
        createHash("sha256")
          .update(readFileSync(String(result.output)))
          .digest("hex"),
      ).toBe(result.sha256);
    }
  });

  it("inspect, list and restore cover containers, lost volumes, streams, links and what is left over from before a format", () => {
    const put = (name: string, from: string) => {
      const path = join(work, name);
      writeFileSync(path, fixture(from));
      return path;
    };
    const child = put("child.vhd", "diff-child.vhd.gz");
    const missing = compass("inspect", child, "--json");
    expect([missing.code, missing.out]).toEqual([3, ""]);
    expect(missing.err).toContain("which is not beside it");
    mkdirSync(join(work, "elsewhere"));
    const parent = put("elsewhere/parent.vhd", "diff-parent.vhd.gz");
    const given = compass("inspect", child, "--beside", parent, "--json", "--findings").lines();
    expect(given[0]).toMatchObject({
      container: "vhd",
      filesystem: "ntfs",
      standing: "present",
      findings: [],
      identity: expect.any(String),
    });
    expect(given[0]?.profiles).toEqual(expect.arrayContaining([expect.objectContaining({ path: "/Users/jbrevik", account: "not known" })]));
    expect(given.map((each) => each.filesystem)).toEqual(["ntfs", "fat16"]);

    const features = put("features.img", "ntfs-features.img.gz");
    const { entries } = JSON.parse(fixture("ntfs-features.json.gz").toString()) as {
      entries: { path: string; sha256: string; streams?: Record<string, string>; deletedAt?: string }[];
    };
    const listed = compass("list", features, "--json").lines();
    const letter = entries.find((entry) => entry.streams);
    const line = listed.find((each) => each.path === letter?.path);
    expect(line).toMatchObject({ links: 2 });
    expect(((line?.streams ?? []) as { name: string }[]).map((stream) => stream.name).sort()).toEqual(
      Object.keys(letter?.streams ?? {}).sort(),
    );
    expect(listed.filter((each) => each.encrypted).map((each) => each.path)).toEqual(["/Papers/sealed.bin"]);
    const dated = entries.find((entry) => entry.deletedAt);
    expect(listed.find((each) => each.path === dated?.path)).toMatchObject({ deletedAt: dated?.deletedAt, state: "deleted" });
    const restored = compass(
      "restore",
      features,
      "--to",
      join(work, "features"),
      "--match",
      "/Papers/letter.txt",
      "--streams",
      "--json",
    ).lines();
    expect(new Set(restored.map((each) => each.sha256))).toEqual(new Set([letter?.sha256, ...Object.values(letter?.streams ?? {})]));
    const coded = entries.filter((entry) => entry.path.startsWith("/System/"));
    const plain = compass("restore", features, "--to", join(work, "plain"), "--match", "/System/*", "--json").lines();
    expect(new Set(plain.map((each) => each.sha256))).toEqual(new Set(coded.map((entry) => entry.sha256)));

    const card = put("card.img", "camera-formatted.img.gz");
    const pictures = compass("list", card, "--json")
      .lines()
      .filter((each) => String(each.path).startsWith("/DCIM/100LUMOR/"));
    // Films are there too, but what is coded in them is not followed: they are not called whole.
    const found = pictures.filter((each) => each.place === "leftover-record");
    expect(found.filter((each) => each.condition === "whole").length).toBe(6);
    expect(found.filter((each) => each.condition === "not-checked" && /\.(MOV|MP4)$/.test(String(each.path))).length).toBe(2);
    expect(compass("list", card, "--records-only").out).toBe("");
  });

  it("places lists what is in bins and autosave places under the right names, of images and of folders", () => {
    const { code, lines } = compass("places", image, "--volume", VOLUME, "--json");
    expect(code).toBe(0);
    const bin = lines().filter((line) => line.place === "bin");
    const letter = bin.find((line) => line.restoreName === "Vertrag Ellsby.docx");
    expect(letter).toMatchObject({
      volume: Number(VOLUME),
      state: "live",
      rule: "windows-bin",
      restorePath: "/Users/Marta Ilvesen/Documents/Vertrag Ellsby.docx",
      deletedAt: "2020-10-16T15:48:43.000Z",
    });
    expect(String(letter?.path)).toContain("/$Recycle.Bin/");
    expect(bin.filter((line) => line.state === "deleted").length).toBeGreaterThan(2);
    const folder = join(work, "drive");
    layOut(
      {
        "Users/mo/AppData/AutoRecovery save of Plan.asd": {
          content: Buffer.from("{\\rtf1 words}").toString("base64"),
          modified: "2026-03-01T10:00:00Z",
        },
      },
      folder,
    );
    expect(compass("places", folder, "--json").lines()).toMatchObject([
      { place: "autosave", restoreName: "Plan.rtf", modified: "2026-03-01T10:00:00.000Z" },
    ]);
    expect(compass("places", join(work, "gone")).code).toBe(3);
  });

  it("plan names where to look and why, from what is known", () => {
    const file = join(work, "account.json");
    writeFileSync(file, JSON.stringify({ cause: "bin-emptied", system: "windows", lost: "12 March 2026", nameHint: "minutes" }));
    const { code, lines, err } = compass("plan", "--account", file, image, "--json");
    expect(code).toBe(0);
    const steps = lines();
    expect(steps[0]).toMatchObject({ kind: "bin", source: image, pass: { place: "known-places", options: { places: ["bin"] } } });
    expect(steps.find((step) => step.kind === "file-records" && step.volume === Number(VOLUME))).toBeDefined();
    expect(err).toContain("Advised against");
    expect(compass("plan", "--json").lines().length).toBeGreaterThan(3);
    writeFileSync(file, JSON.stringify({ cause: "eaten by the dog" }));
    expect(compass("plan", "--account", file)).toMatchObject({ code: 2, err: expect.stringContaining("cause") });
  });

  it("sweep lists files found by their content, of a part and of some kinds, and ties what stands in others to them", {
    timeout: 60_000,
  }, () => {
    const card = join(work, "carve.img");
    writeFileSync(card, fixture("carve.img.gz"));
    const { files } = carveImage();
    const { code, lines } = compass("sweep", card, "--range", "0%-50%", "--kinds", "jpeg,pdf,tar", "--every-byte", "--json");
    expect(code).toBe(0);
    const found = lines();
    for (const each of found) {
      expect(Object.keys(each)).toEqual(expect.arrayContaining(["format", "at", "size", "condition", "name", "segments"]));
      expect(["jpeg", "pdf", "tar"]).toContain(each.format);
      expect((each.segments as [number, number][]).reduce((sum, [, length]) => sum + length, 0)).toBe(each.size);
    }
    const photo = files.find(({ path }) => path === "LMR_0232.JPG");
    expect(found.find(({ at }) => at === photo?.firstOffset)).toMatchObject({
      condition: "whole",
      size: photo?.size,
      segments: photo?.extents.map(([, at, length]) => [at, length]),
    });
    const archive = files.find(({ path }) => path === "backup.tar");
    expect(found.some(({ parent, format }) => parent === archive?.firstOffset && format === "jpeg")).toBe(true);
    for (const args of [
      ["--range", "90%-10%"],
      ["--range", "a-b"],
      ["--kinds", "nonsense"],
    ])
      expect(compass("sweep", card, ...args).code).toBe(2);
    // Of a volume, only what it has not in use: there its deleted files' content stands.
    const unused = compass("sweep", image, "--volume", VOLUME, "--unused", "--kinds", "pictures", "--json").lines();
    expect(unused.length).toBeGreaterThan(5);
  });

  it("repair writes what can be saved to another file, and never over one that is there", () => {
    const lab = labFiles();
    const [broken, sound, to] = ["broken.jpg", "sound.jpg", "mended.jpg"].map((name) => join(work, name)) as [string, string, string];
    writeFileSync(broken, lab.bytes("no-header-plain-baseline.jpg"));
    writeFileSync(sound, lab.bytes("good-plain-baseline.jpg"));
    expect(compass("repair", broken, "--to", to, "--json").lines()[0]).toMatchObject({ repaired: false });
    const [line] = compass("repair", broken, "--like", sound, "--to", to, "--json").lines();
    expect(line).toMatchObject({ repaired: true, format: "jpeg", after: { verdict: "sound" } });
    expect(readFileSync(to).equals(readFileSync(sound))).toBe(true);
    expect(compass("repair", broken, "--like", sound, "--to", to).code).toBe(2);
    expect(compass("check", to, "--json").lines()[0]).toMatchObject({ format: "jpeg", opens: true });
  });

  it("check says whether files open", () => {
    const cut = join(work, "cut.png");
    writeFileSync(cut, Buffer.from("89504e470d0a1a0a0000000d49484452", "hex"));
    const { code, lines } = compass("check", cut, "--json");
    expect(code).toBe(1);
    expect(lines()[0]).toMatchObject({ file: cut, format: "png", opens: false });
    const words = join(work, "words.txt");
    writeFileSync(words, "The harbour lies quiet tonight, and nobody can tell where this ends.\n");
    expect(compass("check", words, "--json").lines()[0]).toMatchObject({ opens: null, reason: expect.any(String) });
  });
});

describe("stores on the command line", () => {
  const drive = join(work, "nested.img");
  const truth = JSON.parse(fixture("nested.json.gz").toString()) as {
    "/Backups/laptop.vhdx": Record<string, { path: string; state: string; size: number; sha256: string }[]>;
  };
  const blue = truth["/Backups/laptop.vhdx"]["/Sticks/blue stick.img"] ?? [];
  let stick: string;
  beforeAll(() => {
    writeFileSync(drive, fixture("nested.img.gz"));
    const stores = compass("stores", drive, "--deep", "--json").lines();
    stick = String(stores.find(({ label, store }) => label === "BLUE" && String(store).includes("/Backups/"))?.store);
  });

  it("are lines in the promised form, and without --deep those of the disk alone", () => {
    const { code, lines } = compass("stores", drive, "--json");
    expect(code).toBe(0);
    for (const line of lines()) {
      expect(Object.keys(line)).toEqual(
        expect.arrayContaining(["store", "parent", "kind", "label", "set", "machine", "user", "asOf", "closed", "notes"]),
      );
      expect(line).toMatchObject({ set: null, machine: null, user: null, asOf: null, closed: null });
    }
    expect(lines().map(({ kind, parent }) => [kind, parent])).toEqual([
      ["image", null],
      ["volume", "image"],
      ["volume", "image"],
    ]);
    expect(compass("stores", drive).out).toContain("Backup drive");
  });

  it("are listed, swept and restored byte for byte by their id, three disks deep", () => {
    const listed = compass("list", drive, "--store", stick, "--json");
    expect(listed.code).toBe(0);
    const files = listed.lines().filter(({ type }) => type === "file");
    expect(files.map(({ path, state, size }) => [path, state, size]).sort()).toEqual(
      blue.map(({ path, state, size }) => [path, state, size]).sort(),
    );
    const swept = compass("sweep", drive, "--store", stick, "--json").lines();
    const minutes = files.find(({ path }) => String(path).endsWith(".txt")) as { size: number; segments: { at: number }[] };
    expect(swept).toContainEqual(expect.objectContaining({ at: minutes.segments[0]?.at, size: minutes.size }));
    const to = join(work, "from the stick");
    const restored = compass("restore", drive, "--store", stick, "--to", to, "--json").lines();
    expect(restored.map(({ sha256 }) => sha256).sort()).toEqual(blue.map(({ sha256 }) => sha256).sort());
    const written = join(to, "Minutes", "spring meeting.txt");
    expect(createHash("sha256").update(readFileSync(written)).digest("hex")).toBe(
      blue.find(({ path }) => path.endsWith("meeting.txt"))?.sha256,
    );
    expect(compass("places", drive, "--store", stick, "--json").code).toBe(0);
  });

  it("that there are not, or that are no volumes, are said to be so", () => {
    expect(compass("list", drive, "--store", "image/volume@77")).toMatchObject({ code: 2, out: "" });
    expect(compass("list", drive, "--store", stick, "--volume", "0").err).toContain("leave --volume out");
    const folder = join(work, "folder of images");
    mkdirSync(folder);
    writeFileSync(join(folder, "letter.txt"), "Dear all");
    expect(compass("list", folder, "--store", "folder").out).toContain("/letter.txt");
    const inside = compass("restore", folder, "--store", "folder", "--to", join(folder, "deep", "er"));
    expect([inside.code, inside.err]).toEqual([2, expect.stringContaining("lies in it")]);
    expect(compass("stores", join(work, "gone.img")).code).toBe(3);
  });

  it("stores, list, restore and versions go through the states of backup sets and snapshots", () => {
    const disk = join(work, "snapshots.img");
    writeFileSync(disk, snapshotDisk());
    const states = compass("stores", disk, "--json").lines();
    const snapshots = states.filter(({ kind }) => kind === "snapshot");
    expect(snapshots.map(({ asOf, machine }) => [asOf, machine])).toEqual(
      snapshotTruth.snapshots.map(({ created, machine }) => [new Date(created).toISOString(), machine]),
    );
    expect(new Set(snapshots.map(({ set }) => set)).size).toBe(1);
    const [, second] = snapshots;
    const listed = compass("list", disk, "--store", String(second?.store), "--records-only", "--state", "live", "--json").lines();
    const tree = snapshotTruth.states[1]?.tree ?? {};
    for (const path of Object.keys(tree)) expect(listed.map((line) => line.path)).toContain(`/${path.normalize("NFC")}`);
    // The same by its date.
    const day = String(second?.asOf).slice(0, 10);
    const asOf = compass("list", disk, "--as-of", day, "--records-only", "--state", "live", "--json").lines();
    expect(asOf.map(({ path }) => path)).toEqual(listed.map(({ path }) => path));
    expect(new Set(asOf.map(({ store }) => store))).toEqual(new Set([second?.store]));
    // Every content of a file that changed, each with the states that have it.
    const changed = snapshotTruth.files.find(({ versions }) => versions.length > 2);
    const found = compass("versions", disk, changed?.path ?? "", "--json").lines();
    expect(new Set(found.map(({ sha256 }) => sha256))).toEqual(new Set(changed?.versions.map(({ sha256 }) => sha256)));

    const sets = unpackSet("archive-sets", work);
    const to = join(work, "as it was");
    const restored = compass("restore", sets, "--as-of", "2025-09-30", "--to", to, "--json");
    const results = restored.lines();
    expect(results.length).toBeGreaterThan(100);
    const truth = setTruth("archive-sets");
    const last = truth.runs?.find(({ date }) => date === "2025-09-21T17:00:11Z");
    for (const [path, v] of Object.entries(last?.tree ?? {})) {
      const version = truth.files.find((file) => file.path === path)?.versions.find((each) => each.v === v);
      const result = results.find((each) => each.path === `/${path}`.normalize("NFC"));
      expect(result?.sha256, path).toBe(version?.sha256);
      expect(
        createHash("sha256")
          .update(readFileSync(String(result?.output)))
          .digest("hex"),
      ).toBe(version?.sha256);
    }
    expect(compass("list", sets, "--as-of", "2001-01-01").err).toContain("Nothing in");
    expect(compass("list", sets, "--as-of", "some day").code).toBe(2);
  }, 120_000);
});
