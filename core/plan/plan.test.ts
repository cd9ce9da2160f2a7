import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { type Account, CAUSES, type Cause, EMPTY_ACCOUNT, paragraph, SYSTEMS, type System } from "./account";
import { fitOf, nameLikeness } from "./fit";
import { makePlan, type PlanSource, type PlanVolume } from "./plan";
import { roughMoment } from "./rough-time";
import { STEPS, type StepKind } from "./steps";

const volume = (change: Partial<PlanVolume> = {}): PlanVolume => ({
  id: 1,
  label: "Laptop",
  filesystem: "ntfs",
  length: 1e11,
  usedBytes: 5e10,
  readable: true,
  closed: null,
  standing: "present",
  profiles: 0,
  ofSystem: false,
  ...change,
});
const source = (change: Partial<PlanSource> = {}): PlanSource => ({
  id: 1,
  name: "laptop.img",
  folder: false,
  volumes: [volume()],
  ...change,
});
const account = (change: Partial<Account>): Account => ({ ...EMPTY_ACCOUNT, ...change });
const kinds = (accounts: readonly Account[], sources = [source()]) => makePlan(accounts, sources).steps.map((step) => step.kind);

/** What comes first, what must be there, and what must not, for each cause: common practice, no published source. */
const EXPECTED: Record<Cause, { first: StepKind; with: StepKind[]; without: StepKind[] }> = {
  "closed-unsaved": { first: "autosave", with: ["recent", "file-records"], without: ["leftover-records"] },
  crashed: { first: "autosave", with: ["own-backups"], without: ["leftover-records"] },
  binned: { first: "bin", with: ["file-records"], without: ["leftover-records", "autosave"] },
  "bin-emptied": { first: "bin", with: ["file-records", "snapshots", "backups", "leftover-records", "raw"], without: [] },
  "deleted-past-bin": { first: "bin", with: ["file-records", "backups"], without: [] },
  "too-large-for-bin": { first: "bin", with: ["file-records", "backups"], without: [] },
  overwritten: { first: "own-backups", with: ["snapshots", "backups", "autosave"], without: ["leftover-records"] },
  formatted: { first: "bin", with: ["leftover-records", "backups", "raw"], without: ["autosave"] },
  reinstalled: { first: "profiles", with: ["leftover-records"], without: [] },
  upgraded: { first: "profiles", with: ["file-records"], without: ["leftover-records"] },
  "application-removed": { first: "file-records", with: ["backups"], without: ["leftover-records"] },
  "history-cleared": { first: "file-records", with: ["snapshots", "backups", "raw"], without: ["autosave"] },
  "messages-gone": { first: "file-records", with: ["profiles", "backups", "raw"], without: ["autosave"] },
  failing: { first: "image", with: ["file-records"], without: [] },
  "backup-closed": { first: "backups", with: ["file-records"], without: ["leftover-records"] },
  unknown: { first: "bin", with: ["recent", "autosave", "own-backups", "file-records", "leftover-records"], without: [] },
};
/** On cards nothing of this is kept. */
const NOT_ON_CARDS: StepKind[] = ["autosave", "recent", "profiles", "snapshots", "cloud"];

describe("the plan of a backup file that does not open", () => {
  const backup = (): PlanSource => {
    const one = source();
    return { ...one, volumes: one.volumes.map((volume) => ({ ...volume, filesystem: "tape", label: "Clubhouse" })) };
  };

  it("reads it past its damage first, and lightly; what only volumes have is not looked for in it", () => {
    const { steps } = makePlan([account({ cause: "backup-closed" })], [backup()]);
    expect(
      steps
        .map(({ pass }) => pass?.place)
        .filter(Boolean)
        .slice(0, 1),
    ).toEqual(["thorough"]);
    const places = steps.map(({ pass }) => pass?.place);
    expect(places).toContain("file-record");
    expect(places).not.toContain("leftover-record");
    expect(places).not.toContain("earlier-states");
    expect(steps.find(({ pass }) => pass?.place === "file-record")?.title).toContain("backup file");
  });

  it("offers no thorough reading for a volume", () => {
    const { steps } = makePlan([account({ cause: "backup-closed" })], [source()]);
    expect(steps.some(({ kind }) => kind === "thorough")).toBe(false);
  });
});

describe("the plan", () => {
  const pairs = (Object.keys(CAUSES) as Cause[]).flatMap((cause) =>
    (Object.keys(SYSTEMS) as System[]).map((system) => [cause, system] as const),
  );

  it.each(pairs)("%s on %s", (cause, system) => {
    const card = system === "card";
    const { steps, against } = makePlan([account({ cause, system })], [source()]);
    const found = steps.map((step) => step.kind);
    const expected = EXPECTED[cause];
    if (!(card && NOT_ON_CARDS.includes(expected.first))) expect(found[0]).toBe(expected.first);
    for (const kind of expected.with) expect(found.includes(kind)).toBe(!(card && NOT_ON_CARDS.includes(kind)));
    for (const kind of expected.without) expect(found).not.toContain(kind);
    if (card) for (const kind of NOT_ON_CARDS) expect(found).not.toContain(kind);
    expect(against.length).toBeGreaterThan(0);
    // It is cheap: whatever is said of the loss, it is looked into before anything that takes long.
    expect(found).toContain("bin");
    for (const costly of ["leftover-records", "raw"] as const)
      if (found.includes(costly)) expect(found.indexOf("bin")).toBeLessThan(found.indexOf(costly));
    for (const step of steps) {
      expect(step.reason.length).toBeGreaterThan(15);
      expect(step.cannotFind.length).toBeGreaterThan(10);
      expect(step.chanceReason.length).toBeGreaterThan(5);
      expect(step.pass === null).toBe(STEPS[step.kind].by === "hand");
    }
  });

  it("without any facts is that for an unknown cause", () => {
    expect(kinds([EMPTY_ACCOUNT])).toEqual(kinds([account({ cause: "unknown" })]));
    expect(kinds([])).toEqual([]);
  });

  it("is never broken by what is missing", () => {
    const part = fc.record(
      {
        cause: fc.constantFrom(...(Object.keys(CAUSES) as Cause[]), null),
        system: fc.constantFrom(...(Object.keys(SYSTEMS) as System[]), null),
        drive: fc.constantFrom("disk" as const, "solid-state" as const, null),
        usedSince: fc.constantFrom("no" as const, "little" as const, "much" as const, null),
      },
      { requiredKeys: [] },
    );
    fc.assert(
      fc.property(fc.array(part, { maxLength: 3 }), fc.boolean(), fc.boolean(), (parts, folder, readable) => {
        const accounts = parts.map((each) => account(each));
        const plan = makePlan(accounts, [source({ folder, volumes: [volume({ readable })] })]);
        expect(new Set(plan.steps.map((step) => step.key)).size).toBe(plan.steps.length);
        // Raw content needs no file system that can be read.
        if (!readable) expect(plan.steps.every((step) => step.storeId === null || step.kind === "raw")).toBe(true);
      }),
    );
  });

  it("says at once that an encrypted volume stays closed, and plans nothing on it", () => {
    const plan = makePlan([account({ cause: "binned" })], [source({ volumes: [volume(), volume({ id: 2, closed: "Encrypted." })] })]);
    expect(plan.warnings.join(" ")).toContain("Encrypted.");
    expect(plan.steps.some((step) => step.storeId === 2)).toBe(false);
    expect(makePlan([EMPTY_ACCOUNT], []).warnings[0]).toContain("No source yet");
  });

  it("lowers the chance of deleted files on a solid-state drive and after much use, with the reason", () => {
    const chance = (change: Partial<Account>) =>
      makePlan([account({ cause: "deleted-past-bin", ...change })], [source()]).steps.find((step) => step.kind === "file-records");
    expect(chance({})?.chance).toBe("good");
    expect(chance({ drive: "solid-state" })).toMatchObject({ chance: "low", chanceReason: expect.stringContaining("erases") });
    expect(chance({ usedSince: "much" })).toMatchObject({ chance: "fair", chanceReason: expect.stringContaining("used a lot") });
  });

  it("counts time from the size and what was measured", () => {
    const seconds = (speeds: Record<string, number>) =>
      makePlan([account({ cause: "formatted" })], [source({ volumes: [volume({ length: 1e9 })] })], speeds).steps.find(
        (step) => step.kind === "leftover-records",
      )?.seconds;
    expect(seconds({})).toBe(6);
    expect(seconds({ "leftover-record": 1e-4 })).toBe(100);
  });

  it("takes a sweep's time from what it reads: the room that is not in use", () => {
    const plan = makePlan([account({ cause: "formatted" })], [source({ volumes: [volume({ length: 1e9, usedBytes: 4e8 })] })], {
      raw: 1e-5,
    });
    expect(plan.steps.find((step) => step.kind === "raw")?.seconds).toBe(6);
  });

  it("comes to the volume of users' data before the one of the system, however large that is", () => {
    const system = volume({ id: 1, label: "System", length: 2e10, ofSystem: true });
    const data = volume({ id: 2, label: "Data" });
    const steps = makePlan([account({ cause: "bin-emptied" })], [source({ volumes: [system, data] })]).steps;
    expect(steps.filter(({ kind }) => kind === "file-records").map(({ storeId }) => storeId)).toEqual([2, 1]);
  });

  it("comes to the volumes of users before the system's own and those of before", () => {
    const own = { label: "Recovery", length: 6e8, usedBytes: 3e8 };
    const volumes = [volume({ id: 1, ...own }), volume({ id: 2, standing: "earlier" }), volume({ id: 3, profiles: 2 })];
    const other = source({
      id: 2,
      name: "stick.img",
      volumes: [volume({ id: 4, label: "STICK", filesystem: "fat32", length: 5e8, usedBytes: 1e8 })],
    });
    const { steps } = makePlan([account({ cause: "deleted-past-bin" })], [source({ volumes }), other]);
    expect(steps.filter((step) => step.kind === "file-records").map((step) => step.storeId)).toEqual([3, 4, 1, 2]);
  });

  it("two accounts share their steps; a step that was added comes last", () => {
    const both = makePlan([account({ cause: "closed-unsaved" }), account({ cause: "binned" })], [source()], {}, ["leftover-records"]);
    const found = both.steps.map((step) => step.kind);
    expect(found.filter((kind) => kind === "file-records")).toHaveLength(1);
    expect(found).toContain("bin");
    expect(found[found.length - 1]).toBe("leftover-records");
  });

  it("of a folder leaves out what only an image can give", () => {
    const plan = makePlan([account({ cause: "bin-emptied" })], [source({ folder: true })]);
    expect(plan.steps.some((step) => step.kind === "leftover-records")).toBe(false);
    expect(plan.steps.find((step) => step.kind === "file-records")?.chanceReason).toContain("image");
  });
});

describe("what a client says of a time", () => {
  const now = Date.UTC(2026, 2, 20, 10, 0, 0);
  const day = (time: number) => new Date(time).toISOString().slice(0, 10);
  it.each([
    ["2026-03-12", "2026-03-12", "2026-03-12"],
    ["12 March", "2026-03-12", "2026-03-12"],
    ["yesterday", "2026-03-19", "2026-03-19"],
    ["in March", "2026-03-01", "2026-03-31"],
    ["in November", "2025-11-01", "2025-11-30"],
    ["2024", "2024-01-01", "2024-12-31"],
    ["about two weeks ago", "2026-03-02", "2026-03-09"],
    ["between 3 March and 5 March", "2026-03-03", "2026-03-05"],
    ["24 December", "2025-12-24", "2025-12-24"],
  ])("%s", (text, from, to) => {
    const moment = roughMoment(text, now);
    expect([moment && day(moment.from), moment && day(moment.to)]).toEqual([from, to]);
  });

  it("is nothing where it cannot be understood, and never runs backwards", () => {
    expect(roughMoment("when the dog was ill", now)).toBeNull();
    fc.assert(
      fc.property(fc.string({ maxLength: 60 }), (text) => {
        const moment = roughMoment(text, now);
        if (moment) expect(moment.to).toBeGreaterThanOrEqual(moment.from);
      }),
    );
  });
});

describe("an account as a paragraph", () => {
  it("says what is known and leaves out the rest", () => {
    expect(paragraph(EMPTY_ACCOUNT, "UTC")).toBe("The client lost something.");
    const full = account({
      kinds: ["documents", "sheets"],
      nameHint: "Funding",
      extension: "docx",
      count: 2,
      system: "windows",
      drive: "solid-state",
      folder: "Documents",
      userName: "mo",
      cause: "closed-unsaved",
      lost: { text: "about two weeks ago", from: Date.UTC(2026, 2, 2), to: Date.UTC(2026, 2, 9) },
      usedSince: "little",
      tried: "opened the program again",
    });
    expect(paragraph(full, "UTC")).toBe(
      "The client lost 2 documents and sheets called something like “Funding” with the extension .docx, last seen in Documents on a Windows computer with a solid-state drive used by mo. They closed it without saving between 2 March 2026 and 9 March 2026 (“about two weeks ago”). The drive was used a little since. Tried already: opened the program again.",
    );
  });
});

describe("how well an item fits", () => {
  const item = {
    name: "Funding application.docx",
    folder: "/Users/mo/Documents/Funding",
    kind: "documents",
    size: 5000,
    modified: Date.UTC(2026, 2, 12),
    deletedAt: null,
    lost: true,
    live: false,
    before: null,
    places: ["autosave" as const],
    condition: "whole",
  };
  const stated = account({
    kinds: ["documents"],
    nameHint: "funding aplication",
    folder: "Documents",
    cause: "closed-unsaved",
    lost: { text: "12 March", from: Date.UTC(2026, 2, 12), to: Date.UTC(2026, 2, 13) },
  });

  it("is high where all that is remembered fits, and says why", () => {
    const { score, reasons } = fitOf(stated, item);
    expect(score).toBeGreaterThan(0.85);
    expect(reasons.join("; ")).toMatch(/its name is like “funding aplication”.*/);
    expect(reasons).toContain("its date fits “12 March”");
    expect(reasons).toContain("it was found where one looks when they closed it without saving");
  });

  it("falls with each thing that does not", () => {
    const { score } = fitOf(stated, item);
    for (const change of [
      { name: "Holiday.docx" },
      { kind: "pictures" },
      { folder: "/Windows" },
      { places: ["file-record" as const] },
      { modified: 0 },
      { lost: false },
    ])
      expect(fitOf(stated, { ...item, ...change }).score).toBeLessThan(score);
    expect(fitOf(EMPTY_ACCOUNT, item)).toEqual({ score: 0, reasons: [] });
  });

  it("of a file that was overwritten puts versions from before first, and never the wrong version itself", () => {
    const loss = { text: "12 March", from: Date.UTC(2026, 2, 12), to: Date.UTC(2026, 2, 13) };
    const wrong = account({ nameHint: "observing workbook", cause: "overwritten", lost: loss });
    const live = {
      ...item,
      name: "Observing workbook.xlsx",
      modified: Date.UTC(2026, 2, 12, 15),
      lost: false,
      live: true,
      places: ["file-record" as const],
    };
    const version = { ...live, lost: true, live: false, before: Date.UTC(2026, 2, 10) };
    expect(fitOf(wrong, live).score).toBe(0);
    expect(fitOf({ ...wrong, lost: null }, live).score).toBe(0);
    // One that was saved after the moment, and deleted, is a wrong version too.
    expect(fitOf(wrong, { ...live, lost: true, live: false, modified: Date.UTC(2026, 2, 14) }).score).toBe(0);
    const near = { ...version, before: null, modified: Date.UTC(2026, 2, 11) };
    expect(fitOf(wrong, version).score).toBeGreaterThan(fitOf(wrong, near).score);
    expect(fitOf(wrong, version).reasons[0]).toBe("a version from before the wrong one was saved");
  });

  it("names are like whatever their accents, capitals and typing slips", () => {
    expect(nameLikeness("kuppel grosse", "Größe der Kuppel.txt")).toBeGreaterThan(0.3);
    expect(nameLikeness("REPORT", "report.docx")).toBe(1);
    expect(nameLikeness("reprot", "report.docx")).toBeGreaterThan(0.3);
    expect(nameLikeness("zebra", "report.docx")).toBeLessThan(0.1);
  });
});
