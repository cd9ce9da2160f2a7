import { execFileSync } from "node:child_process";
import { mkdtempSync, realpathSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { mountedAt } from "./mounted";

const work = realpathSync(mkdtempSync(join(tmpdir(), "compass-mounted-")));

describe("where a path is mounted", () => {
  it("is what the general tool says of the same path", () => {
    for (const path of ["/", "/proc", work]) {
      const [kind, at] =
        execFileSync("df", ["--output=fstype,target", path], { encoding: "utf8" }).trim().split("\n")[1]?.split(/\s+/) ?? [];
      // What the tool leaves out (proc has no blocks) it gives as it is mounted all the same.
      expect(mountedAt(path)).toMatchObject({ kind, at });
    }
  });

  it("is the longest way down, the later of two at one point, with blanks in names, and whether it may be written", () => {
    const table = join(work, "mountinfo");
    writeFileSync(
      table,
      [
        "21 1 8:2 / / rw,relatime shared:1 - ext4 /dev/sda2 rw",
        "30 21 8:17 / /media/A\\040Stick rw,nosuid shared:2 - vfat /dev/sdb1 rw,fmask=0022",
        "31 21 8:33 / /media/A rw - exfat /dev/sdc1 ro",
        "32 21 8:49 / /media/A ro - ntfs3 /dev/sdd1 rw",
        "a line that is none",
        "",
      ].join("\n"),
    );
    expect(mountedAt("/media/A Stick/folder", table)).toEqual({ at: "/media/A Stick", kind: "vfat", writable: true });
    expect(mountedAt("/media/A/x", table)).toEqual({ at: "/media/A", kind: "ntfs3", writable: false });
    expect(mountedAt("/media/Another", table)).toEqual({ at: "/", kind: "ext4", writable: true });
    expect(mountedAt("/x", join(work, "none"))).toBeNull();
  });
});
