import { readFileSync, statSync } from "node:fs";

/** What is mounted where a path lies. */
export interface Mounted {
  readonly at: string;
  /** The system's name for the kind of file system: "ext4", "vfat". */
  readonly kind: string;
  readonly writable: boolean;
}

/** Blanks and backslashes are written as octal numbers (proc_pid_mountinfo(5)). */
const plain = (text: string): string =>
  text.replace(/\\([0-7]{3})/g, (_, digits: string) => String.fromCharCode(Number.parseInt(digits, 8)));

/**
 * Finds the file system a path lies on: the mount with the path's device, the longest way down.
 * @param path one that is there
 * @param table the system's table of mounts (proc_pid_mountinfo(5)); another one in tests
 * @returns null where the system does not say
 */
export function mountedAt(path: string, table = "/proc/self/mountinfo"): Mounted | null {
  let best: Mounted | null = null;
  for (const line of readTable(table)) {
    const [facts = "", kinds = ""] = line.split(" - ");
    const [, , , , at = "", options = ""] = facts.split(" ");
    const [kind = "", , own = ""] = kinds.split(" ");
    const point = plain(at);
    if (point !== "/" && path !== point && !path.startsWith(`${point}/`)) continue;
    // Of two at one point the later lies above the other.
    if (best && best.at.length > point.length) continue;
    const writable = ![...options.split(","), ...own.split(",")].includes("ro");
    best = { at: point, kind, writable };
  }
  return best;
}

function readTable(table: string): string[] {
  try {
    return statSync(table).isFile() ? readFileSync(table, "utf8").split("\n").filter(Boolean) : [];
  } catch {
    return [];
  }
}
