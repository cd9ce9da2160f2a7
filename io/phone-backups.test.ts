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
});
