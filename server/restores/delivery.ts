import { existsSync, lstatSync, realpathSync, statfsSync, statSync } from "node:fs";
import { dirname, join, resolve } from "node:path";
import { limitsOf } from "../../core/restore/file-system-limits";
import { safeComponents } from "../../core/restore/names";
import { Delivery } from "../../io/deliver";
import { liesOnDrive } from "../../io/drives";
import { makeFolder } from "../../io/make-folder";
import { mountedAt } from "../../io/mounted";
import { type ReadBack, readBack } from "../../io/read-back";
import { Problem } from "../problem";
import { readSettings } from "../settings";
import { liesWithin } from "../sources/source-folders";
import type { Device } from "./contract";

/** Bytes free on the device that holds a folder (or, when it is not made yet, its nearest parent); null: cannot be known. */
export function freeBytesIn(folder: string): number | null {
  try {
    const stats = statfsSync(present(folder));
    return stats.bavail * stats.bsize;
  } catch {
    return null;
  }
}

/** Bytes by which files grow on the device that holds a folder: a file fills whole blocks. */
export function blockSizeIn(folder: string): number {
  try {
    return Math.max(1, statfsSync(present(folder)).bsize);
  } catch {
    return 1;
  }
}

/** The file system a folder (or its nearest parent that is there) lies on, and what it can hold; null: the system does not say. */
export function deviceOf(folder: string): Device | null {
  const mounted = mountedAt(realpathSync(present(folder)));
  if (!mounted) return null;
  const limits = limitsOf(mounted.kind);
  return {
    title: limits?.title ?? mounted.kind,
    writable: mounted.writable,
    largestFile: limits?.largestFile ?? null,
    timeGrain: limits?.timeGrain ?? null,
  };
}

/** A folder, or the nearest above it that is there. */
function present(folder: string): string {
  let there = resolve(folder);
  while (!existsSync(there) && dirname(there) !== there) there = dirname(there);
  return there;
}

/** A folder below which restores may be written. */
export interface DeliveryFolder {
  readonly path: string;
  /** It takes the place of a lost drive: files go back to where they stood, without a folder in between. */
  readonly replaces: boolean;
}

/** The folders restores may be written below, by the settings: the usual one first. */
export function deliveryFolders(): DeliveryFolder[] {
  const { COMPASS_DELIVERY, COMPASS_DELIVERY_MORE, COMPASS_REPLACEMENTS } = readSettings();
  const all = [
    ...[COMPASS_DELIVERY, ...COMPASS_DELIVERY_MORE].map((path) => ({ path, replaces: false })),
    ...COMPASS_REPLACEMENTS.map((path) => ({ path, replaces: true })),
  ];
  return all.filter(({ path }, index) => all.findIndex((each) => each.path === path) === index);
}

/** Where a restore goes: a folder below one of the delivery folders, or a replacement itself. */
export interface Destination {
  readonly destination: string;
  /** The delivery folder; null: the usual one. */
  readonly delivery: string | null;
}

/**
 * Checks where a plan goes to, before anything else is done with it.
 * @throws Problem when its delivery folder is not one of the settings', or it names no folder where one is needed
 */
export function checkDestination({ destination, delivery }: Destination): void {
  const folder = deliveryFolders().find(({ path }) => delivery === null || path === delivery);
  if (!folder) throw new Problem("This delivery folder is not one of those in the settings any more.", 409);
  if (folder.replaces !== (destination === ""))
    throw new Problem(folder.replaces ? "A replacement takes files where they stood: name no folder." : "Name a folder to restore into.");
}

/** The folder a destination means; it need not exist yet. */
export const destinationRoot = ({ destination, delivery }: Destination): string =>
  join(delivery ?? readSettings().COMPASS_DELIVERY, ...safeComponents(destination));

/**
 * Opens the folder a destination means, made where needed. Links below the delivery folder are not followed. Only the usual delivery folder
 * is made itself: another one that is not there is on a device that is not connected.
 */
export function openDelivery({ destination, delivery }: Destination, mark: string): Delivery {
  const base = delivery ?? readSettings().COMPASS_DELIVERY;
  if (base === readSettings().COMPASS_DELIVERY) makeFolder(base);
  return Delivery.open(base, safeComponents(destination), mark);
}

/** Whether a real path lies below one of the delivery folders. */
export const liesBelowDelivery = (real: string): boolean =>
  deliveryFolders().some(({ path }) => existsSync(path) && liesWithin(real, realpathSync(path)));

/** Reads a file below a delivery folder again; null: it is no plain file there. */
export function readDelivered(path: string): ReadBack | null {
  const stats = lstatSync(path, { throwIfNoEntry: false });
  return stats?.isFile() && liesBelowDelivery(realpathSync(path)) ? readBack(path) : null;
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
  const usual = readSettings().COMPASS_DELIVERY;
  makeFolder(usual);
  const missing = deliveryFolders().find(({ path }) => path !== usual && liesWithin(root, path) && !existsSync(path));
  if (missing) return `The delivery folder “${missing.path}” is not there: connect its drive, and try again.`;
  const real = realpathSync(present(root));
  if (!liesBelowDelivery(real)) return "This folder leads outside the delivery folder. Choose another name.";
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
