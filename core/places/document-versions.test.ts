import { describe, expect, it } from "vitest";
import { placedCopies, treeOf } from "../../tests/support/placed-files";
import { fixture } from "../../tests/support/volume-truth";

/** A store as SQLite 3.40.1 left its database; what each file is a version of was written down when it was made (`make-document-versions.py`). */
interface Made {
  files: Record<string, { content: string; modified: number; state: "live" | "deleted" }>;
  truth: { held: string; path: string | null; version?: number; of?: number; kept?: number; deletedRow?: boolean }[];
}
const made = JSON.parse(fixture("document-versions.json.gz").toString()) as Made;
const filesOf = (change: (path: string, content: Uint8Array) => Uint8Array | null = (_, content) => content) =>
  Object.entries(made.files).flatMap(([path, { content, modified, state }]) => {
    const bytes = change(path, new Uint8Array(Buffer.from(content, "base64")));
    return bytes ? [{ path, content: bytes, modified: modified * 1000, state }] : [];
  });
const noteOf = ({ version, of, kept = 0 }: Made["truth"][number]) =>
  `version ${version} of ${of} that the store’s database names of one document, kept, on ${new Date(kept * 1000).toISOString().slice(0, 16).replace("T", " ")} UTC`;

describe("a Mac's store of document versions", () => {
  const copies = placedCopies(treeOf(filesOf()));

  it("gives every version the name and folder of its document, with its number and moment: log, moved and deleted ones included", () => {
    expect(made.truth.filter(({ path }) => path).length).toBeGreaterThan(12);
    for (const entry of made.truth) {
      const copy = copies.find(({ found }) => found?.path === entry.held);
      expect(copy, entry.held).toBeDefined();
      expect(copy?.path).toBe(entry.path?.normalize("NFC") ?? entry.held);
      expect(copy?.place).toBe("own-backup");
      if (entry.path) expect(copy?.notes.join(" ")).toContain(noteOf(entry));
      expect(copy?.notes.some((note) => note.includes("Its entry there was deleted"))).toBe(entry.deletedRow ?? false);
    }
    expect(copies).toHaveLength(made.truth.length);
  });

  it("keeps the date of the file as it was then, and no path that leads out of the volume", () => {
    for (const { held } of made.truth)
      expect(copies.find(({ found }) => found?.path === held)?.modified).toBe((made.files[held]?.modified ?? 0) * 1000);
    expect(copies.some(({ path }) => path.includes(".."))).toBe(false);
  });

  it("without its log shows what the database said before; without its database, versions under their own names", () => {
    const before = placedCopies(treeOf(filesOf((path, content) => (path.endsWith("-wal") ? null : content))));
    expect(before.filter(({ path }) => path.endsWith("/Desktop/Minutes.rtf"))).toHaveLength(2);
    expect(before.some(({ path }) => path.includes("Added last"))).toBe(false);
    const without = placedCopies(treeOf(filesOf((path, content) => (path.includes("/db-V1/") ? null : content))));
    expect(without).toHaveLength(made.truth.length);
    for (const { path, found } of without) expect(path).toBe(found?.path);
  });

  it("in a folder that was copied from a drive gives paths below that folder", () => {
    const files = filesOf().map((file) => ({ ...file, path: `/Old Mac${file.path}` }));
    const [report] = placedCopies(treeOf(files)).filter(({ path }) => path.endsWith("Added last.rtf"));
    expect(report?.path).toBe("/Old Mac/Users/maribel/Documents/Added last.rtf");
  });

  it("of which the database is damaged anywhere still gives every version once, under one of its two names", { tags: "long" }, () => {
    let named = 0;
    for (let seed = 1; seed <= 60; seed += 1) {
      let draw = seed * 2_654_435_761;
      const next = (below: number) => {
        draw = (Math.imul(draw, 1_664_525) + 1_013_904_223) >>> 0;
        return draw % below;
      };
      const files = filesOf((path, content) => {
        if (!path.includes("/db-V1/")) return content;
        for (let i = 0; i < 40; i += 1) content[next(content.length)] = next(256);
        return content.slice(0, next(4) === 0 ? next(content.length) : content.length);
      });
      const found = placedCopies(treeOf(files));
      expect(found.map((copy) => copy.found?.path).sort()).toEqual(made.truth.map(({ held }) => held).sort());
      named += found.filter((copy) => copy.path !== copy.found?.path).length;
    }
    expect(named).toBeGreaterThan(60 * 3);
  });
});
