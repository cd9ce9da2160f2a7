import { mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type FoundFile, filesIn, unpackSet } from "../tests/support/set-truth";
import { listStores, type Store } from "./stores";

type Truth = Record<string, Record<string, { sha256: string; size: number; state: string }>>;

let work: string;
let stores: Store[];
// Made by Python's sqlite3, plistlib and hashlib; tests/fixtures/make-phone-backups.py.
const truth = JSON.parse(
  gunzipSync(readFileSync(join(import.meta.dirname, "../tests/fixtures/states/phone-backups.json.gz"))).toString(),
) as Truth;
beforeAll(() => {
  work = mkdtempSync(join(tmpdir(), "compass-phones-"));
  stores = [...listStores({ sourcePath: unpackSet("phone-backups", work) }, true)].filter(({ kind }) => kind === "phone");
});
afterAll(() => rmSync(work, { recursive: true, force: true }));

const stateOf = (folder: string) => stores.find(({ id }) => id.endsWith(`/${folder.split("/")[0]}/state:${folder.split("/")[1]}`)) as Store;
const at = (files: Map<string, FoundFile>, path: string) => files.get(path.replace("/../", "/_/"));

describe("backups of a phone", () => {
  it("are states of one phone with their dates, encrypted ones said at once; a list alone and one without its list are found too", () => {
    expect(stores).toHaveLength(Object.keys(truth).length);
    expect(stateOf("Backups/aaaa-first")).toMatchObject({ machine: "Mo's phone", asOf: Date.UTC(2023, 5, 3, 18, 30), closed: null });
    expect(stateOf("Backups/aaaa").set).toBe(stateOf("Backups/aaaa-first").set);
    expect(stateOf("Backups/bbbb").notes.join(" ")).toContain("encrypted");
    expect(stateOf("Old/aaaa").notes.join(" ")).toContain("Its list is gone");
  });

  it.each(["Backups/aaaa-first", "Backups/aaaa"])(
    "%s gives its files under their own names, byte by byte; what is missing or cut is not whole",
    (folder) => {
      const files = filesIn(stateOf(folder));
      for (const [path, { sha256, size, state }] of Object.entries(truth[folder] ?? {})) {
        const found = at(files, path);
        expect(found, path).toBeDefined();
        if (state === "present") expect(found?.hash, path).toBe(sha256);
        if (state === "missing") expect(found?.copy, path).toMatchObject({ absent: "named-only", size });
        if (state === "cut") expect(found?.copy, path).toMatchObject({ size, condition: "partial" });
      }
      // The link is named, and leads nowhere.
      expect(files.get("HomeDomain/Library/link")?.copy.absent).toBe("not-followed");
      expect([...files.keys()].some((path) => path.split("/").includes(".."))).toBe(false);
    },
  );

  it("that is encrypted names its files and gives no content", () => {
    const files = filesIn(stateOf("Backups/bbbb"));
    for (const path of Object.keys(truth["Backups/bbbb"] ?? {})) expect(at(files, path)?.copy.absent, path).toBe("encrypted");
  });

  it("without its list has the names other lists give; what none names stands by its hash", () => {
    const files = filesIn(stateOf("Old/aaaa"));
    for (const [path, { sha256 }] of Object.entries(truth["Old/aaaa"] ?? {})) {
      if (path.endsWith("unknown.bin")) continue;
      expect(at(files, path)?.hash, path).toBe(sha256);
    }
    const unknown = [...files].filter(([path]) => path.startsWith("without a name/"));
    expect(unknown).toHaveLength(1);
    expect(unknown[0]?.[1].hash).toBe(truth["Old/aaaa"]?.["HomeDomain/Library/unknown.bin"]?.sha256);
  });

  it("of which only the list is left tells what there was", () => {
    const files = filesIn(stateOf("List/aaaa"));
    for (const [path, { size }] of Object.entries(truth["List/aaaa"] ?? {}))
      if (size > 0) expect(at(files, path)?.copy.absent, path).toBe("named-only");
  });

  it.each(["Logged/aaaa", "Undeclared/aaaa", "Headless/aaaa"])(
    "%s: all files are named by a list of which part stands in its log, or whose columns, or first page, are gone",
    (folder) => {
      const files = filesIn(stateOf(folder));
      for (const [path, { sha256 }] of Object.entries(truth[folder] ?? {})) expect(at(files, path)?.hash, path).toBe(sha256);
      expect([...files.keys()].filter((path) => path.startsWith("without a name/"))).toEqual([]);
    },
  );

  it("gives files whose entry was deleted the name it had, where that still stands, and says so; the others stand by their hashes", () => {
    const files = filesIn(stateOf("Deleted/aaaa"));
    const all = Object.entries(truth["Deleted/aaaa"] ?? {});
    for (const [path, { sha256 }] of all.filter(([, { state }]) => state === "present")) {
      expect(at(files, path)?.hash, path).toBe(sha256);
      expect(at(files, path)?.copy.notes.join(" "), path).not.toContain("list does not name it");
    }
    const deleted = all.filter(([, { state }]) => state === "deleted entry");
    const named = deleted.filter(([path]) => at(files, path));
    for (const [path, { sha256 }] of named) {
      expect(at(files, path)?.hash, path).toBe(sha256);
      expect(at(files, path)?.copy.notes.join(" "), path).toContain("its name is from an entry that does not count any more");
    }
    // The first bytes of a deleted row are written over: of some too much is gone.
    expect(named.length).toBeGreaterThanOrEqual(deleted.length / 2);
    expect([...files.keys()].filter((path) => path.startsWith("without a name/"))).toHaveLength(deleted.length - named.length);
  });

  it("believes no name that does not give the hash it stands under, and says that the list is damaged", () => {
    const state = stateOf("Written over/aaaa");
    const files = filesIn(state);
    expect(files.has("HomeDomain/Library/Other/other.txt")).toBe(false);
    // Another backup's list still names it.
    const notes = "HomeDomain/Library/Notes/notes.txt";
    expect(at(files, notes)?.hash).toBe(truth["Written over/aaaa"]?.[notes]?.sha256);
    expect(state.notes.join(" ")).toContain("1 of its entries is damaged");
    for (const sound of ["Backups/aaaa", "Logged/aaaa", "Deleted/aaaa"])
      expect(stateOf(sound).notes.join(" "), sound).not.toMatch(/damaged/);
    expect(stateOf("Headless/aaaa").notes.join(" ")).toContain("Its list is damaged");
  });

  it("believes no name that does not give its hash, even where most entries of the list are damaged", () => {
    const state = stateOf("Mostly written over/aaaa");
    const files = filesIn(state);
    expect([...files.keys()].filter((path) => path.startsWith("CameraRollOtherX"))).toEqual([]);
    for (const [path, { sha256 }] of Object.entries(truth["Mostly written over/aaaa"] ?? {}))
      expect(at(files, path)?.hash, path).toBe(sha256);
    expect(state.notes.join(" ")).toMatch(/\d+ of its entries are damaged/);
  });
});
