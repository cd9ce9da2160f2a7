import { lstat, open, readdir } from "node:fs/promises";
import { join, resolve } from "node:path";
import { sql } from "drizzle-orm";
import { readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import { OwnBytes } from "../../core/restore/gaps";
import { fold } from "../../core/restore/names";
import type { Connection } from "../database/connection";
import { openPermitted, storedCopy } from "../previews/content";
import { Problem } from "../problem";
import { liesWithin } from "../sources/source-folders";
import type { RestorePlan, Survey } from "./contract";
import { deliveryFolders } from "./delivery";
import { SECOND, type StoredStream, secondFileOf, trayParts } from "./planned";
import { toRehearsed } from "./rehearsal";
import { filesOf, targetsFor } from "./targets";

const STEP = 50_000;
const MOST_SHOWN = 500;
/** Files at a destination that are looked at. */
const MOST_PRESENT = 2_000_000;
const COMPARED_AT_ONCE = 1 << 20;

/** Looks at every target of the tray: what is there already, and which files of this restore would meet in one name. */
export async function surveyTargets(db: Connection, jobId: number, plan: RestorePlan): Promise<Survey> {
  const targets = await targetsFor(db, jobId, plan);
  const present = await filesBelow(targets.root);
  const taken = new Set<string>();
  const conflicts: Survey["conflicts"] = [];
  const kinds: Survey["kinds"] = {};
  /** Files below each folder, all the way down. */
  const below = new Map<string, number>();
  let existing = 0;
  let meeting = 0;
  for await (const rows of trayParts(db, jobId, STEP, targets.pattern?.counts)) {
    for (const file of rows.flatMap((row) => filesOf(row, targets))) {
      if (file.problem) continue;
      const target = join(...file.components);
      const folded = fold(target);
      if (taken.has(folded)) meeting += 1;
      taken.add(folded);
      for (let end = folded.lastIndexOf("/"); end > 0; end = folded.lastIndexOf("/", end - 1)) {
        const folder = folded.slice(0, end);
        below.set(folder, (below.get(folder) ?? 0) + 1);
      }
      if (!present.has(target)) continue;
      existing += 1;
      kinds[file.kind] = (kinds[file.kind] ?? 0) + 1;
      if (conflicts.length < MOST_SHOWN) conflicts.push(await toRehearsed(file, targets.root));
    }
  }
  return { existing, conflicts, kinds, meeting, below: countBelow(below, taken) };
}

/** How many files lie in folders that have the name of a file. @param below files below each folder @param taken paths of files, folded like those of folders */
function countBelow(below: ReadonlyMap<string, number>, taken: ReadonlySet<string>): number {
  let count = 0;
  for (const path of taken) {
    const files = below.get(path) ?? 0;
    const isWithin = files > 0 && [...path.matchAll(/\//g)].some(({ index }) => taken.has(path.slice(0, index)));
    if (!isWithin) count += files;
  }
  return count;
}

/** Everything that is below a folder, by its path from there; links are not followed. */
async function filesBelow(root: string): Promise<Set<string>> {
  const found = new Set<string>();
  const waiting = [""];
  for (let folder = waiting.pop(); folder !== undefined; folder = waiting.pop()) {
    const entries = await readdir(join(root, folder), { withFileTypes: true }).catch(() => []);
    for (const entry of entries) {
      const path = join(folder, entry.name);
      found.add(path);
      if (found.size > MOST_PRESENT)
        throw new Problem("There are too many files at the destination to compare with: choose an empty folder.", 409);
      if (entry.isDirectory()) waiting.push(path);
    }
  }
  return found;
}

/** Whether a file at a destination holds what would be written there, byte for byte. */
export async function compareWithPresent(db: Connection, copyId: number, stream: number | null, path: string): Promise<boolean> {
  const copy = await storedCopy(db, copyId);
  if (!deliveryFolders().some((folder) => liesWithin(resolve(path), folder.path)))
    throw new Problem("This file is not in the delivery folder.", 403);
  const layout = stream === null ? copy.layout : await streamLayout(db, copyId, stream);
  const stats = await lstat(path).catch(() => null);
  if (!layout || !stats?.isFile() || stats.size !== layout.size) return false;
  const { disk, close } = openPermitted(copy);
  const file = await open(path, "r");
  try {
    const content = new OwnBytes(new LayoutSource(disk, layout));
    const there = Buffer.alloc(Math.min(COMPARED_AT_ONCE, Math.max(1, layout.size)));
    for (let at = 0; at < layout.size; ) {
      const { bytesRead } = await file.read(there, 0, Math.min(there.length, layout.size - at), at);
      if (bytesRead === 0 || !there.subarray(0, bytesRead).equals(readBytes(content, at, bytesRead))) return false;
      at += bytesRead;
    }
    return true;
  } finally {
    await file.close();
    close();
  }
}

async function streamLayout(db: Connection, copyId: number, stream: number) {
  const { rows } = await db.execute<{ streams: StoredStream[] | null }>(sql`select streams from copies where id = ${copyId}`);
  const streams = rows[0]?.streams ?? null;
  if (stream === SECOND) return secondFileOf(streams)?.layout ?? null;
  const encoded = streams?.[stream]?.layout;
  return encoded ? decodeLayout(Buffer.from(encoded, "base64")) : null;
}
