import { execFileSync, spawnSync } from "node:child_process";
import { mkdirSync, mkdtempSync, truncateSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

export interface SmallDevice {
  /** The folder it is mounted at. */
  readonly at: string;
  mount(options?: string): void;
  /** Takes it away at once, whoever uses it. */
  unmount(): void;
}

/** Makes a file system of its own in a file and mounts it at a folder; null where this user or this system cannot. @param size bytes */
export function smallDevice(at: string, kind: "ext4" | "vfat", size: number): SmallDevice | null {
  const image = join(mkdtempSync(join(tmpdir(), "compass-device-")), "device.img");
  const [program, ...args] = kind === "ext4" ? ["mkfs.ext4", "-q", "-F", "-m", "0", image] : ["mkfs.vfat", image];
  writeFileSync(image, "");
  truncateSync(image, size);
  if (process.getuid?.() !== 0 || spawnSync(program as string, args, { stdio: "ignore" }).status !== 0) return null;
  mkdirSync(at, { recursive: true });
  const device: SmallDevice = {
    at,
    mount: (options = "loop") => void execFileSync("mount", ["-o", options, image, at], { stdio: "ignore" }),
    unmount: () => void execFileSync("umount", ["-l", at], { stdio: "ignore" }),
  };
  try {
    device.mount();
    return device;
  } catch {
    return null;
  }
}
