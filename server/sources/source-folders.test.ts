import { spawnSync } from "node:child_process";
import { mkdirSync, mkdtempSync, realpathSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { beforeEach, describe, expect, it } from "vitest";
import type { Drive } from "../../io/drives";
import { freeBytesIn, refusal } from "../restores/delivery";
import { connectedDrives, offeredDrives, permittedDrive } from "./drives";
import { browse, liesWithin, permittedSource } from "./source-folders";

let work: string;
beforeEach(() => {
  work = realpathSync(mkdtempSync(join(tmpdir(), "compass-folders-")));
  for (const folder of ["sources/inner", "delivery", "elsewhere"]) mkdirSync(join(work, folder), { recursive: true });
  writeFileSync(join(work, "sources/b.img"), "b");
  writeFileSync(join(work, "sources/inner/a.img"), "a");
  writeFileSync(join(work, "sources/.hidden"), "h");
  writeFileSync(join(work, "elsewhere/secret.img"), "s");
  process.env.COMPASS_SOURCES = join(work, "sources");
  process.env.COMPASS_DELIVERY = join(work, "delivery");
});

describe("lying within a folder", () => {
  it.each([
    ["/a/b", "/a", true],
    ["/a", "/a", true],
    ["/ab", "/a", false],
    ["/a/..b", "/a", true],
    ["/", "/a", false],
  ])("%s in %s: %s", { tags: "long" }, (path, folder, within) => {
    expect(liesWithin(path, folder)).toBe(within);
  });
});

describe("the source folders", () => {
  it("are browsed, folders first, hidden files left out, and no further up than themselves", () => {
    const top = browse(join(work, "sources"));
    expect(top.entries.map((entry) => entry.name)).toEqual(["inner", "b.img"]);
    expect(top.parent).toBeNull();
    expect(browse(join(work, "sources/inner")).parent).toBe(join(work, "sources"));
  });

  it("give nothing outside, neither by a path with dots nor through a link", () => {
    expect(permittedSource(join(work, "sources/inner/../b.img"))).toBe(join(work, "sources/b.img"));
    symlinkSync(join(work, "elsewhere/secret.img"), join(work, "sources/link.img"));
    for (const path of ["sources/../elsewhere/secret.img", "sources/link.img", "elsewhere"])
      expect(() => permittedSource(join(work, path)), path).toThrow("outside the source folders");
    expect(() => permittedSource(join(work, "sources/gone.img"))).toThrow("is not there");
    // What is outside answers the same, whether it is there or not; through a link out of the folders too.
    symlinkSync(join(work, "elsewhere"), join(work, "sources/way out"));
    const refusal = (path: string) => {
      try {
        return permittedSource(join(work, path));
      } catch (error) {
        const { status, message } = error as { status: number; message: string };
        return [status, message.replace(join(work, path), "PATH")];
      }
    };
    for (const [there, not] of [
      ["elsewhere/secret.img", "elsewhere/nothing.img"],
      ["sources/way out/secret.img", "sources/way out/nothing.img"],
    ] as const)
      expect(refusal(there)).toEqual(refusal(not));
    rmSync(join(work, "sources/way out"));
  });

  it("say what lies in a folder and is not shown: a folder of hidden files is not called empty", { tags: "long" }, () => {
    expect(browse(join(work, "sources")).notes).toEqual(["1 hidden, with a name that begins with a dot."]);
    expect(browse(join(work, "sources/inner")).notes).toEqual([]);
    mkdirSync(join(work, "sources/only hidden"));
    writeFileSync(join(work, "sources/only hidden/.a"), "");
    expect(browse(join(work, "sources/only hidden"))).toMatchObject({
      entries: [],
      notes: ["1 hidden, with a name that begins with a dot."],
    });
    // A link that leads nowhere keeps nothing else from being shown.
    symlinkSync(join(work, "nowhere"), join(work, "sources/inner/lost link"));
    const { entries, notes } = browse(join(work, "sources/inner"));
    expect([entries.map((entry) => entry.name), notes]).toEqual([["a.img"], ["1 that this user may not look at, or that lead nowhere."]]);
    mkdirSync(join(work, "sources/many"));
    for (let number = 0; number < 5010; number += 1) writeFileSync(join(work, "sources/many", `${number}.img`), "");
    const many = browse(join(work, "sources/many"));
    expect([many.entries.length, many.notes]).toEqual([5000, ["10 more than are shown here: type the path."]]);
  });

  it("say so when none of them exists", () => {
    process.env.COMPASS_SOURCES = join(work, "nowhere");
    process.env.COMPASS_SOURCE_ROOTS = join(work, "nowhere");
    expect(browse(null)).toMatchObject({ entries: [], problem: expect.stringContaining("None of the source folders") });
  });
});

describe("connected drives", () => {
  const drive = (name: string, facts: Partial<Drive> = {}): Drive => {
    writeFileSync(join(work, name), "");
    return { path: join(work, name), name, model: null, size: 1000, removable: true, mounts: [], own: false, readable: true, ...facts };
  };

  it("are offered by model and size, with what should be known before they are read; this bench's own are not", () => {
    const drives = [
      drive("sda", { own: true, model: "Bench SSD" }),
      drive("sdb", {
        model: "Lumora 4T",
        mounts: [
          { at: "/media/mo", writable: true },
          { at: "/media/ro", writable: false },
        ],
      }),
      drive("sdc", { readable: false }),
    ];
    expect(offeredDrives(drives)).toEqual([
      {
        path: join(work, "sdb"),
        title: "Lumora 4T (sdb)",
        size: 1000,
        warning: expect.stringContaining("mounted for writing at “/media/mo”: unmount it"),
        problem: null,
      },
      {
        path: join(work, "sdc"),
        title: "sdc",
        size: 1000,
        warning: null,
        problem: expect.stringContaining("may not be read by this user"),
      },
    ]);
  });

  it("may be read when they are offered, by any name of theirs, and no other device may", () => {
    const drives = [drive("sda", { own: true }), drive("sdb"), drive("sdc", { readable: false })];
    symlinkSync(join(work, "sdb"), join(work, "by-id"));
    expect(permittedDrive(join(work, "by-id"), drives).name).toBe("sdb");
    expect(() => permittedDrive(join(work, "sda"), drives)).toThrow("this bench’s own system or data");
    expect(() => permittedDrive(join(work, "sdc"), drives)).toThrow("may not be read by this user");
    expect(() => permittedDrive(join(work, "sources/b.img"), drives)).toThrow("none of the drives that may be read here");
  });

  it("stay hidden where the setting says so", () => {
    process.env.COMPASS_DRIVES = "hide";
    expect(connectedDrives()).toEqual([]);
    expect(browse(null)).toMatchObject({ drives: [], drivesHidden: true });
    delete process.env.COMPASS_DRIVES;
  });
});

describe("a destination", () => {
  it("is free below the delivery folder, and refused beside a source or where a link leads out", () => {
    const source = join(work, "sources/b.img");
    expect(refusal(join(work, "delivery/new/folder"), [source])).toBeNull();
    symlinkSync(join(work, "elsewhere"), join(work, "delivery/out"));
    expect(refusal(join(work, "delivery/out/folder"), [source])).toContain("outside the delivery folder");
    process.env.COMPASS_DELIVERY = join(work, "sources/inner");
    expect(refusal(join(work, "sources/inner/x"), [source])).toContain("lies beside the source");
    // A drive that is not connected now still must not be written to.
    expect(refusal(join(work, "sources/inner/x"), [join(work, "sources/gone.img")])).toContain("lies beside the source");
  });

  it("on the drive that is read is refused, whatever it is called", ({ skip }) => {
    const image = join(work, "stick.img");
    writeFileSync(image, new Uint8Array(4 << 20));
    const run = (command: string, ...args: string[]) => spawnSync(command, args, { encoding: "utf8" });
    const device = run("losetup", "--find", "--show", image).stdout?.trim();
    const at = join(work, "stick");
    mkdirSync(at);
    try {
      // Only a user who may do so can mount it; and not every system can.
      if (!device || run("mkfs.ext2", "-q", "-F", device).status !== 0 || run("mount", device, at).status !== 0) skip();
      process.env.COMPASS_DELIVERY = join(at, "delivery");
      expect(refusal(join(at, "delivery/x"), [device as string])).toContain("is on the drive");
      process.env.COMPASS_DELIVERY = join(work, "delivery");
      expect(refusal(join(work, "delivery/x"), [device as string])).toBeNull();
    } finally {
      run("umount", at);
      if (device) run("losetup", "-d", device);
    }
  });

  it("gives its free space, also of a folder still to be made", () => {
    expect(freeBytesIn(join(work, "delivery/a/b/c"))).toBeGreaterThan(0);
  });
});
