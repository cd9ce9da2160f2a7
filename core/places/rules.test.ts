import fc from "fast-check";
import picomatch from "picomatch";
import { describe, expect, it } from "vitest";
import { threadTime } from "../../tests/support/thread-time";
import { checkPatterns, nameParts, RuleMatcher } from "./match";
import { compileGlobs } from "./patterns";
import { SHIPPED_RULES } from "./rules";

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

  it("have ids of their own, patterns that can be read, and say what a technician is reported", () => {
    expect(new Set(SHIPPED_RULES.map((rule) => rule.id)).size).toBe(SHIPPED_RULES.length);
    for (const rule of SHIPPED_RULES) {
      expect(() => checkPatterns(rule.where, rule.naming.pattern)).not.toThrow();
      expect(Math.min(rule.note.length, rule.holds.length)).toBeGreaterThan(20);
    }
    expect(() => checkPatterns(["**/a"], "(")).toThrow();
    for (const unreadable of ["(?=a)b", "(a)\\1", "(?<!a)b"]) expect(() => checkPatterns(["**/a"], unreadable)).toThrow();
    for (const glob of ["**/[a", "a{b", "{{{{{a}}}}}", "a".repeat(500)]) expect(() => checkPatterns([glob])).toThrow(/pattern/);
    for (const plain of ["^(?<name>.+)~$", "^(?<stem>.+?)(?:_\\d+){0,3}$", "^(?<name>[a-z]+)(?:-old)?$"])
      expect(() => checkPatterns(["**/a"], plain)).not.toThrow();
  });

  it("one path is looked at in no time, whatever it is, and whatever the rule", { timeout: 120_000 }, () => {
    const long = `/${"a@2026-".repeat(400)}/${"~".repeat(500)}`;
    const before = threadTime();
    for (let i = 0; i < 50; i += 1) fits.ruleOf(long);
    // Patterns that take for ever where an engine tries one way after another.
    const rule = SHIPPED_RULES[0] as (typeof SHIPPED_RULES)[number];
    const wide = new RuleMatcher([{ ...rule, where: ["**/*a*a*a*a*a*a*a*a*b", "**/x/**/x/**/x/**/x/**/x/**/y"] }]);
    expect(wide.ruleOf(`/${"a".repeat(20_000)}`)).toBeNull();
    expect(wide.ruleOf(`/${"x/".repeat(10_000)}z`)).toBeNull();
    for (const endless of ["^(?<name>(a+)+)$", "(\\w*)*x", "^(?<name>(?:a|aa)+)$"]) nameParts(`${"a".repeat(5000)}!`, endless);
    expect(threadTime() - before).toBeLessThan(30_000);
  });

  it("one that cannot be read any more is named, and is not passed over", () => {
    const rule = SHIPPED_RULES[0] as (typeof SHIPPED_RULES)[number];
    for (const change of [{ naming: { pattern: "(?=x)(?<name>.*)", extension: "keep" as const } }, { where: ["**/[a"] }])
      expect(() => new RuleMatcher([{ ...rule, title: "My drafts", ...change }])).toThrow(
        /^The rule “My drafts” cannot be read: .*add it anew\.$/,
      );
  });

  // The library that is asked is the one general tools use for globs.
  it("globs mean what they mean elsewhere", () => {
    const part = fc.constantFrom("a", "ab", "b.txt", "A", "a-b", ".a", "[x]", "c1", "", "x,y");
    const glob = fc.constantFrom(
      "**/a",
      "a/**",
      "*",
      "a*",
      "?",
      "[ab]",
      "[^a]*",
      "{a,ab}/*",
      "**/*.txt",
      "a/**/b.txt",
      "{,**/}c1",
      "**",
      "*/[a-c]?",
      "**/.a",
      "\\[x\\]",
    );
    fc.assert(
      fc.property(fc.array(part, { minLength: 1, maxLength: 4 }), glob, (parts, pattern) => {
        const path = parts.filter(Boolean).join("/");
        if (path === "") return;
        const known = picomatch.isMatch(path, pattern, { nocase: true, dot: true, nonegate: true, strictSlashes: true });
        expect(compileGlobs([pattern]).test(path), `${pattern} on ${path}`).toBe(known);
      }),
      { numRuns: 2000 },
    );
  });
});
