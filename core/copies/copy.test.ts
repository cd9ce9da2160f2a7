import fc from "fast-check";
import sharp from "sharp";
import { beforeAll, describe, expect, it } from "vitest";
import { photograph } from "../../demo/draw";
import { recordAt } from "../../tests/support/copies";
import { MemorySource } from "../bytes/byte-source";
import { type Layout, layoutOf, type Segment } from "../bytes/layout";
import { ABSENCES, ALL_BYTES_THERE, absent, type FileRecord, placed } from "../filesystems/file-record";
import { conditionOf, copyOfRecord, type Evidence } from "./copy";

const layout: Layout = { size: 1000, segments: [{ kind: "disk", at: 0, length: 1000 }] };
const record = { type: "file", size: 1000, layout, state: "deleted" } as const;
const evidence = (change: Partial<Evidence> = {}): Evidence => ({ ...ALL_BYTES_THERE, unreadable: 0, content: null, ...change });
const sound = { finding: "agrees", format: "jpeg", checked: true } as const;

describe("the condition of a copy", () => {
  it.each([
    ["all bytes there, content sound", evidence({ content: sound }), "whole", 1],
    ["all bytes there, nothing to check", evidence({ content: { finding: "unknown", format: null } }), "whole", 1],
    ["some used by others", evidence({ usedByOthers: 400 }), "partial", 0.6],
    ["some taken later", evidence({ takenLater: 250, content: sound }), "partial", 0.75],
    ["some unreadable", evidence({ unreadable: 100 }), "partial", 0.9],
    ["all used by others", evidence({ usedByOthers: 1000, content: sound }), "name-only", 0],
    ["more lost than there was", evidence({ usedByOthers: 900, lost: 900 }), "name-only", 0],
    ["content of something else", evidence({ content: { finding: "differs", expected: "JPEG picture", format: "png" } }), "not-checked", 1],
    ["nothing but zeros", evidence({ content: { finding: "zeros" } }), "not-checked", 0],
    ["damaged half way", evidence({ content: { finding: "damaged", format: "jpeg", at: 500, reason: "x" } }), "partial", 0.5],
  ] as const)("%s", (_words, facts, condition, survival) => {
    expect(conditionOf(record, facts)).toEqual({ condition, survival });
  });

  it("where the place of the bytes is only assumed is whole by the content's own proof alone", () => {
    expect(conditionOf(record, evidence({ content: sound }), true).condition).toBe("whole");
    expect(conditionOf(record, evidence({ content: { finding: "agrees", format: "text", checked: false } }), true).condition).toBe(
      "not-checked",
    );
    expect(conditionOf(record, evidence(), true).condition).toBe("not-checked");
  });

  it("is never whole while a byte is missing, whatever the evidence", () => {
    const count = fc.integer({ min: 0, max: 1000 });
    const content = fc.constantFrom(null, sound, { finding: "zeros" } as const, { finding: "unknown", format: null } as const);
    fc.assert(
      fc.property(count, count, count, count, content, (usedByOthers, takenLater, lost, unreadable, found) => {
        const { condition, survival } = conditionOf(record, { usedByOthers, takenLater, lost, unreadable, content: found });
        if (usedByOthers + takenLater + lost + unreadable > 0) expect(condition).not.toBe("whole");
        expect(survival >= 0 && survival <= 1).toBe(true);
        // Zeros are bytes of which nobody can say whose they are: none of them counts as left.
        const zeros = found?.finding === "zeros" && condition === "not-checked";
        expect(condition === "name-only").toBe(survival === 0 && !zeros);
      }),
    );
  });

  it("of an empty file and a folder is whole; of holes only, or without a readable content, it is not checked", () => {
    expect(conditionOf({ ...record, size: 0, layout: null }, evidence()).condition).toBe("whole");
    expect(conditionOf({ ...record, type: "folder" }, evidence()).condition).toBe("whole");
    const holes: Layout = { size: 1000, segments: [{ kind: "hole", length: 1000 }] };
    expect(conditionOf({ ...record, layout: holes }, evidence({ content: { finding: "zeros" } }))).toEqual({
      condition: "not-checked",
      survival: 0,
    });
    // The record of a live file vouches for its holes.
    expect(conditionOf({ ...record, state: "live", layout: holes }, evidence()).condition).toBe("whole");
    expect(conditionOf({ ...record, layout: null }, evidence()).condition).toBe("not-checked");
  });
});

describe("a record whose content cannot be read", () => {
  it("is never called whole, whatever its size, and says why", () => {
    const nothing = new MemorySource(new Uint8Array(0));
    for (const why of ABSENCES)
      for (const size of [0, 1, 4096])
        for (const state of ["live", "deleted"] as const) {
          const copy = copyOfRecord(recordAt("/a.txt", { size, state, content: absent(why, "the reason") }), nothing);
          const closed = why === "encrypted" || why === "not-followed";
          expect([copy.condition, copy.survival, copy.layout, copy.absent], why).toEqual([
            closed ? "not-checked" : "name-only",
            0,
            null,
            why,
          ]);
          expect(copy.notes).toEqual(["the reason"]);
        }
  });
});

describe("a record with two likely layouts", () => {
  let picture: Buffer;
  beforeAll(async () => {
    picture = await sharp(await photograph("stars", 9, 300, 200, 80))
      .png()
      .toBuffer();
  });

  const make = (first: Layout, second: Layout, evidence = ALL_BYTES_THERE): FileRecord =>
    recordAt("/a.png", {
      size: picture.length,
      content: {
        kind: "placed",
        likeliest: { layout: first, evidence, sure: false, note: "in one stretch" },
        others: [{ layout: second, evidence: ALL_BYTES_THERE, sure: false, note: "around others" }],
      },
    });
  const disk = (...segments: { at: number; length: number }[]) =>
    layoutOf(
      segments.map((segment): Segment => ({ kind: "disk", ...segment })),
      picture.length,
    );

  it("takes the one that the content proves, and says which", () => {
    const half = 1024;
    const bytes = Buffer.concat([picture.subarray(0, half), Buffer.alloc(512, 0x55), picture.subarray(half)]);
    const contiguous = disk({ at: 0, length: picture.length });
    const around = disk({ at: 0, length: half }, { at: half + 512, length: picture.length - half });
    const chosen = copyOfRecord(make(contiguous, around), new MemorySource(bytes));
    expect([chosen.condition, chosen.layout, chosen.notes]).toEqual(["whole", around, ["around others"]]);
    const kept = copyOfRecord(make(contiguous, around), new MemorySource(Buffer.concat([picture, Buffer.alloc(512)])));
    expect([kept.condition, kept.layout, kept.notes]).toEqual(["whole", contiguous, ["in one stretch"]]);
  });

  it("of nothing but zeros says that the drive may have erased them, and promises nothing", () => {
    const place = disk({ at: 0, length: picture.length });
    const record = recordAt("/a.png", { size: picture.length, content: placed(place) });
    const copy = copyOfRecord(record, new MemorySource(new Uint8Array(picture.length)));
    expect([copy.condition, copy.notes.join()]).toEqual([
      "not-checked",
      expect.stringContaining("the drive may have erased these bytes itself"),
    ]);
  });

  it("stays with the recorded cluster that others use now, where a guess reads nothing but zeros", () => {
    const recorded = disk({ at: 0, length: picture.length });
    const record = make(recorded, disk({ at: 65_536, length: picture.length }), {
      ...ALL_BYTES_THERE,
      usedByOthers: picture.length,
      foreign: [{ start: 0, end: picture.length }],
    });
    const copy = copyOfRecord(record, new MemorySource(new Uint8Array(65_536 + picture.length)));
    expect([copy.condition, copy.survival]).toEqual(["name-only", 0]);
    expect(copy.layout?.segments).toEqual([{ kind: "disk", at: 0, length: picture.length, foreign: true }]);
  });

  it("does not count blocks against a file that others were meant to share", () => {
    const place = disk({ at: 0, length: picture.length });
    const shared = recordAt("/a.png", { size: picture.length, content: placed(place, { ...ALL_BYTES_THERE, shared: 4096 }) });
    const copy = copyOfRecord(shared, new MemorySource(picture));
    expect([copy.condition, copy.survival, copy.evidence.shared]).toEqual(["whole", 1, 4096]);
  });

  it("stays with the first when neither is proven", () => {
    const nonsense = new MemorySource(new Uint8Array(picture.length + 4096).fill(7));
    const copy = copyOfRecord(make(disk({ at: 0, length: picture.length }), disk({ at: 512, length: picture.length })), nonsense);
    expect(copy.condition).toBe("not-checked");
    expect(copy.notes[0]).toBe("in one stretch");
  });
});
