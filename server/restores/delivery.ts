import { existsSync, lstatSync, realpathSync, statfsSync, statSync } from "node:fs";
import { dirname, join, resolve } from "node:path";
import { safeComponents } from "../../core/restore/names";
import { Delivery } from "../../io/deliver";
import { liesOnDrive } from "../../io/drives";
import { makeFolder } from "../../io/make-folder";
import { type ReadBack, readBack } from "../../io/read-back";
import { readSettings } from "../settings";
import { liesWithin } from "../sources/source-folders";

/** Bytes free on the device that holds a folder (or, when it is not made yet, its nearest parent); null: cannot be known. */
export function freeBytesIn(folder: string): number | null {
  try {
    const stats = statfsSync(present(folder));
    return stats.bavail * stats.bsize;
  } catch {
    return null;
  }
}

/** A folder, or the nearest above it that is there. */
function present(folder: string): string {
  let there = resolve(folder);
  while (!existsSync(there) && dirname(there) !== there) there = dirname(there);
  return there;
}

/** The folder below the delivery folder that a destination means; it need not exist yet. */
export function destinationRoot(destination: string): string {
  return join(readSettings().COMPASS_DELIVERY, ...safeComponents(destination));
}

/** Opens the folder a destination means, made where needed. Links below the delivery folder are not followed. */
export function openDelivery(destination: string, mark: string): Delivery {
  const { COMPASS_DELIVERY: delivery } = readSettings();
  makeFolder(delivery);
  return Delivery.open(delivery, safeComponents(destination), mark);
}

/** Reads a file below the delivery folder again; null: it is no plain file there. */
export function readDelivered(path: string): ReadBack | null {
  const stats = lstatSync(path, { throwIfNoEntry: false });
  if (!stats?.isFile() || !liesWithin(realpathSync(path), realpathSync(readSettings().COMPASS_DELIVERY))) return null;
  return readBack(path);
}

/** Whether a folder is on a drive of its own (neither the system's nor the one this bench keeps its data on) that `target` is on too. */
function onClientsDrive(folder: string, target: string): boolean {
  const device = (path: string) => statSync(present(path)).dev;
  const own = device(folder);
  return own === device(target) && ![readSettings().COMPASS_DATA, "/"].some((each) => device(each) === own);
}

/**
 * Why nothing may be written to `root`, or null when it may. Never below a folder that holds an image, into a folder that is a
 * source itself or around it, nor outside the delivery folder, wherever links lead.
 */
export function refusal(root: string, images: readonly string[], folders: readonly string[] = []): string | null {
  const { COMPASS_DELIVERY: delivery } = readSettings();
  makeFolder(delivery);
  const real = realpathSync(present(root));
  if (!liesWithin(real, realpathSync(delivery))) return "This folder leads outside the delivery folder. Choose another name.";
  for (const image of images) {
    if (statSync(image, { throwIfNoEntry: false })?.isBlockDevice()) {
      if (liesOnDrive(real, image))
        return `The delivery folder is on the drive “${image}” itself. Writing there could destroy what is still to be found: set the delivery folder to another device.`;
      continue;
    }
    const folder = existsSync(image) ? realpathSync(dirname(image)) : dirname(image);
    if (liesWithin(real, folder)) {
      return `This folder lies beside the source “${image}”. Writing there could destroy what is still to be found: set the delivery folder to another device.`;
    }
  }
  for (const source of folders) {
    const folder = existsSync(source) ? realpathSync(source) : source;
    if (onClientsDrive(folder, real))
      return `The delivery folder is on the same drive as the source “${source}”. Writing there could destroy what is still to be found: set the delivery folder to another device.`;
    if (liesWithin(real, folder) || liesWithin(folder, real))
      return `The delivery folder and the source “${source}” lie in one another: what is restored would be written into the source. Set the delivery folder to another device.`;
  }
  return null;
}
