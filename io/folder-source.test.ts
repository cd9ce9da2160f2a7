import { execFileSync } from "node:child_process";
import { createHash } from "node:crypto";
import {
  chmodSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  renameSync,
  rmSync,
  statSync,
  symlinkSync,
  utimesSync,
  writeFileSync,
} from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { beforeEach, describe, expect, it } from "vitest";
import { readBytes } from "../core/bytes/byte-source";
import { type Checkpoint, numberCheckpoint } from "../core/bytes/checkpoint";
import type { Copy } from "../core/copies/copy";
import type { FileRecord } from "../core/filesystems/file-record";
import { placesPass } from "../core/places/places-pass";
import { SHIPPED_RULES } from "../core/places/rules";
import { layOut } from "../demo/lay-out";
import { fixture } from "../tests/support/volume-truth";
import { FolderSource, openFileIn, openVersion } from "./folder-source";
import { openSearchable } from "./open-searchable";

let work: string;
beforeEach(() => {
  work = mkdtempSync(join(tmpdir(), "compass-folder-"));
});

const put = (path: string, content: string) => {
  mkdirSync(dirname(join(work, path)), { recursive: true });
  writeFileSync(join(work, path), content);
};
const records = (source: FolderSource, from: Checkpoint | null = null, step = 512): FileRecord[] =>
  [...source.readRecords(from, step)].flatMap((batch) => [...batch.records]);

describe("a folder as a source", () => {
  it("gives its files and folders, with sizes, dates and content", () => {
    put("a/b/letter.txt", "words");
    put("top.txt", "");
    const source = new FolderSource(work);
    const listed = records(source);
    expect(listed.map((record) => [record.type, record.path, record.size])).toEqual([
      ["folder", "/a", 0],
      ["file", "/top.txt", 0],
      ["folder", "/a/b", 0],
      ["file", "/a/b/letter.txt", 5],
    ]);
    const letter = listed[3] as FileRecord;
    expect(letter.modified).toBe(Math.floor(statSync(join(work, "a/b/letter.txt")).mtimeMs));
    const opened = source.open(letter);
    expect(Buffer.from(readBytes(opened?.content as never, 0, 5)).toString()).toBe("words");
    opened?.close();
  });

  it("gives the bytes of every name, long ones and those that are more than ASCII among many plain ones", () => {
    for (let i = 0; i < 3000; i += 1)
      put(`${"name ".repeat(i % 5)}${["plain", "Größe", "日本", "🙂"][i % 4]} ${i}${i % 7 === 0 ? "-".repeat(200) : ""}`, "");
    const listed = records(new FolderSource(work));
    expect(listed).toHaveLength(3000);
    for (const { rawName, path } of listed) expect(Buffer.from(rawName)).toEqual(Buffer.from(path.slice(1)));
  });

  it("goes on from any point, and gives nothing twice", () => {
    for (let i = 0; i < 40; i += 1) put(`folder ${i % 7}/deep ${i % 3}/file ${i}.txt`, "x");
    const source = new FolderSource(work);
    const all = records(source).map((record) => record.path);
    for (const step of [1, 5]) {
      let given = 0;
      for (const batch of source.readRecords(null, step)) {
        given += batch.records.length;
        expect(batch.done).toBeLessThanOrEqual(batch.total);
        expect(records(new FolderSource(work), Buffer.from(batch.resume), 5).map((record) => record.path)).toEqual(all.slice(given));
      }
      expect(given).toBe(all.length);
    }
  });

  it("goes on over a tree that lives: what stands behind is given once, whatever came or went before", () => {
    for (let i = 0; i < 30; i += 1) put(`b ${i % 5}/c ${i % 2}/file ${String(i).padStart(2, "0")}.txt`, "x");
    const batches = new FolderSource(work).readRecords(null, 4);
    const before: string[] = [];
    let resume: Checkpoint | null = null;
    for (let count = 0; count < 4; count += 1) {
      const batch = batches.next().value;
      if (!batch) throw new Error("the folder has too little in it");
      before.push(...batch.records.map(({ path }) => path));
      resume = batch.resume;
    }
    const rest = records(new FolderSource(work), resume).map(({ path }) => path);
    // Entries that were given already go, others come before and behind, and the very one that was given last goes too.
    put("a new folder/first.txt", "x");
    put("b 0/0 new.txt", "x");
    put("b 4/zz behind.txt", "x");
    put("z/last.txt", "x");
    const gone = before.filter((path) => path.endsWith(".txt"));
    for (const path of gone) rmSync(join(work, path));
    rmSync(join(work, before.at(-1) as string), { recursive: true, force: true });
    const now = records(new FolderSource(work), resume).map(({ path }) => path);
    const left = rest.filter((path) => !path.startsWith(`${before.at(-1)}/`));
    expect(now.filter((path) => left.includes(path))).toEqual(left);
    expect(now.filter((path) => before.includes(path))).toEqual([]);
    expect(new Set(now).size).toBe(now.length);
    // The folder around “z” was given before “z” came; what is in “z” is behind.
    expect(now.filter((path) => !left.includes(path))).toEqual(["/b 4/zz behind.txt", "/z/last.txt"]);
  });

  it("goes on from the count of a reading that began with an earlier version of the bench", () => {
    for (let i = 0; i < 9; i += 1) put(`file ${i}.txt`, "x");
    const all = records(new FolderSource(work)).map(({ path }) => path);
    expect(records(new FolderSource(work), numberCheckpoint(4)).map(({ path }) => path)).toEqual(all.slice(4));
  });

  it("never follows links, neither to files nor to folders, nor around in a circle", () => {
    const outside = mkdtempSync(join(tmpdir(), "compass-outside-"));
    writeFileSync(join(outside, "secret.txt"), "not part of it");
    put("in/plain.txt", "plain");
    symlinkSync(outside, join(work, "in/door"));
    symlinkSync(join(outside, "secret.txt"), join(work, "in/window"));
    symlinkSync(work, join(work, "in/circle"));
    const source = new FolderSource(work);
    const listed = records(source);
    expect(listed.map((record) => record.path)).toEqual(["/in", "/in/circle", "/in/door", "/in/plain.txt", "/in/window"]);
    for (const name of ["circle", "door", "window"])
      expect(listed.find((record) => record.name === name)).toMatchObject({
        content: { kind: "absent", why: "not-followed", note: expect.stringContaining("never followed") },
      });
    for (const file of ["in/window", "in/door/secret.txt", "../secret.txt", "in/gone.txt", "in"])
      expect(() => openFileIn(work, file)).toThrow();
    // One that becomes a link after it was read.
    rmSync(join(work, "in/plain.txt"));
    symlinkSync(join(outside, "secret.txt"), join(work, "in/plain.txt"));
    expect(source.open({ ...(listed[3] as FileRecord) })).toBeNull();
  });

  // A folder's file is known by its size, its date, and when it was made.
  it("refuses a file that is another version than the one that was read", async () => {
    put("a.txt", "version one");
    const version = records(new FolderSource(work))[0] as FileRecord;
    const at = { path: "a.txt", size: version.size, modified: version.modified, created: version.created };
    openVersion(work, at).close();
    const path = join(work, "a.txt");
    const date = statSync(path).mtime;
    await new Promise((done) => setTimeout(done, 10));
    // Another file of the same length under the same date.
    writeFileSync(join(work, "b.txt"), "version two");
    utimesSync(join(work, "b.txt"), date, date);
    renameSync(join(work, "b.txt"), path);
    if (at.created !== null)
      expect(() => openVersion(work, { ...at, modified: Math.floor(statSync(path).mtimeMs) })).toThrow("another file is in its place");
    writeFileSync(path, "version 333");
    utimesSync(path, new Date(0), new Date(86_400_000));
    expect(() => openVersion(work, at)).toThrow("it was written to since");
    writeFileSync(path, "longer than before");
    expect(() => openVersion(work, at)).toThrow("it has 18 bytes now and had 11");
    // What is not known is not compared.
    openVersion(work, { ...at, size: 18, modified: null, created: null }).close();
  });

  it("does not go into another device that is mounted below it", () => {
    // The system's own devices are one that is mounted below the root everywhere.
    const first = new FolderSource("/").readRecords(null, 4000).next().value;
    const dev = first ? first.records.find((record) => record.path === "/dev") : undefined;
    expect(dev?.notes).toEqual([expect.stringContaining("Another device is mounted here")]);
  });

  it("takes names as they are, and reports those that are no text", () => {
    const names = ["line\nbreak.txt", "right\u202eto left.txt", "観測メモ.txt", "quote\"'\\.txt", `${"long".repeat(60)}.txt`];
    for (const name of names) writeFileSync(join(work, name), name);
    writeFileSync(Buffer.concat([Buffer.from(`${work}/`), Buffer.from([0x66, 0xff, 0xfe, 0x2e, 0x74, 0x78, 0x74])]), "hidden");
    const source = new FolderSource(work);
    const listed = records(source);
    expect(listed.length).toBe(names.length + 1);
    for (const name of names) {
      const record = listed.find((each) => each.name === name) as FileRecord;
      const opened = source.open(record);
      expect(Buffer.from(readBytes(opened?.content as never, 0, record.size)).toString()).toBe(name);
      opened?.close();
    }
    const nameless = listed.find((each) => each.name.includes("\uFFFD"));
    expect(nameless?.content).toMatchObject({ kind: "absent", note: expect.stringContaining("no text") });
    expect(source.open(nameless as FileRecord)).toBeNull();
    // Pipes are not waited for.
    execFileSync("mkfifo", [join(work, "pipe")]);
    expect(records(source).find((each) => each.name === "pipe")?.content).toMatchObject({
      note: expect.stringContaining("No ordinary file"),
    });
    expect(() => openFileIn(work, "pipe")).toThrow("ordinary file");
  });

  it("says what of it was not read, with counts and examples", () => {
    put("a/plain.txt", "plain");
    symlinkSync("/", join(work, "way out"));
    execFileSync("mkfifo", [join(work, "a/pipe")]);
    mkdirSync(join(work, "d/".repeat(260)), { recursive: true });
    const source = new FolderSource(work);
    const last = records(source).at(-1);
    expect(last?.notes.join(" ")).toContain("nested deeper than 256 folders");
    const found = new Map(source.findings().map(({ what, count, examples }) => [what, { count, examples }]));
    expect(found.get("Links to another place: shown, never followed.")).toEqual({ count: 1, examples: ["way out"] });
    expect(found.get("Pipes, sockets and devices: they have no content to read.")).toEqual({ count: 1, examples: ["a/pipe"] });
    expect(found.get("Folders nested deeper than 256: nothing in them is known.")).toMatchObject({ count: 1 });
    // A second walk counts anew.
    records(source);
    expect(source.findings().map(({ count }) => count)).toEqual([1, 1, 1]);
  });

  it("notes what cannot be listed and goes on", () => {
    put("open/a.txt", "a");
    put("shut/b.txt", "b");
    chmodSync(join(work, "shut"), 0);
    const source = new FolderSource(work);
    // Root may list whatever it likes: there the folder is reported with all that is in it.
    const shut = records(source).filter((record) => record.path.startsWith("/shut"));
    const listed = (() => {
      try {
        return readdirSync(join(work, "shut")).length > 0;
      } catch {
        return false;
      }
    })();
    expect(shut.some((record) => record.notes.some((note) => note.includes("cannot be listed")))).toBe(!listed);
    expect(records(source).some((record) => record.path === "/open/a.txt")).toBe(true);
    chmodSync(join(work, "shut"), 0o700);
    expect(() => new FolderSource(join(work, "gone"))).toThrow("not there");
    expect(() => new FolderSource(join(work, "open/a.txt"))).toThrow("not there");
  });
});

describe("a Mac's home folders", () => {
  interface Home {
    files: Record<string, { content: string; modified: string }>;
    entries: { path: string; sha256: string }[];
  }
  const home = JSON.parse(fixture("mac-home.json.gz").toString()) as Home;
  const listed = (): Copy[] => {
    layOut(home.files, work);
    const { tree } = openSearchable({ sourcePath: work }, { offset: 0, length: 0, filesystem: "folder", view: null });
    return [...placesPass(tree, SHIPPED_RULES)].flatMap((batch) => [...batch.copies]);
  };

  it("give up what is in bins, autosave and temporary places, under the right names and byte for byte", () => {
    const copies = listed();
    const found = (path: string) => copies.find((copy) => copy.found?.path === path);
    const expected: [string, string, string][] = [
      ["/Users/maribel/.Trash/Old budget.xlsx", "bin", "/Users/maribel/.Trash/Old budget.xlsx"],
      ["/Users/maribel/.Trash/Holiday scans/scan 1.jpg", "bin", "/Users/maribel/.Trash/Holiday scans/scan 1.jpg"],
      ["/Users/tobin/.Trash/cat.jpg", "bin", "/Users/tobin/.Trash/cat.jpg"],
      [
        "/Users/maribel/Library/Autosave Information/Unsaved Wordwright Document.rtf",
        "autosave",
        "/Users/maribel/Library/Autosave Information/Unsaved Wordwright Document.rtf",
      ],
      [
        "/Users/maribel/Library/Containers/org.oakvane.Wordwright/Data/Library/Preferences/AutoRecovery/AutoRecovery save of Harvest plan.docx",
        "autosave",
        // The only document of that name: it is a copy of it.
        "/Users/maribel/Documents/Harvest plan.docx",
      ],
    ];
    for (const [path, place, right] of expected) expect([found(path)?.place, found(path)?.path]).toEqual([place, right]);
    const working = copies.find((copy) => copy.found?.path.endsWith("TemporaryItems/Wordwright Work File D_1.tmp"));
    expect([working?.place, working?.name]).toEqual(["temporary", "Wordwright Work File D_1.docx"]);
    for (const { path, sha256 } of home.entries) {
      const copy = found(`/${path}`);
      if (!copy?.file) continue;
      const { disk, close } = openFileIn(work, copy.file);
      expect(
        createHash("sha256")
          .update(readBytes(disk, 0, disk.size))
          .digest("hex"),
      ).toBe(sha256);
      close();
    }
  });

  it("are left as they are", () => {
    const copies = listed();
    expect(copies.length).toBeGreaterThan(6);
    const names = Object.keys(home.files).sort();
    const now = readdirSync(work, { recursive: true, encoding: "utf8" }).filter((path) => statSync(join(work, path)).isFile());
    expect(now.sort()).toEqual(names);
  });
});

describe("a document that an office suite has open", () => {
  it("is described by its lock file, and the suite's own backup is a copy of it", () => {
    const files = JSON.parse(fixture("office-home.json.gz").toString()) as Record<string, { content: string; modified: string }>;
    layOut(files, work);
    const copies = [...placesPass(new FolderSource(work), SHIPPED_RULES)].flatMap((batch) => [...batch.copies]);
    expect(copies.map((copy) => [copy.path, copy.found?.rule, copy.condition]).sort()).toEqual([
      ["/home/mo/Documents/Minutes.odt", "crash-recovery", "whole"],
      ["/home/mo/Documents/Minutes.odt", "owner-files", "name-only"],
    ]);
    expect(copies.find((copy) => copy.found?.rule === "owner-files")?.notes.join(" ")).toMatch(
      /root on bench had it open since \d\d\.\d\d\.\d{4}/,
    );
    expect(copies.find((copy) => copy.found?.rule === "crash-recovery")?.evidence.content).toMatchObject({
      finding: "agrees",
      format: "odt",
      checked: true,
    });
  });
});
