import { readdirSync, readFileSync, readlinkSync, realpathSync, statSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import { mayRead } from "./may-read";

/** What holds a source that is a drive itself. */
export const DRIVE = "drive";

/** A drive, card or stick that is connected to this computer. */
export interface Drive {
  /** The node to open it by: by its own identity where the system knows one, so that another drive in its place is not taken for it. */
  readonly path: string;
  /** What the system calls it, for instance "sdb". */
  readonly name: string;
  /** Model, as the drive gives it; null: it does not. */
  readonly model: string | null;
  /** Bytes. */
  readonly size: number;
  readonly removable: boolean;
  /** Where it, or a part of it, is mounted. */
  readonly mounts: readonly Mount[];
  /** It holds this bench's own system or data: it is never offered as a source. */
  readonly own: boolean;
  /** Whether this process may read it. */
  readonly readable: boolean;
}

export interface Mount {
  readonly at: string;
  readonly writable: boolean;
}

/** sysfs counts all sizes in these, whatever the drive's own sectors (Documentation/ABI/stable/sysfs-block, "size"). */
const SECTOR = 512;
/** What is no drive to recover from: memory, and what takes discs. */
const NO_DRIVE = /^(ram|zram|fd|sr)\d/;
/** Devices made of files and of what another computer offers. */
const MADE = /^(loop|nbd)\d/;
const MOST_BELOW = 64;

/**
 * The drives that are connected, by what the system reports: sysfs, and proc_pid_mountinfo(5).
 * @param own paths this bench itself needs: the drives that hold them are its own
 * @param root where the system's folders are; another one in tests
 * @param made also devices made of files
 */
export function listDrives(own: readonly string[], root = "/", made = false): Drive[] {
  const system = new System(root);
  const needed = new Set(own.flatMap((path) => system.disksOf(path)));
  return system.disks().flatMap((name): Drive[] => {
    const size = system.number(name, "size") * SECTOR;
    if (NO_DRIVE.test(name) || (MADE.test(name) && !made) || size === 0) return [];
    const path = system.pathOf(name);
    if (!path) return [];
    return [
      {
        path,
        name,
        model: system.text(name, "device/model") || system.text(name, "dm/name") || null,
        size,
        removable: system.number(name, "removable") === 1,
        mounts: system.mountsOf(name),
        own: needed.has(name),
        readable: mayRead(path),
      },
    ];
  });
}

/** Whether a path (or the nearest folder above it that is there) is kept on the drive that a device node means. */
export function liesOnDrive(path: string, device: string, root = "/"): boolean {
  const system = new System(root);
  const drive = system.wholeDisks(system.nameOf(device) ?? "");
  return drive.length > 0 && system.disksOf(path).some((disk) => drive.includes(disk));
}

/** Whether a drive of this size answers at this path now: another one in its place is not it. */
export function isConnected(path: string, size: number): boolean {
  const stats = statSync(path, { throwIfNoEntry: false });
  if (!stats?.isBlockDevice()) return false;
  const now = deviceSize(stats.rdev);
  return now === null || now === size;
}

/** Bytes of a block device by what the system reports; null: it gives nothing. */
export function deviceSize(device: bigint | number, root = "/"): number | null {
  const size = new System(root).number(`../dev/block/${major(device)}:${minor(device)}`, "size");
  return size > 0 ? size * SECTOR : null;
}

// How glibc packs the two numbers of a device into one (makedev(3); gnu_dev_major in sysmacros.h).
const major = (device: bigint | number) => Number(((BigInt(device) >> 8n) & 0xfffn) | ((BigInt(device) >> 32n) & 0xfffff000n));
const minor = (device: bigint | number) => Number((BigInt(device) & 0xffn) | ((BigInt(device) >> 12n) & 0xffffff00n));

interface MountLine {
  /** Major and minor number of the device. */
  readonly device: string;
  readonly at: string;
  readonly writable: boolean;
  /** The name of the device's node. */
  readonly source: string;
}

/** What one system's folders say. Whatever cannot be read counts as not given. */
class System {
  readonly #block: string;
  #mounts: MountLine[] | undefined;

  constructor(private readonly root: string) {
    this.#block = join(root, "sys/block");
  }

  disks(): string[] {
    return list(this.#block).sort();
  }

  text(name: string, file: string): string {
    return content(join(this.#block, name, file)).trim();
  }

  number(name: string, file: string): number {
    return Number(this.text(name, file)) || 0;
  }

  /** The node of a disk: the link that bears its identity, else its plain name. */
  pathOf(name: string): string | null {
    const node = join(this.root, "dev", name);
    if (!statSync(node, { throwIfNoEntry: false })) return null;
    const links = join(this.root, "dev/disk/by-id");
    const own = list(links)
      .filter((link) => linkName(join(links, link)) === name)
      .sort((a, b) => Number(a.startsWith("wwn")) - Number(b.startsWith("wwn")) || a.localeCompare(b));
    return own[0] ? join(links, own[0]) : node;
  }

  /** What the system calls the device a node means. */
  nameOf(device: string): string | null {
    try {
      return basename(realpathSync(device));
    } catch {
      return null;
    }
  }

  /** A disk and its parts, and what is laid over them (unlocked volumes, several disks as one), by name with their numbers. */
  #below(name: string): Map<string, string> {
    const found = new Map<string, string>();
    const take = (folder: string) => {
      const own = basename(folder);
      if (found.has(own) || found.size >= MOST_BELOW) return;
      found.set(own, content(join(folder, "dev")).trim());
      for (const part of list(folder)) if (content(join(folder, part, "partition"))) take(join(folder, part));
      for (const holder of list(join(folder, "holders"))) take(join(this.#block, holder));
    };
    take(join(this.#block, name));
    return found;
  }

  /** The disks of which a device is a part, or over which it is laid. */
  wholeDisks(name: string): string[] {
    return this.disks().filter((disk) => this.#below(disk).has(name));
  }

  mountsOf(disk: string): Mount[] {
    const below = this.#below(disk);
    const numbers = new Set(below.values());
    return this.#mountLines()
      .filter(({ device, source }) => numbers.has(device) || below.has(source))
      .map(({ at, writable }) => ({ at, writable }));
  }

  /** The disks that hold a path, or the nearest folder above it that is there. */
  disksOf(path: string): string[] {
    let there = path;
    while (!statSync(there, { throwIfNoEntry: false }) && dirname(there) !== there) there = dirname(there);
    const real = realpathSync(there);
    const within = (at: string) => at === "/" || real === at || real.startsWith(`${at}/`);
    // The last of the longest ones is what is seen there.
    const mount = this.#mountLines().reduce<MountLine | null>(
      (best, each) => (within(each.at) && each.at.length >= (best?.at.length ?? 0) ? each : best),
      null,
    );
    if (!mount) return [];
    return this.disks().filter((disk) => {
      const below = this.#below(disk);
      return [...below.values()].includes(mount.device) || below.has(mount.source);
    });
  }

  #mountLines(): MountLine[] {
    this.#mounts ??= content(join(this.root, "proc/self/mountinfo"))
      .split("\n")
      .flatMap((line): MountLine[] => {
        const [before, after] = line.split(" - ");
        const [, , device, , at, options] = (before ?? "").split(" ");
        const [, source] = (after ?? "").split(" ");
        if (!device || !at || !source) return [];
        // One that was mounted by another name of the device is known by the device's own.
        const name = source.startsWith("/dev/") ? (this.nameOf(join(this.root, source)) ?? basename(source)) : "";
        return [{ device, at: unescaped(at), writable: (options ?? "").split(",").includes("rw"), source: name }];
      });
    return this.#mounts;
  }
}

/** Blanks and backslashes in names are written as octal numbers (proc_pid_mountinfo(5)). */
const unescaped = (text: string) => text.replace(/\\(\d{3})/g, (_, octal: string) => String.fromCharCode(Number.parseInt(octal, 8)));

function list(folder: string): string[] {
  try {
    return readdirSync(folder);
  } catch {
    return [];
  }
}

function content(file: string): string {
  try {
    return readFileSync(file, "utf8");
  } catch {
    return "";
  }
}

function linkName(path: string): string {
  try {
    return basename(readlinkSync(path));
  } catch {
    return "";
  }
}
