import { execFileSync, spawnSync } from "node:child_process";
import { mkdirSync, mkdtempSync, truncateSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

const MAKERS = {
  ext4: ["mkfs.ext4", "-q", "-F", "-m", "0"],
  vfat: ["mkfs.vfat"],
  ntfs: ["mkntfs", "-F", "-q"],
} as const;

export interface SmallDevice {
  /** The file it is in. */
  readonly image: string;
  /** The folder it is mounted at. */
  readonly at: string;
  mount(options?: string): void;
  /** Takes it away at once, whoever uses it. */
  unmount(): void;
}

/** Makes a file system of its own in a file and mounts it at a folder; null where this user or this system cannot. @param size bytes */
export function smallDevice(at: string, kind: keyof typeof MAKERS, size: number): SmallDevice | null {
  const image = join(mkdtempSync(join(tmpdir(), "compass-device-")), "device.img");
  const [program, ...args] = [...MAKERS[kind], image];
  writeFileSync(image, "");
  truncateSync(image, size);
  if (process.getuid?.() !== 0 || spawnSync(program as string, args, { stdio: "ignore" }).status !== 0) return null;
  mkdirSync(at, { recursive: true });
  const device: SmallDevice = {
    image,
    at,
    mount: (options = "loop") => {
      const [mounter = "mount", ...before] = kind === "ntfs" ? ["ntfs-3g"] : [];
      execFileSync(mounter, [...before, "-o", options, image, at], { stdio: "ignore" });
    },
    unmount: () => void execFileSync("umount", ["-l", at], { stdio: "ignore" }),
  };
  try {
    device.mount();
    return device;
  } catch {
    return null;
  }
}
