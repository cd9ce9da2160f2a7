import { strToU8 } from "fflate";
import { describe, expect, it } from "vitest";
import { DOCX, DWG, type File, placedCopies, treeOf } from "../../tests/support/placed-files";
import { numberCheckpoint, textCheckpoint } from "../bytes/checkpoint";
import { readOwnerFile } from "./owner-file";
import { placesPass } from "./places-pass";
import { SHIPPED_RULES } from "./rules";

describe("what finds are copies of", () => {
  const path = (files: readonly File[]) => placedCopies(treeOf(files)).map((copy) => [copy.place, copy.path]);

  it("a backup belongs to the file beside it", () => {
    expect(
      path([
        { path: "/Users/mo/Drawings/Pump.bak", content: DWG },
        { path: "/Users/mo/Drawings/Pump.dwg", content: DWG },
        { path: "/Users/mo/Drawings/Alone.bak", content: DWG },
      ]),
    ).toEqual([
      ["own-backup", "/Users/mo/Drawings/Alone.dwg"],
      ["own-backup", "/Users/mo/Drawings/Pump.dwg"],
    ]);
  });

  it("an autosave copy belongs to the only file of its name, and to none of several", () => {
    const autosave = { path: "/Users/mo/AppData/Roaming/AutoRecovery save of Report", content: DOCX, state: "deleted" as const };
    const report = (folder: string) => ({ path: `/Users/mo/${folder}/Report.docx`, content: DOCX });
    expect(path([autosave, report("Documents")])).toEqual([["autosave", "/Users/mo/Documents/Report.docx"]]);
    expect(path([autosave, report("Documents"), report("Desktop")])).toEqual([["autosave", "/Users/mo/AppData/Roaming/Report.docx"]]);
  });

  it("an owner's file says who had the document open", () => {
    const owner = new Uint8Array(162);
    owner[0] = 9;
    owner.set(strToU8("Mo Linden"), 1);
    const [short] = placedCopies(
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
    const [lock] = placedCopies(
      treeOf([{ path: "/home/mo/.~lock.costs.ods#", content: strToU8(",mo,bench,01.03.2026 17:45,file:///home/mo/.config;") }]),
    );
    expect([lock?.path, lock?.notes[1]]).toEqual(["/home/mo/costs.ods", "mo on bench had it open since 01.03.2026 17:45."]);
    expect(readOwnerFile(new Uint8Array())).toBeNull();
  });
});

describe("a pass over known places", () => {
  const files = Array.from({ length: 30 }, (_, i) => ({ path: `/Users/mo/Drawings/Part ${i}.bak`, content: DWG }));

  it("goes on where it stopped, and gives nothing twice", () => {
    const all = placedCopies(treeOf(files), SHIPPED_RULES, null, 4).map((copy) => copy.path);
    expect(all.length).toBe(30);
    let given = 0;
    for (const batch of placesPass(treeOf(files), SHIPPED_RULES, null, 4)) {
      given += batch.copies.length;
      if (batch.copies.length === 0) continue;
      const rest = placedCopies(treeOf(files), SHIPPED_RULES, batch.resume, 4).map((copy) => copy.path);
      expect(rest).toEqual(all.slice(given));
    }
  });

  it("misses nothing and gives nothing twice though files go and come in the folder while it is paused", () => {
    const all = placedCopies(treeOf(files), SHIPPED_RULES, null, 4).map((copy) => copy.path);
    const given: string[] = [];
    for (const batch of placesPass(treeOf(files), SHIPPED_RULES, null, 4)) {
      given.push(...batch.copies.map((copy) => copy.path));
      if (batch.copies.length === 0) continue;
      // Of what was given two are gone; behind the place where it stopped another one has come.
      const [first, second] = given.map((path) => path.replace(/dwg$/, "bak"));
      const now = [...files.filter(({ path }) => path !== first && path !== second), { path: "/Users/mo/Drawings/Zoom.bak", content: DWG }];
      const rest = placedCopies(treeOf(now.reverse()), SHIPPED_RULES, batch.resume, 4).map((copy) => copy.path);
      expect(rest).toEqual([...all.slice(given.length), "/Users/mo/Drawings/Zoom.dwg"]);
    }
    expect(given).toHaveLength(30);
  });

  it("refuses a checkpoint of another reader, and begins anew from a count", () => {
    expect(() => placedCopies(treeOf(files), SHIPPED_RULES, textCheckpoint({ folder: "a" }))).toThrow();
    expect(placedCopies(treeOf(files), SHIPPED_RULES, numberCheckpoint(17))).toHaveLength(30);
  });

  it("looks where its rules say and nowhere else", () => {
    const rules = SHIPPED_RULES.filter((rule) => rule.id !== "drawing-backup");
    expect(placedCopies(treeOf(files), rules)).toEqual([]);
  });
});
