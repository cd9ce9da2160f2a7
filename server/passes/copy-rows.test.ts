import { describe, expect, it } from "vitest";
import { encodeLayout } from "../../core/bytes/layout-code";
import type { Copy } from "../../core/copies/copy";
import { copyAt } from "../../tests/support/copies";
import { COPY_COLUMNS, copyRows } from "./copy-rows";

const copy = (change: Partial<Copy> = {}): Copy => copyAt("/Users/mo/letter.docx", { modified: Date.UTC(2026, 2, 12), ...change });

/** The fields of a row in COPY text form (PostgreSQL 15 documentation, COPY, "Text Format"), read back by the rules given there. */
function fieldsOf(row: string): Record<string, string | null> {
  const undone = (field: string) =>
    field === "\\N" ? null : field.replace(/\\(.)/g, (_, mark: string) => ({ t: "\t", n: "\n", r: "\r" })[mark] ?? mark);
  return Object.fromEntries(row.split("\t").map((field, index) => [COPY_COLUMNS[index]?.name ?? "too many", undone(field)]));
}

const rowsOf = (...copies: Copy[]) => Buffer.from(copyRows(copies, 3)).toString().split("\n").slice(0, -1).map(fieldsOf);

describe("copies as rows for the database", () => {
  it("have every column, in order", () => {
    const [row] = rowsOf(copy());
    expect(Object.keys(row ?? {})).toEqual(COPY_COLUMNS.map(({ name }) => name));
    expect(row).toMatchObject({
      folder_path: "/Users/mo",
      name: "letter.docx",
      kind: "documents",
      state: "deleted",
      first_at: "4096",
      created: null,
      modified: String(Date.UTC(2026, 2, 12)),
    });
    expect(row?.layout).toBe(`\\x${Buffer.from(encodeLayout(copy().layout as NonNullable<Copy["layout"]>)).toString("hex")}`);
  });

  it("give where a copy of a known place was really found, and nothing of that for others", () => {
    const placed = copy({
      place: "autosave",
      found: { rule: "autorecovery-copies", path: "/a\tb/AutoRecovery save of x" },
      file: "a\tb/AutoRecovery save of x",
    });
    expect(rowsOf(placed, copy())).toMatchObject([
      { place: "autosave", rule: "autorecovery-copies", found_path: "/a\tb/AutoRecovery save of x", file: "a\tb/AutoRecovery save of x" },
      { place: "file-record", rule: null, found_path: null, file: null },
    ]);
  });

  it("give the span of a content in several stretches, and of one in a single stretch nothing but its beginning", () => {
    const at = (...runs: [number, number][]) => ({
      size: runs.reduce((sum, [, length]) => sum + length, 0),
      segments: runs.map(([place, length]) => ({ kind: "disk" as const, at: place, length })),
    });
    const rows = rowsOf(
      copy({ layout: at([90_112, 4096], [8192, 4096]) }),
      copy({ layout: at([8192, 4096]) }),
      copy({ layout: null }),
      copy({
        layout: {
          size: 9000,
          segments: [
            {
              kind: "coded",
              coding: "lznt1",
              length: 9000,
              from: [
                { at: 512, length: 512 },
                { at: 4096, length: 100 },
              ],
            },
          ],
        },
      }),
    );
    // Range input form: PostgreSQL 15 documentation, 8.17.5.
    expect(rows.map((row) => [row.first_at, row.span])).toEqual([
      ["90112", "[8192,94208)"],
      ["8192", null],
      [null, null],
      ["512", "[512,4196)"],
    ]);
  });

  it("write evidence as JSON writes it, whether or not anything speaks against the copy", () => {
    const nothing = copy({ evidence: { usedByOthers: 0, takenLater: 0, lost: 0, unreadable: 0, content: null } });
    const something = copy({ evidence: { usedByOthers: 0, takenLater: 0, lost: 0, unreadable: 0, content: { finding: "zeros" } } });
    for (const each of [nothing, something]) expect(JSON.parse(rowsOf(each)[0]?.evidence ?? "")).toEqual(each.evidence);
  });

  it("keep names apart that try to break out of their field, and replace what the database refuses", () => {
    const name = 'a\tb\nc\\d\re"f';
    const [first, second] = rowsOf(copy({ name, path: `/${name}` }), copy({ name: "x\0\ud800y", path: "/x" }));
    expect(first?.name).toBe(name);
    expect(second?.name).toBe("x\uFFFD\uFFFDy");
  });

  it("are the same item at the same path whatever the case and form, and apart where the folder is not known", () => {
    const keys = rowsOf(
      copy({ path: "/A/Größe.txt", name: "Größe.txt" }),
      copy({ path: "/a/GRO\u0308ßE.txt", name: "GRO\u0308ßE.txt" }),
      copy({ path: "/?/a.txt", name: "a.txt", reference: "MFT record 1" }),
      copy({ path: "/?/a.txt", name: "a.txt", reference: "MFT record 2" }),
      copy({ path: `/${"long/".repeat(300)}a.txt`, name: "a.txt" }),
    ).map((row) => row.item_key ?? "");
    expect(keys[0]).toBe(keys[1]);
    expect(keys[2]).not.toBe(keys[3]);
    expect(keys[4]?.length).toBeLessThan(100);
  });

  it("make no item of folders and of the file system's own files", () => {
    expect(rowsOf(copy({ type: "folder" }), copy({ system: true })).map((row) => row.item_key)).toEqual([null, null]);
  });
});
