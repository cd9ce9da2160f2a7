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

function read(
  parts: ReadonlyMap<string, Buffer>,
  chosen: string,
): { contents: Map<string, Buffer>; notes: readonly string[]; findings: string } {
  const source = (name: string) => {
    const bytes = parts.get(name);
    return bytes ? new MemorySource(bytes) : null;
  };
  const { disk, notes } = openContainer(source(chosen) as MemorySource, { name: chosen, list: () => [...parts.keys()], open: source });
  const volume = openTar(disk, 0, disk.size);
  const records = [...volume.readRecords(null, 1000)].flatMap((batch) => batch.records);
  const findings = (volume.findings?.() ?? []).map(({ what }) => what).join(" ");
  const contents = new Map<string, Buffer>();
  for (const { type, path, content } of records) {
    if (type !== "file" || content.kind !== "placed" || !content.likeliest.sure) continue;
    const all = new LayoutSource(disk, content.likeliest.layout);
    contents.set(path.slice(1), Buffer.from(readBytes(all, 0, all.size)));
  }
  return { contents, notes, findings };
}

describe("a TAR archive written over several media", () => {
  it.each(["gnu", "posix"] as const)("is put together from its parts, whichever was chosen: %s", (form) => {
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
    expect(joined).toBe(chosenOnes);
  });

  it.each(["gnu", "posix"] as const)("has files that are kept without their holes go over from one to the next: %s", (form) => {
    const folder = mkdtempSync(join(work, "sparse-"));
    const random = seeded(form.length);
    const noise = (length: number) => Buffer.from(Array.from({ length }, () => Math.floor(random() * 256)));
    const kept = Buffer.alloc(3_000_000);
    for (let at = 0; at < kept.length; at += 500_000) noise(30_000).copy(kept, at);
    const files = new Map([
      ["a.bin", noise(20_000)],
      ["hole.bin", kept],
      ["z.bin", noise(50_000)],
    ]);
    for (const name of ["a.bin", "z.bin"]) writeFileSync(join(folder, name), files.get(name) as Buffer);
    writeFileSync(join(folder, "with.bin"), kept);
    expect(spawnSync("cp", ["--sparse=always", join(folder, "with.bin"), join(folder, "hole.bin")]).status).toBe(0);
    const names = Array.from({ length: 9 }, (_, i) => join(folder, `part.${i + 1}.tar`));
    const { status } = spawnSync(
      "tar",
      ["-c", "-S", "-M", "-L80", `--format=${form}`, ...names.flatMap((name) => ["-f", name]), "-C", folder, "a.bin", "hole.bin", "z.bin"],
      { input: "" },
    );
    expect(status).toBe(0);
    const parts = new Map(
      readdirSync(folder)
        .filter((name) => name.startsWith("part."))
        .map((name) => [name, readFileSync(join(folder, name))]),
    );
    expect(parts.size).toBeGreaterThan(3);
    for (const chosen of parts.keys()) {
      const { contents } = read(parts, chosen);
      expect([...contents.keys()], chosen).toEqual([...files.keys()]);
      for (const [path, bytes] of contents) expect(bytes.equals(files.get(path) as Buffer), `${chosen} ${path}`).toBe(true);
    }
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

  it.each(["gnu", "posix"] as const)("names the missing part wherever the one before it ends, among headers too: %s", (form) => {
    let missed = 0;
    for (let seed = 31; seed <= 42; seed += 1) {
      const { files, parts } = drawn(seed, form);
      const names = [...parts.keys()].sort((a, b) => Number(a.split(".")[1]) - Number(b.split(".")[1]));
      for (let gone = 1; gone < names.length; gone += 1) {
        const left = new Map([...parts].filter(([name]) => name !== names[gone]));
        const { notes, contents, findings } = read(left, "set.1.tar");
        expect(contents.size).toBeLessThan(files.size);
        // The first alone is an archive of its own: that it has no end is said where it is looked through.
        if (gone === 1) expect(findings).toContain("ends without the zeros that end one");
        else expect(notes.join(" "), `${seed}, without ${names[gone]}`).toContain(`The part after “${names[gone - 1]}” is not beside it`);
        missed += 1;
      }
      expect(read(parts, "set.1.tar").notes.join(" ")).not.toContain("not beside it");
      expect(read(parts, "set.1.tar").findings).toBe("");
    }
    expect(missed).toBeGreaterThan(30);
  });

  it("is not put together with what has the next number alone", () => {
    const folder = mkdtempSync(join(work, "folders-"));
    mkdirSync(join(folder, "empty"));
    const whole = spawnSync("tar", ["-c", "-C", folder, "empty"]).stdout;
    const random = seeded(11);
    const noise = Buffer.from(Array.from({ length: 512 }, () => Math.floor(random() * 256)));
    for (const [first, next] of [
      // A folder's header at the end, and what is no header behind it.
      [whole.subarray(0, 512), noise],
      // An archive with its end, and another one.
      [whole, whole],
    ] as const) {
      const parts = new Map([
        ["set.1.tar", Buffer.from(first)],
        ["set.2.tar", Buffer.from(next)],
      ]);
      expect(read(parts, "set.1.tar").notes).toEqual([]);
    }
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
