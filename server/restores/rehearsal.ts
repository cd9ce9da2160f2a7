import { join } from "node:path";
import { whatIsThere } from "../../io/deliver";
import type { Connection } from "../database/connection";
import {
  type DeliveryEntry,
  REHEARSAL_PAGE,
  type RehearsalPage,
  type RehearsalSums,
  type RehearsedFile,
  type RestorePlan,
} from "./contract";
import { blockSizeIn, checkDestination, deliveryFolders, destinationRoot, deviceOf, freeBytesIn, refusal } from "./delivery";
import { guardedOf, refusalFor, refusalOfBag, refusalOfStreams } from "./guards";
import { problemOf, secondFileOf, sumTray, type TrayPart, trayPage, trayParts } from "./planned";
import { filesOf, type PlannedFile, patternOf, targetsFor } from "./targets";

/** One page of what would be written where. Nothing is written. */
export async function rehearsePage(
  db: Connection,
  jobId: number,
  plan: RestorePlan,
  page = 0,
  part: TrayPart = "all",
): Promise<RehearsalPage> {
  checkDestination(plan);
  const targets = await targetsFor(db, jobId, plan);
  const { root } = targets;
  const { rows, pages } = await trayPage(db, jobId, page, REHEARSAL_PAGE, part, targets.pattern?.counts);
  const planned = rows.flatMap((row) => filesOf(row, targets));
  return {
    root,
    page,
    pages,
    files: await Promise.all(planned.map((file) => toRehearsed(file, root))),
    freeBytes: freeBytesIn(root),
    device: deviceOf(root),
    refused: (await refusalFor(db, jobId, root)) ?? refusalOfBag(plan, root) ?? refusalOfStreams(plan),
  };
}

/** Sums over all that would be written, and why it cannot be. */
export async function rehearseSums(db: Connection, jobId: number, plan: RestorePlan): Promise<RehearsalSums> {
  checkDestination(plan);
  const root = destinationRoot(plan);
  const {
    entries,
    writable,
    withGaps,
    streamBytes,
    unopenedBytes,
    bytes: contentBytes,
    needed: contentNeeded,
    ...sums
  } = await sumTray(db, jobId, {
    block: blockSizeIn(root),
    largestFile: deviceOf(root)?.largestFile ?? null,
  });
  const more =
    plan.streams === "beside"
      ? { files: sums.streams, bytes: streamBytes }
      : plan.streams === "two-file"
        ? await sumSecondFiles(db, jobId)
        : { files: 0, bytes: 0 };
  const bytes = contentBytes + more.bytes;
  const needed = contentNeeded + more.bytes + (plan.repaired ? unopenedBytes : 0);
  const freeBytes = freeBytesIn(root);
  return {
    ...sums,
    placed: plan.layout === "tree" ? sums.placed : 0,
    unread: plan.layout === "date" || patternOf(plan)?.tellsOfContent ? sums.unread : 0,
    writable: writable + more.files,
    unwritable: entries - writable,
    withGaps,
    bytes,
    needed,
    tooLarge:
      freeBytes !== null && needed > freeBytes ? "There is not enough free space for these files. Choose fewer, or another device." : null,
  };
}

/** Items of a tray looked at together. */
const STEP = 5_000;

/** The second files a tray would have in the two-file form. */
async function sumSecondFiles(db: Connection, jobId: number): Promise<{ files: number; bytes: number }> {
  const sums = { files: 0, bytes: 0 };
  for await (const rows of trayParts(db, jobId, STEP))
    for (const row of rows) {
      const second = row.streams && !problemOf({ ...row, size: Number(row.size) }) ? secondFileOf(row.streams) : null;
      if (!second) continue;
      sums.files += 1;
      sums.bytes += second.layout.size;
    }
  return sums;
}

/** The delivery folders of the settings, as they stand to a job. */
export async function listDeliveries(db: Connection, jobId: number): Promise<DeliveryEntry[]> {
  const { images, folders } = await guardedOf(db, jobId);
  return deliveryFolders().map(({ path, replaces }, index) => ({
    path,
    replaces,
    usual: index === 0,
    freeBytes: freeBytesIn(path),
    device: deviceOf(path),
    refused: refusal(path, images, folders),
  }));
}

/** A page of the rehearsal with the sums over all of it. */
export async function rehearse(db: Connection, jobId: number, plan: RestorePlan, page = 0): Promise<RehearsalPage & RehearsalSums> {
  const [files, sums] = [await rehearsePage(db, jobId, plan, page), await rehearseSums(db, jobId, plan)];
  return { ...files, ...sums, refused: files.refused ?? sums.tooLarge };
}

/** A planned file with what is at its target already. */
export async function toRehearsed({ components, ...file }: PlannedFile, root: string): Promise<RehearsedFile> {
  const found = await whatIsThere(root, components);
  return { ...file, target: join(root, ...components), exists: found && { ...found, same: null } };
}
