import { realpathSync } from "node:fs";
import { DRIVE, type Drive, isConnected, listDrives } from "../../io/drives";
import { Problem } from "../problem";
import { readSettings } from "../settings";
import type { DriveEntry } from "./contract";

/** The drives that may be seen here. Those this bench itself needs are among them, and say so. */
export function connectedDrives(): Drive[] {
  const { COMPASS_DRIVES, COMPASS_DATA, COMPASS_DELIVERY, COMPASS_DELIVERY_MORE, COMPASS_REPLACEMENTS } = readSettings();
  const own = ["/", COMPASS_DATA, COMPASS_DELIVERY, ...COMPASS_DELIVERY_MORE, ...COMPASS_REPLACEMENTS];
  return COMPASS_DRIVES === "hide" ? [] : listDrives(own, "/", COMPASS_DRIVES === "all");
}

/** Why a source cannot be read on now, where it is a drive; null: it can. Another drive in its place would give other bytes. */
export const missingDrive = (source: { readonly container: string; readonly path: string; readonly size: number }): string | null =>
  source.container === DRIVE && !isConnected(source.path, source.size)
    ? `The drive “${source.path}” is not connected, or another one is in its place. Connect it and go on; what was found is kept.`
    : null;

/** The drives as sources to choose from, this bench's own left out. */
export const offeredDrives = (drives: readonly Drive[] = connectedDrives()): DriveEntry[] =>
  drives
    .filter((drive) => !drive.own)
    .map((drive) => ({
      path: drive.path,
      title: driveTitle(drive),
      size: drive.size,
      warning: warningOf(drive),
      problem: problemOf(drive),
    }));

/** The drive a device node means, once it is sure that it may be read. @throws Problem otherwise */
export function permittedDrive(path: string, drives: readonly Drive[] = connectedDrives()): Drive {
  const real = realpathSync(path);
  const drive = drives.find((each) => realpathSync(each.path) === real);
  if (!drive) throw new Problem(`“${path}” is none of the drives that may be read here. Choose one of those listed.`, 403);
  const problem = problemOf(drive);
  if (problem) throw new Problem(problem, 403);
  return drive;
}

/** What a drive is called: its model and what the system calls it. */
export const driveTitle = ({ model, name }: Drive) => (model ? `${model} (${name})` : name);

function problemOf(drive: Drive): string | null {
  if (drive.own)
    return `${driveTitle(drive)} holds this bench’s own system or data: connect the drive to another computer, or read an image of it.`;
  return drive.readable
    ? null
    : `${driveTitle(drive)} may not be read by this user: run the bench as a user of the system’s group for disks.`;
}

/** Every write to a drive can destroy what is lost on it. */
export function warningOf({ mounts }: Drive): string | null {
  const places = mounts.filter((mount) => mount.writable).map((mount) => `“${mount.at}”`);
  return places.length > 0
    ? `It is mounted for writing at ${places.join(", ")}: unmount it, or mount it for reading only, before more of it is lost.`
    : null;
}
