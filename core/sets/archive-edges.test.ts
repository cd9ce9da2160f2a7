import { createHash } from "node:crypto";
import { mkdtempSync, readdirSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { unpackSet } from "../../tests/support/set-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { numberCheckpoint } from "../bytes/checkpoint";
import { layoutOf } from "../bytes/layout";
import { ALL_BYTES_THERE, type FileRecord, placed } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import { ArchiveChain } from "./archive-edges";
import { ArchiveSetsFinder } from "./archive-sets";

describe("a chain of numbered archives", () => {
  const edges = (name: string, first: string | null, last: string | null, isOpenEnded = false) => ({ name, first, last, isOpenEnded });
  const chain = new ArchiveChain([
    edges("Files 1", "a", "b"),
    edges("Files 2", "b", "c"),
    edges("Files 4", "d", "e", true),
    edges("Files 5", "f", "g"),
  ]);

  it.each<[string, string[], string[]]>([
    ["a", ["Files 1"], []],
    ["b", ["Files 1", "Files 2"], []],
    // It may go on in the one that is missing.
    ["c", ["Files 2"], ["Files 3"]],
    ["d", ["Files 4"], ["Files 3"]],
    ["c", ["Files 2", "Files 4"], ["Files 3"]],
    // The one before breaks off: its last piece may have stood there.
    ["f", ["Files 5"], ["Files 4"]],
    ["g", ["Files 5"], []],
    ["e", ["Files 4"], []],
  ])("%s within %j may lack what stood in %j", (path, within, expected) => {
    expect(chain.mayStandIn(path, within)).toEqual(expected);
  });

  it("says nothing of archives that are not numbered alike", () => {
    const other = new ArchiveChain([edges("Files 1", "a", "a"), edges("Rest 3", "b", "b")]);
    expect(other.mayStandIn("b", ["Rest 3"])).toEqual([]);
    expect(new ArchiveChain([]).mayStandIn("b", ["Rest 3"])).toEqual([]);
  });
});

interface Truth {
  readonly runs: readonly {
    readonly name: string;
    readonly archives: readonly string[][];
    readonly files: Readonly<Record<string, string>>;
  }[];
}

// Made by Python's zipfile, tests/fixtures/make-runs-of-archives.py.
describe("files that go on from archive to archive", () => {
  const truth = JSON.parse(
    gunzipSync(readFileSync(join(import.meta.dirname, "../../tests/fixtures/states/runs-of-archives.json.gz"))).toString(),
  ) as Truth;
  const work = mkdtempSync(join(tmpdir(), "compass-runs-"));
  const all = new Map<string, Buffer>();
  beforeAll(() => {
    const folder = unpackSet("runs-of-archives", work);
    for (const entry of readdirSync(folder, { recursive: true, withFileTypes: true }))
      if (entry.isFile()) {
        const path = join(entry.parentPath, entry.name);
        all.set(path.slice(folder.length), readFileSync(path));
      }
  });
  afterAll(() => rmSync(work, { recursive: true, force: true }));

  function treeOf(files: ReadonlyMap<string, Uint8Array>): FileTree {
    const disk = Buffer.concat([...files.values()]);
    let at = 0;
    const records = [...files].map(([path, { length }]): FileRecord => {
      const name = path.slice(path.lastIndexOf("/") + 1);
      const content = placed(layoutOf([{ kind: "disk", at, length }], length), ALL_BYTES_THERE);
      at += length;
      const facts = { created: null, modified: Date.UTC(2023, 2, 20), changed: null, system: false, streams: [], links: 1, notes: [] };
      return { reference: path, state: "live", type: "file", path, name, rawName: Buffer.from(name), size: length, content, ...facts };
    });
    return {
      serial: null,
      disk: new MemorySource(disk),
      *readRecords() {
        yield { records, resume: numberCheckpoint(1), done: 1, total: 1 };
      },
      open: ({ path }) => ({ content: new MemorySource(files.get(path) as Uint8Array), close: () => undefined }),
    };
  }

  /** What stands in each run: whether its bytes are right, and whether it is said to be all. */
  function standing(files: ReadonlyMap<string, Uint8Array>) {
    const tree = treeOf(files);
    const finder = new ArchiveSetsFinder();
    for (const { records } of tree.readRecords(null, 1)) for (const record of records) finder.note(record);
    return finder.found(tree).flatMap((set) =>
      set.states.flatMap((state) => {
        const run = truth.runs.find(({ name }) => state.label.includes(name));
        return [...set.standingIn(state, tree)].map(({ record }) => {
          const content = set.open?.(record, tree)?.content;
          const hash =
            content &&
            createHash("sha256")
              .update(readBytes(content, 0, content.size))
              .digest("hex");
          const evidence = record.content.kind === "placed" ? record.content.likeliest.evidence : null;
          const path = record.path.slice(1).replace(":", "");
          return {
            run: run?.name ?? "",
            path,
            isRight: hash === run?.files[path],
            isAll: evidence !== null && evidence.lost === 0 && (evidence.inDoubt ?? 0) === 0,
            notes: record.notes.join(" "),
          };
        });
      }),
    );
  }
  const nameOf = (run: string, number: number) => [...all.keys()].find((path) => path.endsWith(`${run}/Backup files ${number}.zip`)) ?? "";

  it("are whole while all archives are there", () => {
    const found = standing(all);
    expect(found).toHaveLength(truth.runs.reduce((sum, { files }) => sum + Object.keys(files).length, 0));
    expect(found.filter(({ isRight, isAll }) => !isRight || !isAll)).toEqual([]);
  });

  it("are never said to be all where one they may go on in is missing or cut off, whichever", () => {
    const [first] = truth.runs;
    if (!first) throw new Error("The fixture has no runs.");
    const count = first.archives.length;
    let doubted = 0;
    for (let gone = 1; gone < 1 << count; gone += 1)
      for (const how of ["missing", "cut off"]) {
        const numbers = Array.from({ length: count }, (_, i) => i + 1).filter((number) => gone & (1 << (number - 1)));
        // How many archives there were behind the last one is not recorded anywhere.
        if (numbers.length === count || (how === "missing" && numbers.includes(count))) continue;
        const files = new Map(all);
        for (const number of numbers) {
          const path = nameOf(first.name, number);
          if (how === "missing") files.delete(path);
          else files.set(path, (all.get(path) as Buffer).subarray(0, 2_000 + number * 1_000));
        }
        for (const { run, path, isRight, isAll, notes } of standing(files)) {
          if (run !== first.name) continue;
          expect(isRight || !isAll, `${numbers} ${how}: ${path}`).toBe(true);
          if (!isAll && notes.includes("It may not be all")) doubted += 1;
        }
      }
    expect(doubted).toBeGreaterThan(50);
  });
});
