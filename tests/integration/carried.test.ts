import { execFileSync } from "node:child_process";
import { mkdtempSync, readdirSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { MemorySource } from "../../core/bytes/byte-source";
import type { Carried, FileFacts } from "../../core/restore/carried";
import { Delivery } from "../../io/deliver";
import { hasAttributeTools } from "../../io/own-attributes";
import { type SmallDevice, smallDevice } from "../support/small-device";

const MOMENT = Date.UTC(2023, 4, 6, 7, 8, 10);
const small = Buffer.from("[Zone]\r\nId=3\0\xff", "latin1");
const large = Buffer.from(Array.from({ length: 40_000 }, (_, at) => (at * 7919) & 0xff));
const attribute = (stream: string, value: Buffer) => ({ stream, name: `user.${stream}`, value });
const facts: FileFacts = {
  modified: MOMENT,
  created: Date.UTC(2019, 0, 2, 3, 4, 5, 678),
  readOnly: true,
  hidden: true,
  attributes: [attribute("Zone", small), attribute("größe = 1", large), attribute("empty", Buffer.alloc(0))],
};

/** Writes two files into a new file system of a kind, one with all there is, one with nothing, and looks at what stands there. */
function delivered(kind: Parameters<typeof smallDevice>[1], look: (device: SmallDevice) => void = () => undefined) {
  let carried: Carried | undefined;
  const device = smallDevice(join(mkdtempSync(join(tmpdir(), "compass-carried-")), "at"), kind, 32 << 20);
  if (!device) return null;
  try {
    const delivery = Delivery.openHere(device.at);
    const all = delivery.deliver(new MemorySource(Buffer.from("content")), ["box", "- all.txt"], { conflict: "keep-both", facts });
    const none = delivery.deliver(new MemorySource(Buffer.from("plain")), ["box", "none.txt"], { conflict: "keep-both" });
    const later = delivery.carriedBy(join(device.at, "box/- all.txt"), facts);
    delivery.close();
    expect(readdirSync(join(device.at, "box")).sort()).toEqual(["- all.txt", "none.txt"]);
    expect(none?.carried).toEqual({ modified: false, readOnly: false, hidden: false, created: false, streams: [] });
    look(device);
    expect(later).toEqual(all?.carried);
    carried = all?.carried;
  } finally {
    device.unmount();
  }
  return carried && { carried, image: device.image };
}

const possible = process.getuid?.() === 0 && process.platform === "linux" && hasAttributeTools();

describe.runIf(possible)("what a file carries beside its content", () => {
  it("NTFS holds all of it: streams, marks and the date of creation, as other tools of that file system see them", async () => {
    const done = delivered("ntfs");
    // A system without a driver of NTFS in user space has nothing to say here.
    if (!done) return;
    const streams = ["Zone", "größe = 1", "empty"];
    expect(done.carried).toEqual({ modified: true, readOnly: true, hidden: true, created: true, streams });
    const tool = (name: string, ...args: string[]) => execFileSync(name, ["-f", ...args], { stdio: ["ignore", "pipe", "ignore"] });
    const seen = (stream: string) => tool("ntfscat", "-n", stream, done.image, "box/- all.txt");
    // The driver goes on for a moment after the unmounting.
    await expect.poll(() => seen("Zone").equals(small), { timeout: 20_000 }).toBe(true);
    expect(seen("größe = 1").equals(large)).toBe(true);
    const info = tool("ntfsinfo", "-v", "-F", "box/- all.txt", done.image).toString("latin1");
    const standard = info.slice(info.indexOf("STANDARD_INFORMATION"), info.indexOf("FILE_NAME"));
    expect(standard).toMatch(/READONLY.*HIDDEN|HIDDEN.*READONLY/);
    expect(standard).toMatch(/File Creation Time:\s+Wed Jan\s+2 03:04:05 2019/);
    expect(standard).toMatch(/File Altered Time:\s+Sat May\s+6 07:08:10 2023/);
  });

  it("ext4 holds small streams alone: what it does not take is not said to stand there", () => {
    const done = delivered("ext4", ({ at }) => {
      const names = execFileSync("getfattr", ["--absolute-names", "--", join(at, "box/- all.txt")], { encoding: "latin1" });
      expect(names.match(/^user\..*/gm)?.sort()).toEqual(["user.Zone", "user.empty"]);
      const value = execFileSync("getfattr", ["--absolute-names", "--only-values", "-n", "user.Zone", "--", join(at, "box/- all.txt")]);
      expect(value).toEqual(small);
    });
    if (done) expect(done.carried).toEqual({ modified: true, readOnly: true, hidden: false, created: false, streams: ["Zone", "empty"] });
  });

  it("FAT holds none of the streams, and says so", () => {
    const done = delivered("vfat");
    if (done) expect(done.carried).toMatchObject({ modified: true, hidden: false, created: false, streams: [] });
  });
});
