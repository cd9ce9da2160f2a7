import { execFileSync } from "node:child_process";
import { existsSync, mkdirSync, renameSync, truncateSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";

const PER_FOLDER = 500;

/**
 * An NTFS volume with `count` small files, written by the real driver (mkntfs, ntfs-3g). Needs root and FUSE. Made once
 * and kept.
 * @returns the image's path
 */
export function bigNtfs(folder: string, count: number): string {
  const image = join(folder, `ntfs-${count}.img`);
  if (existsSync(image)) return image;
  console.error(`Making an NTFS volume with ${count} files; this takes a while …`);
  const working = `${image}.working`;
  const mount = join(folder, "mount");
  mkdirSync(mount, { recursive: true });
  writeFileSync(working, "");
  truncateSync(working, Math.max(256, Math.ceil(count / 100)) * (1 << 20));
  execFileSync("mkntfs", ["-F", "-Q", "-q", "-L", "Big", "-p", "0", "-H", "16", "-S", "63", working], { stdio: "ignore" });
  execFileSync("ntfs-3g", [working, mount]);
  try {
    for (let i = 0; i < count; i += 1) {
      const target = join(mount, `folder ${Math.floor(i / PER_FOLDER)}`, `file ${i} of the night log.txt`);
      if (i % PER_FOLDER === 0) mkdirSync(dirname(target));
      writeFileSync(target, `line ${i}\n`.repeat(1 + (i % 200)));
    }
  } finally {
    execFileSync("umount", [mount]);
  }
  renameSync(working, image);
  return image;
}
