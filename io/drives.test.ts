import { execFileSync, spawnSync } from "node:child_process";
import { mkdirSync, mkdtempSync, readFileSync, realpathSync, rmSync, statSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { fixture } from "../tests/support/volume-truth";
import { deviceSize, isConnected, liesOnDrive, listDrives } from "./drives";
import { openSource } from "./open-source";

const root = realpathSync(mkdtempSync(join(tmpdir(), "drives-")));
afterAll(() => rmSync(root, { recursive: true }));

const put = (path: string, text: string) => {
  mkdirSync(dirname(join(root, path)), { recursive: true });
  writeFileSync(join(root, path), text);
};
/** Mount points are real folders: what lies in them is looked for there. */
const at = (name: string) => {
  mkdirSync(join(root, name), { recursive: true });
  return join(root, name);
};

/** A computer as the system's folders show it: sysfs-block, and the lines of proc_pid_mountinfo(5). */
beforeAll(() => {
  const disk = (name: string, sectors: number, device: string, model?: string) => {
    put(`sys/block/${name}/size`, `${sectors}\n`);
    put(`sys/block/${name}/removable`, name === "sdc" ? "1\n" : "0\n");
    put(`sys/block/${name}/dev`, `${device}\n`);
    put(`dev/${name}`, "");
    if (model) put(`sys/block/${name}/device/model`, `${model}   \n`);
  };
  const part = (name: string, number: number, device: string, holder?: string) => {
    const folder = `sys/block/${name.replace(/\d+$/, "")}/${name}`;
    put(`${folder}/partition`, `${number}\n`);
    put(`${folder}/dev`, `${device}\n`);
    put(`dev/${name}`, "");
    if (holder) put(`${folder}/holders/${holder}/dev`, "");
  };
  disk("sda", 1_000_000, "8:0", "Bench SSD");
  part("sda1", 1, "8:1");
  part("sda2", 2, "8:2", "dm-0");
  disk("dm-0", 500_000, "254:0");
  put("sys/block/dm-0/dm/name", "bench-root\n");
  disk("sdb", 7_814_037_168, "8:16", "Lumora Storage 4T");
  part("sdb1", 1, "8:17");
  part("sdb2", 2, "8:18");
  disk("sdc", 62_333_952, "8:32");
  disk("sdd", 0, "8:48", "Empty card reader");
  disk("loop0", 8000, "7:0");
  disk("zram0", 8000, "253:0");
  mkdirSync(join(root, "dev/disk/by-id"), { recursive: true });
  symlinkSync("../../sdb", join(root, "dev/disk/by-id/wwn-0x5000"));
  symlinkSync("../../sdb", join(root, "dev/disk/by-id/usb-Lumora_Storage_4T_0042"));
  symlinkSync("../../sdb1", join(root, "dev/disk/by-id/usb-Lumora_Storage_4T_0042-part1"));
  put(
    "proc/self/mountinfo",
    [
      `22 1 254:0 / ${at("bench")} rw,relatime shared:1 - ext4 /dev/mapper/bench-root rw`,
      `23 22 0:21 / ${at("bench/proc")} rw - proc proc rw`,
      `24 22 8:17 / ${at("media/client one").replace(" ", "\\040")} rw,nosuid - ntfs3 /dev/sdb1 rw`,
      `25 22 0:45 / ${at("media/pool")} ro,noatime - btrfs /dev/sdb2 ro`,
      `26 22 8:1 / ${at("bench/boot")} rw - vfat /dev/sda1 rw`,
      "a line that makes no sense",
    ].join("\n"),
  );
});

describe("the drives that are connected", () => {
  it("are reported with model, size and where they are mounted; memory, images and empty readers are none", () => {
    const drives = listDrives([join(root, "bench/var/lib")], root);
    expect(drives.map(({ name, model, size, removable, own }) => ({ name, model, size, removable, own }))).toEqual([
      { name: "dm-0", model: "bench-root", size: 256_000_000, removable: false, own: true },
      { name: "sda", model: "Bench SSD", size: 512_000_000, removable: false, own: true },
      { name: "sdb", model: "Lumora Storage 4T", size: 4_000_787_030_016, removable: false, own: false },
      { name: "sdc", model: null, size: 31_914_983_424, removable: true, own: false },
    ]);
    const client = drives.find(({ name }) => name === "sdb");
    expect(client?.mounts).toEqual([
      { at: join(root, "media/client one"), writable: true },
      { at: join(root, "media/pool"), writable: false },
    ]);
    expect(listDrives([], root, true).map(({ name }) => name)).toEqual(["dm-0", "loop0", "sda", "sdb", "sdc"]);
    // By its identity where the system knows one, so that another drive in its place is not taken for it.
    expect(client?.path).toBe(join(root, "dev/disk/by-id/usb-Lumora_Storage_4T_0042"));
    expect(drives.find(({ name }) => name === "sdc")?.path).toBe(join(root, "dev/sdc"));
  });

  it("hold what lies on their parts, on what is unlocked of them, and on systems without a device number of their own", () => {
    const on = (path: string, device: string) => liesOnDrive(join(root, path), join(root, "dev", device), root);
    expect(on("media/client one/delivery/not made yet", "sdb")).toBe(true);
    expect(on("media/client one", "sdb1")).toBe(true);
    expect(on("media/client one", "disk/by-id/usb-Lumora_Storage_4T_0042")).toBe(true);
    expect(on("media/pool/x", "sdb")).toBe(true);
    expect(on("bench/var/data", "sda")).toBe(true);
    expect(on("bench/var/data", "dm-0")).toBe(true);
    expect(on("bench/boot/x", "sda")).toBe(true);
    for (const device of ["sdb", "sdc", "nowhere"]) expect(on("bench/var/data", device)).toBe(false);
    for (const device of ["sda", "sdc"]) expect(on("media/client one/x", device)).toBe(false);
  });

  it("of a system that gives nothing are none", () => {
    const empty = at("empty");
    expect(listDrives(["/"], empty)).toEqual([]);
    expect(liesOnDrive("/", "/dev/null", empty)).toBe(false);
    expect(deviceSize(0x800, empty)).toBeNull();
  });

  it("have their size by their number, which the system packs into one (makedev(3))", () => {
    // The numbers of a node that every system has: 1, 3 (null(4)).
    const { rdev } = statSync("/dev/null");
    put("sys/dev/block/1:3/size", "2048\n");
    expect(deviceSize(rdev, root)).toBe(1 << 20);
    put("sys/dev/block/259:70000/size", "16\n");
    expect(deviceSize(((259n & 0xfffn) << 8n) | (70_000n & 0xffn) | ((70_000n & ~0xffn) << 12n), root)).toBe(8192);
  });

  it("are those that were added only while they are there", () => {
    expect(isConnected(join(root, "dev/gone"), 5)).toBe(false);
    expect(isConnected(join(root, "dev/sdb"), 5)).toBe(false);
  });
});

/** A device made of a file, where the system lets us. */
const loop = (() => {
  const image = join(root, "stick.img");
  writeFileSync(image, fixture("fat32.img.gz"));
  const made = spawnSync("losetup", ["--find", "--show", "--read-only", image], { encoding: "utf8" });
  return made.status === 0 ? { device: made.stdout.trim(), image } : null;
})();
afterAll(() => {
  if (loop) execFileSync("losetup", ["-d", loop.device]);
});

describe.skipIf(!loop)("a real device", () => {
  it("is opened and read like the image it is made of", () => {
    const { device, image } = loop as NonNullable<typeof loop>;
    const [drive, file] = [openSource(device), openSource(image)];
    expect(drive.disk.size).toBe(file.disk.size);
    expect(drive.report.volumes).toEqual(file.report.volumes);
    const bytes = new Uint8Array(file.disk.size);
    drive.disk.read(0, bytes);
    expect(Buffer.from(bytes).equals(readFileSync(image))).toBe(true);
    expect(isConnected(device, file.disk.size)).toBe(true);
    expect(isConnected(device, file.disk.size + 512)).toBe(false);
    for (const each of [drive, file]) each.close();
  });
});
