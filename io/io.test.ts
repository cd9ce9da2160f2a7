import { execFileSync } from "node:child_process";
import { createHash } from "node:crypto";
import { constants, mkdirSync, mkdtempSync, readFileSync, statSync, symlinkSync, truncateSync, utimesSync, writeFileSync } from "node:fs";
import { createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { beforeEach, describe, expect, it, vi } from "vitest";
import { readBytes } from "../core/bytes/byte-source";
import { fixture } from "../tests/support/volume-truth";
import { openSource } from "./open-source";
import { ReadOnlyFile } from "./read-only-file";
import { SourceError } from "./source-error";

const opened = vi.hoisted(() => [] as { path: string; flags: unknown }[]);
vi.mock("node:fs", async (original) => {
  const fs = await original<typeof import("node:fs")>();
  return {
    ...fs,
    openSync: (path: string, flags: number, mode?: number) => {
      opened.push({ path, flags });
      return fs.openSync(path, flags, mode);
    },
  };
});

let work: string;
beforeEach(() => {
  work = mkdtempSync(join(tmpdir(), "compass-io-"));
});

/** The bits of the flags that say whether a file is opened for reading or writing (open(2)). */
const ACCESS = constants.O_RDONLY | constants.O_WRONLY | constants.O_RDWR;

describe("a source", () => {
  it("that is no file and no drive is refused at once, and nothing waits for it", async () => {
    const pipe = join(work, "pipe.img");
    execFileSync("mkfifo", [pipe]);
    const socket = join(work, "socket.img");
    const server = createServer().listen(socket);
    await new Promise((done) => server.once("listening", done));
    for (const path of [pipe, socket, "/dev/zero", "/dev/tty"]) expect(() => openSource(path), path).toThrow(/^\S+ (is|cannot|may)/);
    for (const path of [pipe, "/dev/zero"]) expect(() => openSource(path)).toThrow("is no file and no drive");
    server.close();
    mkdirSync(join(work, "folder.img"));
    expect(() => openSource(join(work, "folder.img"))).toThrow("is a folder");
  });

  it("keeps when it was last read", () => {
    const path = join(work, "disk.img");
    writeFileSync(path, fixture("tiny-ntfs.img.gz"));
    utimesSync(path, new Date(1_000_000_000_000), statSync(path).mtime);
    const source = openSource(path);
    readBytes(source.disk, 0, 4096);
    source.close();
    expect(statSync(path).atimeMs).toBe(1_000_000_000_000);
  });

  it("is opened for reading only, and its file is left as it was", () => {
    const path = join(work, "disk.img");
    writeFileSync(path, fixture("tiny-ntfs.img.gz"));
    const before = { time: statSync(path).mtimeMs, hash: createHash("sha256").update(readFileSync(path)).digest("hex") };
    opened.length = 0;
    const source = openSource(path);
    expect(source.report.volumes[0]?.filesystem).toBe("ntfs");
    source.close();
    expect(opened.map((each) => each.path)).toEqual([path]);
    expect(opened.map(({ flags }) => (flags as number) & ACCESS)).toEqual([constants.O_RDONLY]);
    // Whoever looks when the client read the file last still finds that out.
    if (constants.O_NOATIME !== undefined) expect((opened[0]?.flags as number) & constants.O_NOATIME).not.toBe(0);
    expect(statSync(path).mtimeMs).toBe(before.time);
    expect(createHash("sha256").update(readFileSync(path)).digest("hex")).toBe(before.hash);
  });

  it("in parts, or with a parent, opens each of its files for reading only, and closes them all", () => {
    const whole = fixture("tiny-ntfs.img.gz");
    const half = Math.floor(whole.length / 2);
    writeFileSync(join(work, "disk.001"), whole.subarray(0, half));
    writeFileSync(join(work, "disk.002"), whole.subarray(half));
    opened.length = 0;
    const source = openSource(join(work, "disk.002"));
    expect(source.report).toMatchObject({ container: "split", volumes: [{ filesystem: "ntfs" }] });
    expect(opened.map(({ flags }) => (flags as number) & ACCESS)).toEqual([constants.O_RDONLY, constants.O_RDONLY]);
    source.close();
    // A closed descriptor may not be read: none of the parts was left open.
    expect(() => readBytes(source.disk, 1 << 20, 70_000)).toThrow();
    writeFileSync(join(work, "child.vhd"), fixture("diff-child.vhd.gz"));
    writeFileSync(join(work, "open-diff-parent.vhd"), fixture("diff-parent.vhd.gz"));
    const child = openSource(join(work, "child.vhd"));
    expect(child.report.container).toBe("vhd");
    child.close();
  });

  it("does not follow links that stand beside it: they may lead out of the folders that may be read", () => {
    const elsewhere = mkdtempSync(join(tmpdir(), "compass-elsewhere-"));
    writeFileSync(join(elsewhere, "parent.vhd"), fixture("diff-parent.vhd.gz"));
    writeFileSync(join(work, "child.vhd"), fixture("diff-child.vhd.gz"));
    symlinkSync(join(elsewhere, "parent.vhd"), join(work, "open-diff-parent.vhd"));
    expect(() => openSource(join(work, "child.vhd"))).toThrow("which is not beside it");
    // Named by hand it may stand anywhere.
    const given = openSource({ sourcePath: join(work, "child.vhd"), beside: [join(elsewhere, "parent.vhd")] });
    expect(given.report.volumes.length).toBe(2);
    given.close();
  });

  it("that is missing, empty or a folder is refused in words, and one that begins like a text is opened with a warning", () => {
    expect(() => openSource(join(work, "not-there.img"))).toThrow(/is not there/);
    writeFileSync(join(work, "empty.img"), "");
    expect(() => openSource(join(work, "empty.img"))).toThrow(/is empty/);
    writeFileSync(join(work, "notes.img"), "just some words\n".repeat(400));
    const notes = openSource(join(work, "notes.img"));
    expect(notes.report.notes.join(" ")).toContain("It begins like a text file");
    notes.close();
    expect(() => openSource(work)).toThrow(SourceError);
  });

  it("of thirty terabytes of nothing opens at once", () => {
    const path = join(work, "huge.img");
    writeFileSync(path, "");
    truncateSync(path, 8 * 2 ** 40);
    const file = new ReadOnlyFile(path);
    expect(readBytes(file, 7 * 2 ** 40, 16)).toEqual(new Uint8Array(16));
    expect(file.unreadable(0, file.size)).toEqual([]);
    file.close();
  });
});
