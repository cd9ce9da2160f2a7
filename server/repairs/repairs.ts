import { randomUUID } from "node:crypto";
import { extname } from "node:path";
import { sql } from "drizzle-orm";
import { type ByteSource, readBytes } from "../../core/bytes/byte-source";
import type { Layout } from "../../core/bytes/layout";
import type { Verdict } from "../../core/formats/format";
import { identify, runCheck } from "../../core/formats/registry";
import { canRepair, likesSibling, type RepairedFile, repair } from "../../core/repair/repair";
import { OwnBytes } from "../../core/restore/gaps";
import { repairedName, safeComponents } from "../../core/restore/names";
import type { Delivery } from "../../io/deliver";
import { DeliveryError } from "../../io/give-name";
import { describeWriteError } from "../../io/system-errors";
import type { Connection, Database } from "../database/connection";
import type { StoredCopy } from "../items/queries";
import { note } from "../log/commands";
import { storedCopy, withContent } from "../previews/content";
import { drawn } from "../previews/pictures";
import { Problem } from "../problem";
import { destinationRoot, openDelivery } from "../restores/delivery";
import { refusalFor } from "../restores/guards";
import type { RepairLook, RepairWritten } from "./contract";

/** Larger files are not repaired while somebody waits. */
const MOST_REPAIRED = 1 << 29;
const MOST_PICTURE = 1 << 27;
/** Sound files that are tried as a model at most. */
const MOST_SIBLINGS = 8;

const problemOf = (verdict: Verdict) => (verdict.verdict === "sound" ? null : verdict.reason);

/** What repairing a copy would come to. Nothing is written. */
export async function lookAtRepair(db: Connection, copyId: number): Promise<RepairLook> {
  const copy = await storedCopy(db, copyId);
  return withRepaired(db, copy, (repaired, like, content) => {
    const format = repaired?.format ?? identify(content, copy.name);
    const before = repaired ? problemOf(repaired.before) : format ? problemOf(runCheck(format, content)) : "its type is not known";
    return {
      format: format?.title ?? "file",
      before,
      after: repaired && {
        done: [...repaired.done],
        problem: repaired.after.verdict === "damaged" ? repaired.after.reason : null,
        size: repaired.content.size,
        like,
        picture: repaired.format.kind === "pictures",
      },
    };
  });
}

/** The repaired picture, drawn anew. @throws Problem when there is none */
export async function repairedPicture(db: Connection, copyId: number): Promise<Buffer> {
  const copy = await storedCopy(db, copyId);
  const bytes = await withRepaired(db, copy, (repaired) => {
    if (!repaired || repaired.content.size > MOST_PICTURE) throw new Problem("There is no repaired picture to look at.", 404);
    return Buffer.from(readBytes(repaired.content, 0, repaired.content.size));
  });
  return drawn(bytes, 720);
}

/** Writes the repaired file into the delivery folder. @throws Problem when there is none, or nothing may be written there */
export async function writeRepaired(db: Database, copyId: number): Promise<RepairWritten> {
  const copy = await storedCopy(db, copyId);
  const { rows } = await db.execute<{ title: string }>(sql`select title from jobs where id = ${copy.jobId}`);
  const destination = `${rows[0]?.title ?? "Job"}/Repaired`;
  const refused = await refusalFor(db, copy.jobId, destinationRoot({ destination, delivery: null }));
  if (refused) throw new Problem(refused, 409);
  const written = await withRepaired(db, copy, (repaired) => {
    if (!repaired) throw new Problem("This file cannot be repaired here.", 409);
    const name = repairedName(copy.name, repaired.extension !== null);
    let delivery: Delivery | null = null;
    try {
      delivery = openDelivery({ destination, delivery: null }, `repair-${randomUUID()}`);
      return delivery.deliver(repaired.content, safeComponents(name), { conflict: "keep-both" });
    } catch (error) {
      const words = error instanceof DeliveryError || (error as NodeJS.ErrnoException).code ? describeWriteError(error) : null;
      throw words === null ? error : new Problem(words, 409);
    } finally {
      delivery?.close();
    }
  });
  if (!written) throw new Problem("The repaired file could not be written.", 409);
  await note(db, copy.jobId, "Repaired file written", { copy: copyId, output: written.output, sha256: written.sha256 });
  return written;
}

/** A repaired form of a copy's content, to be written by whoever has it open. */
export interface RepairPlan {
  /** "disk" stretches are places in the content. */
  readonly layout: Layout;
  /** What was done, and whether it opens now, in words. */
  readonly words: string;
  readonly unpacked: boolean;
}

/** How a copy is repaired; null: nothing in it can be. @throws Problem when it is too large for that */
export async function planRepair(db: Connection, copyId: number): Promise<RepairPlan | null> {
  return withRepaired(
    db,
    await storedCopy(db, copyId),
    (repaired, like) =>
      repaired && {
        layout: repaired.layout,
        unpacked: repaired.extension !== null,
        words: describeRepair(repaired, like),
      },
  );
}

function describeRepair({ done, after }: RepairedFile, like: string | null): string {
  const still = after.verdict === "damaged" ? ` It still does not open: ${after.reason}.` : "";
  return `Repaired: ${done.join("; ")}${like ? `, after ${like}` : ""}.${still}`;
}

/** Repairs a copy's content, alone or by the model of a sound one, and gives it to `use` while the sources are open. */
async function withRepaired<T>(
  db: Connection,
  copy: StoredCopy,
  use: (repaired: RepairedFile | null, like: string | null, content: ByteSource) => T,
): Promise<T> {
  if (copy.size > MOST_REPAIRED)
    throw new Problem("This file is too large to be repaired here: restore it, and use the command line.", 413);
  return withContent(copy, async (found) => {
    // Bytes of other files are none of its own, and go into no repaired one.
    const content = new OwnBytes(found);
    const alone = repair(content, copy.name);
    const format = identify(content, copy.name);
    if (alone || (format && !canRepair(format)) || (format && runCheck(format, content).verdict === "sound"))
      return use(alone, null, content);
    if (format && !likesSibling(format)) return use(null, null, content);
    for (const sibling of await siblings(db, copy)) {
      if (!sibling.layout) continue;
      const repaired = await withContent(sibling, (model) => {
        const better = repair(content, copy.name, model);
        return better && better.after.verdict !== "damaged" ? { used: use(better, sibling.name, content) } : null;
      });
      if (repaired) return repaired.used;
    }
    return use(null, null, content);
  });
}

/**
 * Copies of the same extension in the job with nothing against them (live ones were not looked into), those of the same camera first. Recordings are never called whole,
 * because other bytes in them would go unnoticed: there it is enough that they were followed to their end.
 */
async function siblings(db: Connection, copy: StoredCopy): Promise<StoredCopy[]> {
  const extension = extname(copy.name).toLowerCase();
  if (!extension) return [];
  const { rows } = await db.execute<{ id: string }>(sql`
    select c.id from copies c where c.job_id = ${copy.jobId} and c.id <> ${copy.id} and c.condition in ('whole', 'not-checked') and c.size > 0 and coalesce(c.evidence->'content'->>'finding', 'agrees') = 'agrees'
      and lower(c.name) like ${`%${extension}`} and c.facts->>'inside' is null
    order by (c.facts->>'camera' is not null and c.facts->>'camera' = (select facts->>'camera' from copies where id = ${copy.id})) desc,
      (c.condition = 'whole') desc, abs(c.size - ${copy.size})
    limit ${MOST_SIBLINGS}`);
  return Promise.all(rows.map((row) => storedCopy(db, Number(row.id))));
}
