import { spawnSync } from "node:child_process";
import { createHash, randomBytes } from "node:crypto";
import {
  appendFileSync,
  closeSync,
  existsSync,
  fsyncSync,
  mkdirSync,
  mkdtempSync,
  openSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
  writeSync,
} from "node:fs";
import { hostname, tmpdir } from "node:os";
import { join } from "node:path";
import { beforeEach, describe, expect, it } from "vitest";
import { MemorySource } from "../core/bytes/byte-source";
import { NO_FACTS, NOTHING_CARRIED } from "../core/restore/carried";
import { Delivery } from "./deliver";
import type { Taken } from "./give-name";
import { readBack } from "./read-back";
import { describeWriteError } from "./system-errors";

let work: string;
beforeEach(() => {
  work = mkdtempSync(join(tmpdir(), "compass-deliver-"));
});

function using<T>(use: (delivery: Delivery) => T): T {
  const delivery = Delivery.openHere(work);
  try {
    return use(delivery);
  } finally {
    delivery.close();
  }
}

describe("delivering a file", () => {
  const content = new MemorySource(Buffer.from("what was lost"));
  const hash = createHash("sha256").update("what was lost").digest("hex");
  const give = (conflict: Taken, parts = ["folder", "letter.txt"]) =>
    using((delivery) => delivery.deliver(content, parts, { conflict, facts: { ...NO_FACTS, modified: 1_700_000_000_000 } }));

  it("writes it with its folders and its date, and gives the hash of what was read again", () => {
    const done = give("keep-both");
    expect(done).toEqual({
      output: join(work, "folder/letter.txt"),
      size: 13,
      sha256: hash,
      fromDevice: expect.any(Boolean),
      carried: { ...NOTHING_CARRIED, modified: true },
    });
    expect(statSync(join(work, "folder/letter.txt")).mtimeMs).toBe(1_700_000_000_000);
    expect(readdirSync(join(work, "folder"))).toEqual(["letter.txt"]);
  });

  it("gives a folder that is called like a file of the same restore a number, and nobody else’s file is passed by", () => {
    const written = new Set<string>();
    using((delivery) => {
      delivery.distinguish((path) => written.has(path));
      const put = (...parts: string[]) => {
        const done = delivery.deliver(content, parts, { conflict: "keep-both" });
        if (done) written.add(done.output);
        return done?.output;
      };
      expect(put("notes", "March")).toBe(join(work, "notes/March"));
      expect(put("notes", "March", "one.txt")).toBe(join(work, "notes/March (2)/one.txt"));
      expect(put("notes", "March", "inner", "two.txt")).toBe(join(work, "notes/March (2)/inner/two.txt"));
      expect(delivery.isTaken(["notes", "March", "one.txt"])).toBe(true);
      expect(put("notes", "April", "one.txt")).toBe(join(work, "notes/April/one.txt"));
      expect(put("notes", "April")).toBe(join(work, "notes/April (2)"));
      writeFileSync(join(work, "notes/May"), "another's");
      expect(() => put("notes", "May", "one.txt")).toThrow("is in the way");
    });
  });

  it("keeps the mark “read only”, and replaces a file that has it", () => {
    const write = (text: string) =>
      using((delivery) =>
        delivery.deliver(new MemorySource(Buffer.from(text)), ["marked.txt"], {
          conflict: "replace",
          facts: { ...NO_FACTS, readOnly: true, modified: 1_600_000_000_000 },
        }),
      );
    const output = join(work, "marked.txt");
    expect(write("one")?.carried.readOnly).toBe(true);
    expect(statSync(output).mode & 0o222).toBe(0);
    expect(statSync(output).mtimeMs).toBe(1_600_000_000_000);
    expect(write("two")?.output).toBe(output);
    expect(readFileSync(output, "utf8")).toBe("two");
    expect(readdirSync(work)).toHaveLength(2);
  });

  it("keeps, skips or replaces what is there", () => {
    mkdirSync(join(work, "folder"));
    writeFileSync(join(work, "folder/letter.txt"), "today's");
    expect(give("skip")).toBeNull();
    expect(give("keep-both")?.output).toBe(join(work, "folder/letter (2).txt"));
    expect(give("keep-both")?.output).toBe(join(work, "folder/letter (3).txt"));
    expect(readFileSync(join(work, "folder/letter.txt"), "utf8")).toBe("today's");
    expect(give("replace")?.sha256).toBe(hash);
    expect(readFileSync(join(work, "folder/letter.txt"), "utf8")).toBe("what was lost");
  });

  it("never follows a link planted at the destination", () => {
    const outside = mkdtempSync(join(tmpdir(), "compass-outside-"));
    symlinkSync(outside, join(work, "folder"));
    expect(() => give("replace")).toThrow(/in the way/);
    expect(readdirSync(outside)).toEqual([]);
    writeFileSync(join(outside, "precious"), "precious");
    mkdirSync(join(work, "other"));
    symlinkSync(join(outside, "precious"), join(work, "other/letter.txt"));
    expect(() => give("replace", ["other", "letter.txt"])).toThrow(/in the way/);
    expect(readFileSync(join(outside, "precious"), "utf8")).toBe("precious");
  });

  it("leaves no half-written file behind when the content cannot be had", () => {
    const failing = {
      size: 10,
      read: () => {
        throw new Error("gone");
      },
      unreadable: () => [],
    };
    expect(() => using((delivery) => delivery.deliver(failing, ["a.txt"], { conflict: "keep-both" }))).toThrow("gone");
    expect(existsSync(join(work, "a.txt"))).toBe(false);
    expect(readdirSync(work)).toEqual([]);
  });

  it("leaves no working file behind, whatever is in the way of a name, and whoever was killed before", () => {
    mkdirSync(join(work, "folder/letter.txt"), { recursive: true });
    expect(() => give("replace")).toThrow(/in the way/);
    expect(readdirSync(work)).toEqual(["folder"]);
    // A process that was killed: its number is not in use any more.
    const dead = spawnSync(process.execPath, ["-e", "0"]).pid;
    const left = join(work, `.restoring-${hostname()}-${dead}`);
    mkdirSync(left);
    writeFileSync(join(left, "file"), "half of it");
    give("keep-both", ["b.txt"]);
    expect(readdirSync(work).sort()).toEqual(["b.txt", "folder"]);
  });
});

describe("a destination that is exchanged while it is written to", () => {
  const content = new MemorySource(Buffer.from("what was lost"));
  const stage = (delivery: Delivery, name = "a.txt") => delivery.stage(content, ["box", name], { workingName: name });

  it("gets no file any more, and neither does what a link in its place leads to", () => {
    const root = join(work, "out");
    const source = join(work, "source");
    mkdirSync(source);
    mkdirSync(root);
    const delivery = Delivery.open(work, ["out"], "1");
    expect(delivery.publish(stage(delivery), "a.txt", "keep-both")).toMatchObject({ aside: null });
    const second = stage(delivery, "b.txt");
    renameSync(root, join(work, "moved"));
    symlinkSync(source, root);
    expect(() => delivery.publish(second, "b.txt", "replace")).toThrow("exchanged, moved or removed");
    // What is staged from now on still stands in the folder that was opened, and gets no name either.
    expect(() => delivery.publish(stage(delivery, "c.txt"), "c.txt", "keep-both")).toThrow("exchanged, moved or removed");
    expect(delivery.isStill()).toBe(false);
    delivery.close();
    expect(readdirSync(source)).toEqual([]);
    expect(readdirSync(join(work, "moved"))).toEqual(["box"]);
    expect(readdirSync(join(work, "moved/box"))).toEqual(["a.txt"]);
  });

  it("is not what a link in its place leads to, though that is the very folder", () => {
    const root = join(work, "out");
    mkdirSync(root);
    const delivery = Delivery.open(work, ["out"], "1");
    expect(delivery.isStill()).toBe(true);
    renameSync(root, join(work, "moved"));
    symlinkSync(join(work, "moved"), root);
    expect(delivery.isStill()).toBe(false);
    delivery.close();
  });

  it("below its root: a link in the place of a folder is never followed", () => {
    const source = join(work, "source");
    mkdirSync(source);
    const delivery = Delivery.open(work, ["out"], "1");
    const staged = stage(delivery);
    renameSync(join(work, "out/box"), join(work, "out/other"));
    symlinkSync(source, join(work, "out/box"));
    expect(() => delivery.publish(staged, "a.txt", "keep-both")).toThrow("in the way");
    rmSync(join(work, "out/box"));
    // The way is free again: the same file can have its name now.
    expect(delivery.publish(staged, "a.txt", "keep-both")).toMatchObject({ aside: null });
    delivery.close();
    expect([readdirSync(source), readdirSync(join(work, "out/box")), readdirSync(join(work, "out/other"))]).toEqual([[], ["a.txt"], []]);
    symlinkSync(source, join(work, "leads away"));
    expect(() => Delivery.open(work, ["leads away"], "1")).toThrow("in the way");
  });
});

describe("reading again what was written", () => {
  const countedReads = () => Number(/^read_bytes: (\d+)$/m.exec(readFileSync("/proc/self/io", "latin1"))?.[1]);
  const written = (folder: string, size: number) => {
    const path = join(mkdtempSync(join(folder, "compass-read-back-")), "file");
    const bytes = Buffer.alloc(size, "read again ");
    const file = openSync(path, "w");
    writeFileSync(file, bytes);
    fsyncSync(file);
    closeSync(file);
    return { path, sha256: createHash("sha256").update(bytes).digest("hex") };
  };
  // Whether the device is read is counted by the system itself (proc(5), io).
  const counts = existsSync("/proc/self/io");

  it.runIf(counts).each([1, 511, 4096, (1 << 20) + 1, 5_000_000])("fetches %i bytes from the device, or says that it did not", (size) => {
    const { path, sha256 } = written(tmpdir(), size);
    // The cache holds it now.
    readFileSync(path);
    const before = countedReads();
    const found = readBack(path);
    expect(found.sha256).toBe(sha256);
    expect(found.fromDevice).toBe(countedReads() - before >= size);
  });

  it.runIf(counts && existsSync("/dev/shm"))("of a file system in memory is never called reading a device", () => {
    const { path, sha256 } = written("/dev/shm", 100_000);
    expect(readBack(path)).toEqual({ sha256, fromDevice: false });
    rmSync(path);
  });

  // The last one is too large to be kept in memory until it was read again.
  describe.each([0, 1, 1 << 20, (1 << 20) + 1, 5_000_000, (128 << 20) + 1])("of %i bytes", (size) => {
    const bytes = randomBytes(size);
    const isLarge = size > 100 << 20;
    const timed = isLarge ? { tags: ["long"] } : {};
    const folder = () => mkdtempSync(join(tmpdir(), "compass-staged-"));
    const stageWith = (root: string, spoil: (path: string) => void) => {
      const delivery = Delivery.open(root, [], "1");
      let left = size;
      const onBytes = (count: number) => {
        left -= count;
        if (left === 0) spoil(join(root, ".restoring-1", "w"));
      };
      try {
        return delivery.stage(new MemorySource(bytes), ["a.bin"], { workingName: "w", onBytes });
      } finally {
        delivery.close();
      }
    };

    it("has the hash of those bytes", timed, () => {
      const root = folder();
      expect(stageWith(root, () => undefined).sha256).toBe(createHash("sha256").update(bytes).digest("hex"));
      rmSync(root, { recursive: true });
    });

    const spoils: [string, (path: string) => void][] = [
      ["first byte is another", (path) => overwrite(path, 0)],
      ["last byte is another", (path) => overwrite(path, size - 1)],
      ["last byte is missing", (path) => truncateSync(path, size - 1)],
      ["bytes are followed by another", (path) => appendFileSync(path, "x")],
    ];
    it.each(size === 0 ? [] : isLarge ? spoils.slice(1, 2) : spoils)("is refused where its %s", timed, (_, spoil) => {
      const root = folder();
      expect(() => stageWith(root, spoil)).toThrow("differ from those written");
      rmSync(root, { recursive: true });
    });

    function overwrite(path: string, at: number): void {
      const file = openSync(path, "r+");
      writeSync(file, Buffer.from([(bytes[at] as number) ^ 1]), 0, 1, at);
      closeSync(file);
    }
  });

  it("never follows a link", () => {
    const { path } = written(tmpdir(), 10);
    symlinkSync(path, `${path} link`);
    expect(() => readBack(`${path} link`)).toThrow("ELOOP");
  });
});

describe("an error of the destination", () => {
  it.each(["ENOSPC", "EROFS", "EACCES", "EIO", "ENOENT"])("%s is a sentence that says what to do", (code) => {
    const words = describeWriteError(Object.assign(new Error(`${code}: something, open '/x'`), { code }));
    expect(words).not.toContain(code);
    expect(words).toMatch(/^[A-Z].*\.$/);
  });
});
