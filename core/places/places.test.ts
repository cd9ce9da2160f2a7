import * as compound from "cfb";
import fc from "fast-check";
import { strToU8, zipSync } from "fflate";
import picomatch from "picomatch";
import { beforeAll, describe, expect, it } from "vitest";
import { fixture, imageSource, readTruth } from "../../tests/support/volume-truth";
import { MemorySource } from "../bytes/byte-source";
import { layoutOf } from "../bytes/layout";
import type { Copy } from "../copies/copy";
import { ALL_BYTES_THERE, type FileRecord } from "../filesystems/file-record";
import { inspectDisk, openVolume } from "../volumes/inspect";
import { volumeSerial } from "../volumes/volume-serial";
import { type FileTree, volumeTree } from "./file-tree";
import { putBackPlaces, readFolderMetadata } from "./folder-metadata";
import { readJumpList } from "./jump-list";
import { checkPatterns, RuleMatcher } from "./match";
import { readOwnerFile } from "./owner-file";
import { placesPass } from "./places-pass";
import { recentPaths } from "./property-list";
import { rightName } from "./right-name";
import { SHIPPED_RULES } from "./rules";
import { readShellLink } from "./shell-link";
import { readBinIndex, readBinRecord } from "./windows-bin";

interface Places {
  link: string;
  linkSaid: string;
  jumpList: string;
  recentBinary: string;
  recentXml: string;
  folderMetadata: string;
  facts: { name: string; folder: string; old: string }[];
}
const places = JSON.parse(fixture("places.json.gz").toString()) as Places;
const bytesOf = (base64: string) => new Uint8Array(Buffer.from(base64, "base64"));

const DOCX = zipSync({ "[Content_Types].xml": strToU8("<Types/>"), "word/document.xml": strToU8("<document/>") });
const XLSX = zipSync({
  "[Content_Types].xml": strToU8("<Types/>"),
  "_rels/.rels": strToU8("x".repeat(9000)),
  "xl/workbook.xml": strToU8("<workbook/>"),
});
const DWG = strToU8(`AC1032${"\0".repeat(200)}`);

interface File {
  path: string;
  content?: Uint8Array;
  state?: "live" | "deleted";
  modified?: number;
}

/** Files in memory as a tree; each has its content behind the others' on one disk. */
function treeOf(files: readonly File[], serial: number | null = null): FileTree {
  const disk = new Uint8Array(files.reduce((sum, file) => sum + (file.content?.length ?? 0), 0));
  let at = 0;
  const records = files.map(({ path, content = new Uint8Array(), state = "live", modified = 0 }, index): FileRecord => {
    disk.set(content, at);
    const place = at;
    at += content.length;
    return {
      reference: `record ${index}`,
      state,
      type: "file",
      path,
      name: path.slice(path.lastIndexOf("/") + 1),
      rawName: new Uint8Array(),
      size: content.length,
      created: null,
      modified,
      changed: null,
      layout: layoutOf(content.length > 0 ? [{ kind: "disk", at: place, length: content.length }] : [], content.length),
      evidence: ALL_BYTES_THERE,
      system: false,
      encrypted: false,
      streams: [],
      links: 1,
      notes: [],
    };
  });
  const source = new MemorySource(disk);
  return {
    ...volumeTree(
      {
        readRecords: function* () {
          yield { records, resume: records.length, done: records.length, total: records.length };
        },
      } as never,
      source,
      serial,
    ),
  };
}

const told = (tree: FileTree, rules = SHIPPED_RULES, from = 0, step = 512): Copy[] =>
  [...placesPass(tree, rules, from, step)].flatMap((batch) => [...batch.copies]);

describe("the Windows bin of the lab's volume", () => {
  let copies: Copy[];
  interface Entry {
    i?: string;
    r?: string;
    originalPath?: string;
    originalSize: number;
    deletedTime: string;
    emptied: boolean;
    folder?: boolean;
    children?: string[];
  }
  let bin: Entry[];
  beforeAll(() => {
    const disk = imageSource("ntfs-gpt");
    const truth = readTruth("ntfs-gpt") as unknown as { volume: { partitionOffset: number; recycleBin: Entry[] } };
    bin = truth.volume.recycleBin;
    const report = inspectDisk(disk).volumes.find((volume) => volume.offset === truth.volume.partitionOffset);
    if (!report) throw new Error("no volume");
    copies = told(volumeTree(openVolume(disk, report), disk, volumeSerial(disk, report.offset, report.filesystem))).filter(
      (copy) => copy.place === "bin",
    );
  });

  it("gives each thing in it its old path and the moment of its deletion, emptied ones included", () => {
    expect(bin.length).toBeGreaterThan(12);
    for (const { i, r, originalPath, originalSize, deletedTime, emptied, folder, children } of bin) {
      if (!originalPath) continue;
      const path = originalPath.startsWith("C:")
        ? originalPath.slice(2).replaceAll("\\", "/")
        : `/D_${originalPath.slice(2).replaceAll("\\", "/")}`;
      for (const each of folder ? (children ?? []).map((child) => `${path}/${child}`) : [path]) {
        const copy = copies.find((one) => one.path.normalize("NFC") === each.normalize("NFC"));
        expect(copy, each).toBeDefined();
        expect(copy?.deletedAt).toBe(Date.parse(deletedTime));
        expect(copy?.state).toBe(emptied ? "deleted" : "live");
        if (!folder) expect(copy?.size).toBe(originalSize);
        expect(copy?.found?.path).toContain(folder ? (r ?? "") : (r ?? i ?? ""));
        expect(copy?.condition).toBe(r ? "whole" : "name-only");
      }
    }
  });

  it("shows a content whose record is gone, and invents nothing", () => {
    const orphan = bin.find((entry) => entry.r && !entry.originalPath);
    expect(copies.some((copy) => copy.path === `/${orphan?.r}` && copy.notes.some((note) => note.includes("record of it is gone")))).toBe(
      true,
    );
    const expected = bin.reduce((sum, entry) => sum + (entry.folder ? (entry.children?.length ?? 0) : 1), 0);
    expect(copies.length).toBe(expected);
  });
});

describe("the older bin's index", () => {
  /** An index as the layout (from memory, no published source) has it. */
  function index(paths: readonly [path: string, number: number, removed?: boolean][]): Uint8Array {
    const bytes = Buffer.alloc(20 + 800 * paths.length);
    bytes.writeUInt32LE(5, 0);
    bytes.writeUInt32LE(800, 12);
    paths.forEach(([path, number, removed], i) => {
      const at = 20 + 800 * i;
      bytes.write(path, at, "latin1");
      if (removed) bytes[at] = 0;
      bytes.writeUInt32LE(number, at + 260);
      bytes.writeUInt32LE(2, at + 264);
      bytes.writeBigUInt64LE((BigInt(Date.UTC(2004, 4, 5, 6, 7, 8)) + 11_644_473_600_000n) * 10_000n, at + 268);
      bytes.writeUInt32LE(4096, at + 276);
      bytes.write(path, at + 280, "utf16le");
    });
    return new Uint8Array(bytes);
  }

  it("tells the old paths, those of removed ones too", () => {
    const read = readBinIndex(
      index([
        ["C:\\My Documents\\plan.doc", 1],
        ["C:\\old.txt", 2, true],
      ]),
    );
    expect(read.map(({ held, original, deletedAt, size }) => [held, original, deletedAt, size])).toEqual([
      ["Dc1", "C:\\My Documents\\plan.doc", Date.UTC(2004, 4, 5, 6, 7, 8), 4096],
      ["Dc2", "C:\\old.txt", Date.UTC(2004, 4, 5, 6, 7, 8), 4096],
    ]);
  });

  it("gives the contents their old names, the children of a folder too", () => {
    const tree = treeOf([
      {
        path: "/RECYCLER/S-1-5-21-1/INFO2",
        content: index([
          ["C:\\My Documents\\plan.doc", 1],
          ["C:\\Box", 3],
        ]),
      },
      { path: "/RECYCLER/S-1-5-21-1/Dc1.doc", content: strToU8("plan") },
      { path: "/RECYCLER/S-1-5-21-1/Dc3/inside/a.txt", content: strToU8("a") },
      { path: "/RECYCLER/S-1-5-21-1/Dc7.txt", content: strToU8("b") },
    ]);
    expect(told(tree).map((copy) => copy.path)).toEqual(["/My Documents/plan.doc", "/Box/inside/a.txt", "/RECYCLER/S-1-5-21-1/Dc7.txt"]);
  });
});

describe("recent lists", () => {
  it("a shell link is read as the specification's example says ([MS-SHLLINK] 3.1), and as another reader does", () => {
    const link = readShellLink(bytesOf(places.link));
    expect(link).toEqual({
      target: "C:\\test\\a.txt",
      directory: false,
      size: 0,
      created: Date.UTC(2008, 8, 12, 20, 27, 17, 101),
      modified: Date.UTC(2008, 8, 12, 20, 27, 17, 101),
      serial: 0x307a8a81,
      label: null,
    });
    expect(places.linkSaid).toContain("C:\\test\\a.txt");
    expect(places.linkSaid).toMatch(/307a8a81/i);
    expect(places.linkSaid).toContain("Sep 12, 2008 20:27:17.101");
  });

  it("a jump list gives the links in its compound file, and those that stand one after the other", () => {
    expect(readJumpList(bytesOf(places.jumpList)).map((link) => link.target)).toEqual(["C:\\test\\a.txt", "C:\\test\\a.txt"]);
    const link = bytesOf(places.link);
    expect(readJumpList(Uint8Array.from([1, 2, 3, ...link, 0, 0, ...link])).length).toBe(2);
  });

  it("property lists of both kinds name the documents", () => {
    const expected = ["/Users/maribel/Documents/Harvest plan.docx", "/Users/maribel/Documents/Rules.pdf"];
    expect(recentPaths(bytesOf(places.recentBinary))).toEqual(expected);
    expect(recentPaths(bytesOf(places.recentXml))).toEqual(expected);
    expect(recentPaths(strToU8("no list"))).toEqual([]);
  });

  it("become items known by name, on the volume the link means", () => {
    const files = [{ path: "/Users/mo/AppData/Roaming/Recent/a.lnk", content: bytesOf(places.link) }];
    const [here] = told(treeOf(files, 0x307a8a81));
    expect([here?.place, here?.path, here?.condition]).toEqual(["recent", "/test/a.txt", "name-only"]);
    const [elsewhere] = told(treeOf(files, 0x12345678));
    expect(elsewhere?.path).toBe("/C_/test/a.txt");
    expect(elsewhere?.notes.join(" ")).toContain("307A8A81");
  });
});

describe("the metadata file of a Mac's folder", () => {
  it("tells where the things in a bin came from, as another program wrote it", () => {
    const found = putBackPlaces(readFolderMetadata(bytesOf(places.folderMetadata)));
    expect(found.size).toBe(places.facts.length);
    for (const { name, folder, old } of places.facts) expect(found.get(name)).toEqual({ folder: folder.replace(/\/$/, ""), name: old });
  });

  it("puts what is in the bin back in its place, children of a folder too", () => {
    const tree = treeOf([
      { path: "/Users/maribel/.Trash/.DS_Store", content: bytesOf(places.folderMetadata) },
      { path: "/Users/maribel/.Trash/Thing 03.txt", content: strToU8("three") },
      { path: "/Users/maribel/.Trash/Thing 04.txt/part", content: strToU8("four"), state: "deleted" },
      { path: "/Users/maribel/.Trash/Unknown.txt", content: strToU8("?") },
    ]);
    expect(told(tree).map((copy) => copy.path)).toEqual([
      "/Users/maribel/Documents/Box 3/Thing of old 3.txt",
      "/Users/maribel/Documents/Box 4/Thing of old 4.txt/part",
      "/Users/maribel/.Trash/Unknown.txt",
    ]);
  });
});

describe("right names", () => {
  const named = (rule: string, name: string, content: Uint8Array | null) =>
    rightName(name, SHIPPED_RULES.find((each) => each.id === rule)?.naming ?? { extension: "keep" }, content && new MemorySource(content))
      .name;

  it.each([
    ["autorecovery-copies", "AutoRecovery save of Report", DOCX, "Report.docx"],
    ["autorecovery-copies", "AutoRecovery save of Report.asd", DOCX, "Report.docx"],
    ["autorecovery-copies", "AutoRecovery save of Harvest plan.docx", DOCX, "Harvest plan.docx"],
    ["autorecovery-copies", "AutoRecovery save of Costs", XLSX, "Costs.xlsx"],
    ["autosave-extension", "Backup of Letter.wbk", DOCX, "Letter.docx"],
    ["drawing-autosave", "Pump house_1_1_8842.sv$", DWG, "Pump house.dwg"],
    ["drawing-autosave", "Pump house_1_1_8842.sv$", strToU8("no drawing at all"), "Pump house_1_1_8842.sv$"],
    ["drawing-backup", "Pump house.bak", DWG, "Pump house.dwg"],
    ["drawing-backup", "settings.json.bak", strToU8("{}"), "settings.json"],
    ["drawing-backup", "Report.docx.old", DOCX, "Report.docx"],
    ["editor-session", "new 3@2026-03-01_174502", strToU8("words"), "new 3"],
    ["editor-session", "list.md@2026-03-01_174502", strToU8("words"), "list.md"],
    ["office-temporary", "~WRL0001.tmp", DOCX, "~WRL0001.docx"],
    ["unsaved-files", "Funding application((Unsaved-3085)).asd", DOCX, "Funding application.docx"],
    ["found-clusters", "FILE0000.CHK", XLSX, "FILE0000.xlsx"],
    ["tilde-backup", "notes.txt~", strToU8("words"), "notes.txt"],
    ["tilde-backup", "notes.txt.~12~", strToU8("words"), "notes.txt"],
    ["mac-autosave-information", "Letter (Autosaved).rtf", strToU8("{\\rtf1 x}"), "Letter.rtf"],
  ] as const)("%s: %s", (rule, name, content, right) => {
    expect(named(rule, name, content)).toBe(right);
  });

  it("an older office document is told by the streams in it", () => {
    const file = compound.utils.cfb_new();
    compound.utils.cfb_add(file, "WordDocument", Buffer.alloc(5000, 1));
    expect(
      named("autorecovery-copies", "AutoRecovery save of Old letter", new Uint8Array(compound.write(file, { type: "array" }) as number[])),
    ).toBe("Old letter.doc");
  });

  it("a session backup is dated by its name, and an impossible date is none", () => {
    const naming = SHIPPED_RULES.find((rule) => rule.id === "editor-session")?.naming ?? { extension: "keep" };
    expect(rightName("a@2026-03-01_174502", naming, null).dated).toBe(Date.UTC(2026, 2, 1, 17, 45, 2));
    expect(rightName("a@2026-13-41_994502", naming, null).dated).toBeNull();
  });
});

describe("what finds are copies of", () => {
  const path = (files: readonly File[]) => told(treeOf(files)).map((copy) => [copy.place, copy.path]);

  it("a backup belongs to the file beside it", () => {
    expect(
      path([
        { path: "/Users/mo/Drawings/Pump.bak", content: DWG },
        { path: "/Users/mo/Drawings/Pump.dwg", content: DWG },
        { path: "/Users/mo/Drawings/Alone.bak", content: DWG },
      ]),
    ).toEqual([
      ["own-backup", "/Users/mo/Drawings/Pump.dwg"],
      ["own-backup", "/Users/mo/Drawings/Alone.dwg"],
    ]);
  });

  it("an autosave copy belongs to the only file of its name, and to none of several", () => {
    const autosave = { path: "/Users/mo/AppData/Roaming/AutoRecovery save of Report", content: DOCX, state: "deleted" as const };
    const report = (folder: string) => ({ path: `/Users/mo/${folder}/Report.docx`, content: DOCX });
    expect(path([autosave, report("Documents")])).toEqual([["autosave", "/Users/mo/Documents/Report.docx"]]);
    expect(path([autosave, report("Documents"), report("Desktop")])).toEqual([["autosave", "/Users/mo/AppData/Roaming/Report.docx"]]);
  });

  it("an owner's file tells who had the document open", () => {
    const owner = new Uint8Array(162);
    owner[0] = 9;
    owner.set(strToU8("Mo Linden"), 1);
    const [short] = told(
      treeOf([
        { path: "/Users/mo/~$port.docx", content: owner },
        { path: "/Users/mo/Report.docx", content: DOCX },
      ]),
    );
    expect([short?.path, short?.condition, short?.notes.some((note) => note.startsWith("Mo Linden had it open"))]).toEqual([
      "/Users/mo/Report.docx",
      "name-only",
      true,
    ]);
    const [lock] = told(
      treeOf([{ path: "/home/mo/.~lock.costs.ods#", content: strToU8(",mo,bench,01.03.2026 17:45,file:///home/mo/.config;") }]),
    );
    expect([lock?.path, lock?.notes[1]]).toEqual(["/home/mo/costs.ods", "mo on bench had it open since 01.03.2026 17:45."]);
    expect(readOwnerFile(new Uint8Array())).toBeNull();
  });
});

describe("the rules", () => {
  const fits = new RuleMatcher(SHIPPED_RULES);

  it.each([
    ["/$Recycle.Bin/S-1-5-21-1/$RABC123.docx", "windows-bin"],
    ["/RECYCLER/S-1-5-21-1/Dc1.doc", "windows-bin"],
    ["/?/$IABC123.docx", "windows-bin"],
    ["/Users/a/.Trash/Recovered files/x.tmp", "mac-bin-recovered"],
    ["/Users/a/.Trash/x.txt", "mac-bin"],
    ["/.Trashes/501/x.txt", "mac-bin"],
    ["/Users/a/AppData/Roaming/Maker/AutoRecovery save of Letter", "autorecovery-copies"],
    ["/?/autorecovery save of letter.asd", "autorecovery-copies"],
    ["/Users/a/AppData/Roaming/Maker/Letter.asd", "autosave-extension"],
    ["/Users/a/AppData/Local/Maker/Suite/UnsavedFiles/Letter((Unsaved-30)).asd", "unsaved-files"],
    ["/Users/a/AppData/Local/Maker/Suite/UnsavedFiles/Book1((Unsaved-30)).xlsb", "unsaved-files"],
    ["/Users/a/AppData/Local/Temp/Pump_1_1_22.sv$", "drawing-autosave"],
    ["/Users/a/AppData/Local/Temp/Pump_1_1_22.ac$", "drawing-autosave"],
    ["/Users/a/AppData/Roaming/Editor/backup/new 1@2026-01-02_030405", "editor-session"],
    ["/Users/a/Library/Autosave Information/Unsaved.rtf", "mac-autosave-information"],
    ["/Users/a/Library/Containers/maker/Data/Library/Preferences/AutoRecovery/x.docx", "mac-container-autosave"],
    ["/Users/a/Library/Saved Application State/maker.savedState/data.data", "mac-saved-state"],
    ["/.DocumentRevisions-V100/PerUID/501/1/x.docx", "mac-versions"],
    ["/private/var/folders/zk/7h2x/T/TemporaryItems/(A Document Being Saved By X)/plan.docx", "mac-temporary-items"],
    ["/.TemporaryItems/folders.501/x", "mac-temporary-items"],
    ["/Users/a/Documents/~$port.docx", "owner-files"],
    ["/home/a/.~lock.costs.ods#", "owner-files"],
    ["/Users/a/Documents/~WRL0001.tmp", "office-temporary"],
    ["/Users/a/AppData/Roaming/suite/4/user/backup/costs.ods_0.bak", "crash-recovery"],
    ["/Users/a/AppData/Roaming/X/Recent/report.lnk", "recent-links"],
    ["/Users/a/AppData/Roaming/X/Recent/AutomaticDestinations/a1.automaticDestinations-ms", "jump-lists"],
    ["/Users/a/Library/Preferences/maker.recentitems.plist", "mac-recent-items"],
    ["/FOUND.000/FILE0000.CHK", "found-clusters"],
    ["/Users/a/Documents/Backup of Letter.docx", "backup-of"],
    ["/Users/a/Drawings/Pump.bak", "drawing-backup"],
    ["/Users/a/Drawings/Pump.bk1", "drawing-backup"],
    ["/home/a/notes.txt~", "tilde-backup"],
    ["/Users/a/AppData/Local/Temp/anything", "windows-temporary"],
    ["/Users/a/Documents/Report.docx", null],
    ["/Program Files/Recycle/readme.txt", null],
  ])("%s", (path, rule) => {
    expect(fits.ruleOf(path)?.id ?? null).toBe(rule);
  });

  it("together decide as each by itself does: the first that fits", () => {
    const folder = fc.constantFrom(
      "Users/mo",
      "$Recycle.Bin/S-1-5-21-1",
      "AppData/Local/Temp",
      ".Trash",
      "Documents",
      "Library/Autosave Information",
      "FOUND.001",
      "?",
    );
    const file = fc.constantFrom(
      "$RABC123.txt",
      "AutoRecovery save of x",
      "a.bak",
      "~$a.docx",
      "~WRL1.tmp",
      "a@2026-01-02_030405",
      "x.sv$",
      "FILE0000.CHK",
      "a.docx~",
      "Report.docx",
      "a.lnk",
    );
    fc.assert(
      fc.property(fc.array(folder, { minLength: 1, maxLength: 3 }), file, (folders, name) => {
        const path = `/${folders.join("/")}/${name}`;
        const first = SHIPPED_RULES.find((rule) =>
          rule.where.some((glob) =>
            picomatch.isMatch(path.slice(1), glob, { nocase: true, dot: true, nonegate: true, strictSlashes: true }),
          ),
        );
        expect(fits.ruleOf(path)?.id).toBe(first?.id);
      }),
    );
  });

  it("have ids of their own, patterns that can be read, and say what a technician is told", () => {
    expect(new Set(SHIPPED_RULES.map((rule) => rule.id)).size).toBe(SHIPPED_RULES.length);
    for (const rule of SHIPPED_RULES) {
      expect(() => checkPatterns(rule.where, rule.naming.pattern)).not.toThrow();
      expect(Math.min(rule.told.length, rule.holds.length)).toBeGreaterThan(20);
    }
    expect(() => checkPatterns(["**/a"], "(")).toThrow();
    for (const endless of ["^(?<name>(a+)+)$", "(\\w*)*x", "(?:a{2,}){3,}"])
      expect(() => checkPatterns(["**/a"], endless)).toThrow("for ever");
    for (const plain of ["^(?<name>.+)~$", "^(?<stem>.+?)(?:_\\d+){0,3}$", "^(?<name>[a-z]+)(?:-old)?$"])
      expect(() => checkPatterns(["**/a"], plain)).not.toThrow();
  });

  it("one path is looked at in no time, whatever it is", () => {
    const long = `/${"a@2026-".repeat(400)}/${"~".repeat(500)}`;
    const before = process.cpuUsage().user;
    for (let i = 0; i < 50; i += 1) fits.ruleOf(long);
    expect(process.cpuUsage().user - before).toBeLessThan(2_000_000);
  });
});

describe("a pass over known places", () => {
  const files = Array.from({ length: 30 }, (_, i) => ({ path: `/Users/mo/Drawings/Part ${i}.bak`, content: DWG }));

  it("goes on where it stopped, and tells nothing twice", () => {
    const all = told(treeOf(files), SHIPPED_RULES, 0, 4).map((copy) => copy.path);
    expect(all.length).toBe(30);
    for (const batch of placesPass(treeOf(files), SHIPPED_RULES, 0, 4)) {
      if (batch.copies.length === 0) continue;
      const rest = told(treeOf(files), SHIPPED_RULES, batch.resume, 4).map((copy) => copy.path);
      expect(rest).toEqual(all.slice(batch.resume));
    }
  });

  it("looks where its rules say and nowhere else", () => {
    const rules = SHIPPED_RULES.filter((rule) => rule.id !== "drawing-backup");
    expect(told(treeOf(files), rules)).toEqual([]);
  });
});

describe("hostile places", () => {
  const readers: readonly [string, Uint8Array, (bytes: Uint8Array) => unknown][] = [
    ["link", bytesOf(places.link), readShellLink],
    ["jump list", bytesOf(places.jumpList), readJumpList],
    ["folder metadata", bytesOf(places.folderMetadata), readFolderMetadata],
    ["property list", bytesOf(places.recentBinary), recentPaths],
    ["bin record", Uint8Array.from([2, 0, 0, 0, 0, 0, 0, 0, ...new Uint8Array(100)]), readBinRecord],
    ["owner file", Uint8Array.from([9, ...new Uint8Array(161)]), readOwnerFile],
  ];
  it.each(readers)("%s: whatever is changed in it, reading ends", (_, sound, read) => {
    const change = fc.record({ at: fc.nat(sound.length - 1), value: fc.integer({ min: 0, max: 255 }) });
    fc.assert(
      fc.property(fc.array(change, { maxLength: 12 }), fc.nat(sound.length), (changes, length) => {
        const bytes = sound.slice(0, Math.max(1, length));
        for (const { at, value } of changes) if (at < bytes.length) bytes[at] = value;
        read(bytes);
      }),
      { numRuns: 1500 },
    );
  });
});
