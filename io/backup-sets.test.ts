import { spawnSync } from "node:child_process";
import { appendFileSync, mkdirSync, mkdtempSync, readFileSync, rmSync, statSync, utimesSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { readBytes } from "../core/bytes/byte-source";
import { copyInTree } from "../core/places/copy-in-tree";
import { type MacEntry, macBytes, macTruth } from "../tests/support/mac-truth";
import { compareMoment, filesIn, type SetMoment, setImage, setTruth, unpackSet } from "../tests/support/set-truth";
import { openStore } from "./open-store";
import { listStores, type Store } from "./stores";

let work: string;
beforeAll(() => {
  work = mkdtempSync(join(tmpdir(), "compass-sets-"));
});
afterAll(() => rmSync(work, { recursive: true, force: true }));

const storesOf = (sourcePath: string): Store[] => [...listStores({ sourcePath }, true)];
const statesOf = (sourcePath: string): Store[] => storesOf(sourcePath).filter(({ kind }) => kind === "state");
const secondsFrom = (store: Store, date: string) => Math.abs((store.asOf ?? 0) - Date.parse(date)) / 1000;

/** Paths of versions that are damaged, missing or lost by the manifest: what stands there instead cannot be what the client had. */
const hurt = (paths: readonly string[], known: ReadonlySet<string>) => paths.filter((path) => !known.has(path));

describe("dated copies", () => {
  const truth = setTruth("dated-copies");
  let states: Store[];
  beforeAll(() => {
    states = statesOf(unpackSet("dated-copies", work));
  });
  const storeOf = ({ user, date = "", clockSaid }: SetMoment) =>
    states.find((state) => state.user === user && state.label === (clockSaid ?? date).slice(0, 19).replace("T", " "));

  it("are sets by user and computer, a state for each run, a wrong clock noted and put where it belongs", () => {
    expect(states).toHaveLength(truth.runs?.length ?? 0);
    for (const run of truth.runs ?? []) {
      const state = storeOf(run);
      expect(state, run.date).toMatchObject({ machine: run.machine, user: run.user });
      // By its clock a run of another year; by the sizes of its files between the runs around it.
      expect(secondsFrom(state as Store, run.date ?? "")).toBeLessThan(run.clockSaid ? 14 * 86_400 : 1);
      expect((state as Store).notes.some((note) => note.includes("clock was wrong at this run"))).toBe(run.clockSaid !== undefined);
    }
  });

  it("give the tree of each run with the bytes of that time; what is missing or broke off is not called whole", { tags: "long" }, () => {
    // A version that is missing shows as the one before it, a copy that broke off as what is there.
    const known = new Set([
      "C:/Users/ilse.korvath/Documents/Inventar/Choir tour.json",
      "C:/Users/ilse.korvath/Desktop/Angebot Hallbrück.docx",
      "C:/Users/ilse.korvath/Documents/Choir tour.json",
    ]);
    const brokeOff = new Set(truth.files.filter(({ versions }) => versions.some((each) => each.brokeOff)).map(({ path }) => path));
    let [exact, wanted] = [0, 0];
    for (const run of truth.runs ?? []) {
      const result = compareMoment(truth, run, storeOf(run) as Store);
      exact += result.exact;
      wanted += Object.keys(run.tree ?? {}).length;
      expect(
        hurt(
          result.missing.filter((path) => !path.includes("/Pictures/Bewerbung/")),
          known,
        ),
        run.date,
      ).toEqual([]);
      expect(hurt(result.wrong, new Set([...known, ...brokeOff])), run.date).toEqual([]);
      // Of three kinds of files that broke off two have a structure that tells it, and one is empty.
      expect(hurt(result.lies, known), run.date).toEqual([]);
    }
    expect(exact / wanted).toBeGreaterThan(0.95);
  });
});

describe("dated copies on a backup drive that was imaged", () => {
  it("are found on its volume, with versions a clean-up deleted", { tags: "long" }, () => {
    const truth = setTruth("dated-copies-disk");
    const path = join(work, "copies.img");
    writeFileSync(path, setImage("dated-copies-disk"));
    const states = statesOf(path);
    // One file, that with the longest name, was copied by itself.
    expect(states).toHaveLength((truth.runs?.length ?? 0) + 1);
    let deleted = 0;
    for (const run of truth.runs ?? []) {
      const state = states.find(({ label }) => label === (run.date ?? "").slice(0, 19).replace("T", " ")) as Store;
      expect(compareMoment(truth, run, state), run.date).toMatchObject({ missing: [], wrong: [] });
      deleted += [...filesIn(state).values()].filter(({ copy }) => copy.state === "deleted").length;
    }
    expect(deleted).toBeGreaterThan(0);
  });
});

describe("dated trees with hard links", () => {
  const truth = setTruth("linked-trees");
  let states: Store[];
  beforeAll(() => {
    states = statesOf(unpackSet("linked-trees", work));
  });

  it("are sets by computer, with the moments of their states in UTC, and one that was not finished", () => {
    expect(states).toHaveLength((truth.states?.length ?? 0) + (truth.unfinished?.length ?? 0));
    for (const state of truth.states ?? []) {
      const store = states.find(({ label, machine }) => label === state.state && machine === state.machine) as Store;
      expect(secondsFrom(store, state.date ?? ""), state.state).toBeLessThan(1);
    }
    const unfinished = states.filter(({ notes }) => notes.some((note) => note.includes("This state was not finished")));
    expect(unfinished.map(({ machine }) => machine)).toEqual(truth.unfinished?.map(({ machine }) => machine));
    const files = filesIn(unfinished[0] as Store);
    for (const [path, { sha256 }] of Object.entries(truth.unfinished?.[0]?.whole ?? {}))
      expect(files.get(path.normalize("NFC"))?.hash).toBe(sha256);
  });

  it("give each state with all its files byte by byte; a folder the backup lost is named", { tags: "long" }, () => {
    let exact = 0;
    for (const state of truth.states ?? []) {
      const store = states.find(({ label, machine }) => label === state.state && machine === state.machine) as Store;
      const result = compareMoment(truth, state, store);
      exact += result.exact;
      expect(result, state.state).toMatchObject({ wrong: [], extra: [] });
      const lost = store.notes.some((note) => note.includes("“/Users/Mattis Okonru/Pictures” is missing"));
      expect(result.missing.length > 0, state.state).toBe(lost);
    }
    expect(exact).toBe(7402);
  });
});

describe("dated trees on an imaged Mac drive", () => {
  it("are read with their linked folders; a state that was deleted comes back as far as it is there", () => {
    const path = join(work, "mac backup.img");
    writeFileSync(path, macBytes("hfsplus-backupdisk"));
    const states = statesOf(path);
    const { entries } = macTruth("hfsplus-backupdisk");
    const root = "Backups.backupdb/Maribels Notebook";
    const inState = (label: string | null) =>
      entries.filter((entry) => entry.type === "file" && entry.path.startsWith(`${root}/${label}/`));
    expect(states.map(({ machine, label }) => [machine, label])).toEqual(
      ["2023-01-05-101530", "2023-02-05-101612", "2023-03-05-101544", "2023-03-12-101609", "2023-03-19-101558"].map((label) => [
        "Maribels Notebook",
        label,
      ]),
    );
    const own = (entry: MacEntry, label: string | null) => entry.path.slice(`${root}/${label}/Fennmoor HD/`.length).normalize("NFC");
    for (const state of states.slice(1)) {
      const files = filesIn(state);
      const live = inState(state.label).filter((entry) => entry.state === "live");
      expect(live.length).toBeGreaterThan(10);
      for (const entry of live) expect(files.get(own(entry, state.label))?.hash, entry.path).toBe(entry.sha256);
    }
    const [oldest] = states as [Store];
    expect(oldest.notes.join()).toContain("was deleted from the disk");
    const files = filesIn(oldest);
    for (const { copy, hash } of files.values()) {
      const entry = inState(oldest.label).find((each) => own(each, oldest.label) === copy.path.slice(1).normalize("NFC"));
      expect(copy.state).toBe("deleted");
      if (entry && copy.condition === "whole") expect(hash, copy.path).toBe(entry.sha256);
    }
    expect([...files.values()].filter(({ copy }) => copy.condition === "whole").length).toBeGreaterThan(5);
  });
});

describe("folders copied by hand", () => {
  it("are states of what they are copies of; a name that was copied along is known by its files' dates", { tags: "long" }, () => {
    const truth = setTruth("folder-copies");
    const states = statesOf(unpackSet("folder-copies", work));
    const copies = (truth.copies ?? []).filter(({ living }) => !living);
    expect(states.map(({ label }) => label).sort()).toEqual(copies.map(({ copy }) => copy).sort());
    for (const copy of copies) {
      const store = states.find(({ label }) => label === copy.copy) as Store;
      const base = copy.of === "(the whole tree)" ? "now" : `now/${copy.of}`;
      const result = compareMoment(truth, copy, store, (path) => `${base}/${path}`);
      expect(result, copy.copy).toMatchObject({ missing: [], lies: [], extra: [] });
      // The date in a name, or that of the newest file: within three days of the truth.
      expect(secondsFrom(store, copy.made ?? "")).toBeLessThan(3 * 86_400);
      expect(store.notes.some((note) => note.includes("copied along"))).toBe(copy.copy === "Backup 2026-02-01 (2)");
    }
  });
});

describe("folders and archives that people name by dates in their own way", () => {
  /** Letters, written to last on a day. */
  function letters(folder: string, day: string, version: string): void {
    mkdirSync(folder, { recursive: true });
    for (const name of ["one.txt", "two.txt", "three.txt", "four.txt"]) {
      const at = join(folder, name);
      writeFileSync(at, `${name} ${name === "one.txt" ? version : "as ever"}`);
      utimesSync(at, new Date(day), new Date(day));
    }
  }

  it("have the day that goes with their files and the names beside them; where it can be another, that is noted", () => {
    const root = join(work, "named by hand");
    letters(join(root, "Letters"), "2026-04-20T10:00:00Z", "now");
    letters(join(root, "Copies", "Letters of 12 March 2026"), "2026-03-10T10:00:00Z", "of March");
    letters(join(root, "Copies", "Letters 02-04-2026"), "2026-02-03T10:00:00Z", "of February");
    letters(join(root, "Copies", "Letters 01-13-2026"), "2026-01-12T10:00:00Z", "of January");
    const states = statesOf(root);
    const dated = states.map(({ label, asOf }) => [label?.split("/").at(-1), new Date(asOf ?? 0).toISOString().slice(0, 10)]);
    expect(Object.fromEntries(dated)).toEqual({
      "Letters of 12 March 2026": "2026-03-12",
      "Letters 02-04-2026": "2026-02-04",
      "Letters 01-13-2026": "2026-01-13",
    });
    // The one beside it, in which the month stands first, leaves nothing in doubt.
    expect(states.flatMap(({ notes }) => notes.filter((note) => note.includes("can mean")))).toEqual([]);
    rmSync(join(root, "Copies", "Letters 01-13-2026"), { recursive: true });
    const doubtful = statesOf(root).find(({ label }) => label?.endsWith("02-04-2026"));
    expect(doubtful?.notes).toContainEqual(expect.stringContaining("can mean 2026-02-04 or 2026-04-02: it is taken for 2026-02-04"));
  });

  it("are one set where archives of one name lie in folders named by their dates, each a state of its own", () => {
    const root = join(work, "a folder a day");
    for (const [day, version] of [
      ["4 January 2026", "first"],
      ["11 January 2026", "second"],
      ["18 January 2026", "third"],
    ]) {
      const from = join(work, "to pack by days", String(version));
      letters(join(from, "letters"), "2026-01-03T10:00:00Z", String(version));
      // What is in the first alone was deleted since.
      if (version === "first") writeFileSync(join(from, "letters", "thrown away.txt"), "gone");
      mkdirSync(join(root, String(day)), { recursive: true });
      for (const name of ["home", "work"])
        expect(spawnSync("tar", ["-czf", join(root, String(day), `${name}.tar.gz`), "-C", from, "letters"]).status).toBe(0);
    }
    // Archives of two days can be as long as each other, and are not a folder that was copied.
    for (const name of ["home", "work"]) {
      const sizes = ["11 January 2026", "18 January 2026"].map((day) => join(root, day, `${name}.tar.gz`));
      const longest = Math.max(...sizes.map((at) => statSync(at).size));
      for (const at of sizes) appendFileSync(at, Buffer.alloc(longest - statSync(at).size));
    }
    const states = statesOf(root);
    const ofHome = states.filter(({ set }) => set?.endsWith("/home"));
    expect(states).toHaveLength(6);
    expect(ofHome.map(({ asOf }) => new Date(asOf ?? 0).toISOString().slice(0, 10))).toEqual(["2026-01-04", "2026-01-11", "2026-01-18"]);
    expect(ofHome.map((state) => filesIn(state).has("letters/thrown away.txt"))).toEqual([true, false, false]);
  });

  it("are one set where archives differ by date and time alone", () => {
    const root = join(work, "dated to the minute");
    mkdirSync(root);
    for (const stamp of ["20260104-180117", "20260111-180204", "20260118-175930"]) {
      letters(join(work, "to pack", "letters"), "2026-01-03T10:00:00Z", stamp);
      const made = spawnSync("tar", ["-czf", join(root, `home-${stamp}.tar.gz`), "-C", join(work, "to pack"), "letters"]);
      expect(made.status).toBe(0);
    }
    const states = statesOf(root);
    expect(states).toHaveLength(3);
    expect(new Set(states.map(({ set }) => set)).size).toBe(1);
    expect(states.map(({ asOf }) => new Date(asOf ?? 0).toISOString())).toEqual([
      "2026-01-04T18:01:17.000Z",
      "2026-01-11T18:02:04.000Z",
      "2026-01-18T17:59:30.000Z",
    ]);
  });
});

describe("folders that are named by a date", () => {
  it("are no copies of each other where only the names of their files are the same, as a camera gives them", { tags: "long" }, () => {
    const folder = join(work, "pictures");
    for (let day = 1; day <= 400; day += 1) {
      const at = join(
        folder,
        `2024-${String(1 + Math.floor(day / 28)).padStart(2, "0")}-${String(1 + (day % 28)).padStart(2, "0")} walk ${day}`,
      );
      mkdirSync(at, { recursive: true });
      for (let number = 1; number <= 12; number += 1)
        writeFileSync(join(at, `IMG_${1000 + number}.JPG`), "x".repeat(100 + day * 13 + number));
    }
    expect(statesOf(folder)).toEqual([]);
  });
});

describe("archive sets", () => {
  it("are runs of numbered ZIPs: split, in pieces, without list of contents, damaged or missing ones noted", { tags: "long" }, () => {
    const truth = setTruth("archive-sets");
    const states = statesOf(unpackSet("archive-sets", work));
    expect(states).toHaveLength(truth.runs?.length ?? 0);
    for (const run of truth.runs ?? []) {
      const store = states.find(({ label }) => run.folder?.endsWith(`/${label}`)) as Store;
      expect(store.machine).toBe("WERKBANK-07");
      expect(secondsFrom(store, run.date ?? "")).toBeLessThan(1);
      const result = compareMoment(truth, run, store);
      const versionOf = (path: string) =>
        truth.files.find((file) => file.path === path)?.versions.find(({ v }) => v === (run.tree?.[path] as number));
      expect(
        result.missing.filter((path) => !versionOf(path)?.lost),
        store.label ?? "",
      ).toEqual([]);
      expect(
        result.wrong.filter((path) => !versionOf(path)?.damaged && !versionOf(path)?.lost),
        store.label ?? "",
      ).toEqual([]);
      expect(result.lies, store.label ?? "").toEqual([]);
    }
    const notes = states.flatMap((state) => state.notes);
    expect(notes.filter((note) => note.includes("“Backup files 2.zip” of this run is missing"))).toHaveLength(1);
    expect(notes.filter((note) => note.includes("list of contents of this archive is gone"))).toHaveLength(2);
  });
});

describe("archives with dates in their names", () => {
  it("are states of a folder: incremental ones together, encrypted ones said, cut off and damaged ones as far as they go", {
    tags: "long",
  }, () => {
    const truth = setTruth("archives");
    const states = statesOf(unpackSet("archives", work));
    expect(states).toHaveLength(truth.archives?.length ?? 0);
    for (const archive of truth.archives ?? []) {
      const store = states.find(({ label }) => label === archive.file) as Store;
      expect(secondsFrom(store, archive.date ?? ""), archive.file).toBeLessThan(1);
      if (archive.entriesCount) {
        const files = filesIn(store);
        expect(files.size).toBe(archive.entriesCount);
        expect([...files.values()].every(({ copy }) => copy.condition === "whole")).toBe(true);
        continue;
      }
      const own = (path: string) =>
        (archive.prefix && path.startsWith(archive.prefix) ? path.slice(archive.prefix.length) : path).replace(`${archive.file}/`, "");
      const result = compareMoment(truth, archive, store, own);
      const broken = new Set([...Object.keys(archive.condition ?? {}), ...(archive.headerBroken ?? []).map(({ path }) => path)]);
      expect(result.lies, archive.file).toEqual([]);
      expect(hurt(result.missing, broken), archive.file).toEqual([]);
      if (archive.password) {
        expect(store.notes.join()).toContain("protected by a password");
        expect([...filesIn(store).values()].every(({ copy }) => copy.absent === "encrypted")).toBe(true);
      } else expect(hurt(result.wrong, broken), archive.file).toEqual([]);
    }
  });
});

describe("a part of a split archive with a number that promises thousands", () => {
  it("costs no more than its name", () => {
    const folder = join(work, "of thousands");
    mkdirSync(folder);
    writeFileSync(join(folder, "Backup 2026-01-04.z9999"), "PK\u0003\u0004 and nothing else");
    writeFileSync(join(folder, "Backup 2026-01-04.zip"), "PK\u0005\u0006");
    const began = performance.now();
    const [state] = statesOf(folder);
    expect(state?.notes.join(" ")).toContain("and 9990 others");
    expect(state?.notes.join(" ").length).toBeLessThan(1000);
    expect(performance.now() - began).toBeLessThan(10_000);
  });
});

describe("split archives of which parts are missing", () => {
  /** What is there of the files of a state, by path. */
  function contentsOf(store: Store) {
    const opened = openStore(store);
    try {
      return new Map(
        [...opened.volume.readRecords(null, 512)].flatMap(({ records }) =>
          records.flatMap((record) => {
            const found = record.type === "file" ? opened.tree.open(record) : null;
            if (!found) return [];
            const copy = copyInTree(opened.tree, record);
            const bytes = readBytes(found.content, 0, found.content.size);
            const missing = copy.layout ? copy.layout.segments : [];
            return [[record.path, { copy, bytes, missing }] as const];
          }),
        ),
      );
    } finally {
      opened.close();
    }
  }
  const firstState = (folder: string) => statesOf(folder).find(({ label }) => label?.includes("2026-01-04")) as Store;

  it.each([[["z01"]], [["z03"]], [["z10", "z11"]], [["z09", "z24"]], [["zip"]], [["z02", "zip"]]])(
    "give what stands in the others, byte for byte, and say what does not: without %j",
    { tags: "long" },
    (gone) => {
      const sound = contentsOf(firstState(unpackSet("split-backup", join(work, "all parts"))));
      const folder = unpackSet("split-backup", join(work, `without ${gone.join(" ")}`));
      for (const part of gone) rmSync(join(folder, `Backup 2026-01-04.${part}`));
      const state = firstState(folder);
      for (const part of gone)
        expect(state.notes.join(" ")).toMatch(new RegExp(`missing.*“Backup 2026-01-04.${part}”|“Backup 2026-01-04.${part}”.* is missing`));
      const found = contentsOf(state);
      let whole = 0;
      for (const [path, { copy, bytes, missing }] of found) {
        const right = sound.get(path)?.bytes as Uint8Array;
        if (copy.condition === "whole") {
          whole += 1;
          expect(Buffer.compare(bytes, right), path).toBe(0);
          continue;
        }
        // What is given of the others is right as well, and no more is promised than is given.
        expect(copy.survival, path).toBeLessThan(1);
        let at = 0;
        for (const { kind, length } of missing) {
          if (kind === "disk") expect(Buffer.compare(bytes.subarray(at, at + length), right.subarray(at, at + length)), path).toBe(0);
          at += length;
        }
      }
      expect(whole).toBeGreaterThan(0);
      expect(whole).toBeLessThan(sound.size);
    },
  );
});

describe("an archive that unpacks, and whose checksum does not agree", () => {
  it("calls nothing in it whole: no file of a TAR has a checksum of its own", () => {
    const folder = join(work, "wrong sum");
    mkdirSync(folder);
    const sound = readFileSync(join(unpackSet("archives", work), "home-2026-01-05-full.tar.gz"));
    sound[sound.length - 8] = (sound[sound.length - 8] as number) ^ 0xff;
    writeFileSync(join(folder, "home-2026-01-05-full.tar.gz"), sound);
    const [state] = statesOf(folder) as [Store];
    expect(state.notes.join()).toContain("checksum of this archive does not agree");
    const files = [...filesIn(state).values()].filter(({ copy }) => copy.size > 0);
    expect(files.length).toBeGreaterThan(60);
    expect(files.filter(({ copy }) => copy.condition === "whole")).toEqual([]);
  });
});

describe("system images", () => {
  it("are opened as the volumes they are, with their moment, and the advice not to put them back as a whole", () => {
    const truth = setTruth("system-image");
    const stores = storesOf(unpackSet("system-image", work));
    const state = truth.states?.[0] as SetMoment;
    const volumes = stores.filter(({ kind, volume }) => kind === "volume" && volume?.filesystem === "ntfs");
    expect(volumes).toHaveLength(1);
    const [volume] = volumes as [Store];
    expect(volume).toMatchObject({ machine: "WERKBANK-07", asOf: Date.parse(state.date ?? "") });
    expect(stores.find(({ id }) => id === volume.parent)?.notes.join()).toContain("replaces everything on the computer");
    expect(compareMoment(truth, state, volume)).toMatchObject({ missing: [], wrong: [] });
  });
});
