import { execFileSync } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, renameSync, rmSync, truncateSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { fillApfs } from "./big-apfs";
import { layOutHfsPlus } from "./big-hfsplus";

const PER_FOLDER = 500;
const MIB = 1 << 20;

/** The same small files on each kind of volume. */
function writeFiles(folder: string, count: number): void {
  for (let i = 0; i < count; i += 1) {
    const target = join(folder, `folder ${Math.floor(i / PER_FOLDER)}`, `file ${i} of the night log.txt`);
    if (i % PER_FOLDER === 0) mkdirSync(dirname(target));
    writeFileSync(target, `line ${i}\n`.repeat(1 + (i % 200)));
  }
}

/** An image of that name that is made once and kept. @param make fills a file of zeros with a volume */
function keptImage(folder: string, name: string, bytes: number, make: (image: string) => void): string {
  const image = join(folder, name);
  if (existsSync(image)) return image;
  console.error(`Making ${name}; this takes a while …`);
  const working = `${image}.working`;
  writeFileSync(working, "");
  truncateSync(working, bytes);
  make(working);
  renameSync(working, image);
  return image;
}

const run = (command: string, ...args: string[]) => execFileSync(command, args, { stdio: ["ignore", "ignore", "inherit"] });

function mounted(folder: string, mount: (at: string) => void, use: (at: string) => void): void {
  const at = join(folder, "mount");
  mkdirSync(at, { recursive: true });
  mount(at);
  try {
    use(at);
  } finally {
    run("umount", at);
  }
}

/** An NTFS volume with `count` small files, written by the real driver (mkntfs, ntfs-3g). Needs root and FUSE. */
export const bigNtfs = (folder: string, count: number): string =>
  keptImage(folder, `ntfs-${count}.img`, Math.max(256, Math.ceil(count / 100)) * MIB, (image) => {
    run("mkntfs", "-F", "-Q", "-q", "-L", "Big", "-p", "0", "-H", "16", "-S", "63", image);
    mounted(
      folder,
      (at) => run("ntfs-3g", image, at),
      (at) => writeFiles(at, count),
    );
  });

/** A FAT32 volume with `count` small files, written by mkfs.fat and mtools. */
export const bigFat32 = (folder: string, count: number): string =>
  keptImage(folder, `fat32-${count}.img`, Math.max(256, Math.ceil(count / 100)) * MIB, (image) => {
    run("mkfs.fat", "-F", "32", "-s", "8", "-n", "BIG", image);
    const tree = mkdtempSync(join(folder, "tree-"));
    writeFiles(tree, count);
    run("sh", "-c", 'mcopy -s -m -Q -i "$1" "$2"/* ::', "sh", image, tree);
    rmSync(tree, { recursive: true });
  });

/** An exFAT volume with `count` small files, written by mkfs.exfat and exfat-fuse. Needs root, FUSE and loop devices. */
export const bigExfat = (folder: string, count: number): string =>
  keptImage(folder, `exfat-${count}.img`, Math.max(256, Math.ceil(count / 100)) * MIB, (image) => {
    run("mkfs.exfat", "-L", "BIG", "-c", "4096", image);
    const device = execFileSync("losetup", ["--find", "--show", image], { encoding: "utf8" }).trim();
    try {
      mounted(
        folder,
        (at) => run("mount.exfat-fuse", device, at),
        (at) => writeFiles(at, count),
      );
    } finally {
      run("losetup", "-d", device);
    }
  });

/** An HFS Plus volume with `count` small files, laid out by our own script: a general archiver opens it. */
export const bigHfsPlus = (folder: string, count: number): string => {
  const bytes = Math.max(256, Math.ceil(count / 150)) * MIB;
  return keptImage(folder, `hfsplus-${count}.img`, bytes, (image) => layOutHfsPlus(image, bytes, count));
};

/** An APFS container with `count` small files: formatted by mkapfs, filled by our own script; a general archiver opens it. */
export const bigApfs = (folder: string, count: number): string => {
  const bytes = Math.max(768, Math.ceil(count / 100)) * MIB;
  return keptImage(folder, `apfs-${count}.img`, bytes, (image) => {
    run("mkapfs", "-s", "-L", "Big", image);
    fillApfs(image, bytes, count);
  });
};
