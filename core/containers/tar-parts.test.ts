import { spawnSync } from "node:child_process";
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { openTar } from "../archives/tar-volume";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { LayoutSource } from "../bytes/layout";
import { openContainer } from "./open-container";

const work = mkdtempSync(join(tmpdir(), "tar-parts-"));
afterAll(() => rmSync(work, { recursive: true }));

/** Archives drawn by lot, written in parts by GNU tar; the files in them are the truth. */
function drawn(seed: number, form: string): { files: Map<string, Buffer>; parts: Map<string, Buffer> } {
  const random = seeded(seed);
  const folder = mkdtempSync(join(work, "drawn-"));
  const files = new Map<string, Buffer>();
  for (let number = 0; number < 14; number += 1) {
    const length = Math.floor(random() * 60_000);
    files.set(`tree/box ${number % 3}/file ${number}.bin`, Buffer.from(Array.from({ length }, () => Math.floor(random() * 256))));
  }
  for (const [path, bytes] of files) {
    mkdirSync(dirname(join(folder, path)), { recursive: true });
    writeFileSync(join(folder, path), bytes);
  }
  const kept = join(folder, "kept");
  mkdirSync(kept);
  // Asked for the next part, it is given its name.
  const answers = Array.from({ length: 60 }, (_, index) => `n ${kept}/set.${index + 2}.tar\n`).join("");
  const most = 60 + Math.floor(random() * 6) * 10;
  const { status, stderr } = spawnSync(
    "tar",
    ["-c", "-M", `-L${most}`, "-b", "2", `--format=${form}`, "-f", join(kept, "set.1.tar"), "-C", folder, "tree"],
    { input: answers, encoding: "utf8" },
  );
  if (status !== 0) throw new Error(stderr);
  return { files, parts: new Map(readdirSync(kept).map((name) => [name, readFileSync(join(kept, name))])) };
}

function read(parts: ReadonlyMap<string, Buffer>, chosen: string): { contents: Map<string, Buffer>; notes: readonly string[] } {
  const source = (name: string) => {
    const bytes = parts.get(name);
    return bytes ? new MemorySource(bytes) : null;
  };
  const { disk, notes } = openContainer(source(chosen) as MemorySource, { name: chosen, list: () => [...parts.keys()], open: source });
  const records = [...openTar(disk, 0, disk.size).readRecords(null, 1000)].flatMap((batch) => batch.records);
  const contents = new Map<string, Buffer>();
  for (const { type, path, content } of records) {
    if (type !== "file" || content.kind !== "placed" || !content.likeliest.sure) continue;
    const all = new LayoutSource(disk, content.likeliest.layout);
    contents.set(path.slice(1), Buffer.from(readBytes(all, 0, all.size)));
  }
  return { contents, notes };
}

describe("a TAR archive written over several media", () => {
  // Where a part ends among the headers of a file, which are longer in the second form, nothing says which is the next.
  it.each([
    ["gnu", 0.9],
    ["posix", 0.7],
  ] as const)("is put together from its parts, whichever was chosen: %s", (form, share) => {
    let [joined, chosenOnes] = [0, 0];
    for (let seed = 1; seed <= 8; seed += 1) {
      const { files, parts } = drawn(seed, form);
      expect(parts.size).toBeGreaterThan(2);
      for (const chosen of parts.keys()) {
        const { contents } = read(parts, chosen);
        for (const [path, bytes] of contents) expect(bytes.equals(files.get(path) as Buffer), `${seed} ${path}`).toBe(true);
        chosenOnes += 1;
        if (contents.size === files.size) joined += 1;
      }
    }
    expect(joined / chosenOnes).toBeGreaterThan(share);
  });

  it("with a part missing says so, and calls no file whole that was in it", () => {
    const { files, parts } = drawn(3, "gnu");
    const names = [...parts.keys()].sort((a, b) => Number(a.split(".")[1]) - Number(b.split(".")[1]));
    const missing = names[Math.floor(names.length / 2)] as string;
    const left = new Map([...parts].filter(([name]) => name !== missing));
    for (const chosen of left.keys()) {
      const { contents } = read(left, chosen);
      for (const [path, bytes] of contents) expect(bytes.equals(files.get(path) as Buffer), path).toBe(true);
      expect(contents.size).toBeLessThan(files.size);
    }
    const { notes } = read(left, names[0] as string);
    expect(notes.join(" ")).toMatch(/The part after “set\.\d+\.tar” is not beside it/);
  });

  it("beside another backup of the same files keeps to the parts of its own name, and says so where names do not tell", () => {
    // Of the second backup the last part has other content, and all parts go on in the same way.
    const { files, parts } = drawn(6, "gnu");
    const changed = new Map([...parts].map(([name, bytes]) => [name, Buffer.from(bytes)]));
    const last = [...changed.keys()].sort((a, b) => Number(a.split(".")[1]) - Number(b.split(".")[1])).at(-1) as string;
    changed.get(last)?.fill(0x2a, 600, 900);
    const renamed = (of: ReadonlyMap<string, Buffer>, week: string) =>
      [...of].map(([name, bytes]) => [name.replace("set", week), bytes] as const);
    const both = new Map([...renamed(parts, "week-01"), ...renamed(changed, "week-02")]);
    const own = read(both, "week-01.1.tar");
    expect(own.contents.size).toBe(files.size);
    for (const [path, bytes] of own.contents) expect(bytes.equals(files.get(path) as Buffer), path).toBe(true);
    expect(own.notes.join(" ")).toContain(`“week-01.1.tar” to “${last.replace("set", "week-01")}”`);
    expect(own.notes.join(" ")).not.toContain("More than one file");
    const unclear = new Map([...parts, [last.replace(".tar", "-.tar"), changed.get(last) as Buffer] as const]);
    expect(read(unclear, "set.1.tar").notes.join(" ")).toContain("More than one file beside it could be the next part");
  });

  it("beside others of alike names stays by itself", () => {
    const { parts } = drawn(4, "gnu");
    const other = drawn(5, "gnu").parts;
    const mixed = new Map([...parts, ...[...other].map(([name, bytes]) => [name.replace("set.", "set.2."), bytes] as const)]);
    const alone = read(parts, "set.1.tar");
    const among = read(mixed, "set.1.tar");
    expect([...among.contents.keys()].sort()).toEqual([...alone.contents.keys()].sort());
  });
});
