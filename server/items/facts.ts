import { type SQL, sql } from "drizzle-orm";
import type { CopyFacts } from "../../core/copies/facts";
import type { Connection, Database } from "../database/connection";
import { announce } from "../workers/queue";
import { joinItems } from "./join";

/** An item of whose best copy nothing is known but its record. */
export interface WithoutFacts {
  readonly itemId: number;
  readonly copyId: number;
}

/** Kinds of file whose content holds facts about itself. */
export const KINDS_WITH_FACTS: readonly string[] = ["pictures", "documents", "sheets", "drawings", "audio", "video"];
/** Facts a picture, and a document, must hold to be known again. */
const PICTURE_HAS_FACTS = sql.raw("(i.kind = 'pictures' and i.facts ? 'taken' and i.facts ? 'camera')");
const DOCUMENT_HAS_FACTS = sql.raw("(i.kind in ('documents', 'sheets', 'drawings') and i.facts ? 'title')");

/** The kinds of content that lost its name and may be tied by its facts: only then live files of these kinds are asked. */
export async function namelessKinds(db: Connection, jobId: number): Promise<string[]> {
  const { rows } = await db.execute<{ kind: string }>(sql`
    select distinct i.kind from items i join folders f on f.id = i.folder_id
    where i.job_id = ${jobId} and f.path like '/?%' and (${PICTURE_HAS_FACTS} or ${DOCUMENT_HAS_FACTS})`);
  return rows.map(({ kind }) => kind);
}

/** Items whose content was not asked what it is, from the one after `after` on. */
export async function copiesWithoutFacts(
  db: Connection,
  jobId: number,
  { lost, kinds, after, limit }: { lost: boolean; kinds: readonly string[]; after: number; limit: number },
): Promise<WithoutFacts[]> {
  const { rows } = await db.execute<Record<"id" | "copy_id", string>>(sql`
    select i.id, i.best_copy_id as copy_id from items i join copies c on c.id = i.best_copy_id
    where i.job_id = ${jobId} and i.lost = ${lost} and i.id > ${after} and i.kind = any(array(select jsonb_array_elements_text(${JSON.stringify(kinds)}::jsonb))) and i.facts is null
      and i.size > 0 and i.condition <> 'name-only' and c.layout is not null
    order by i.id limit ${limit}`);
  return rows.map((row) => ({ itemId: Number(row.id), copyId: Number(row.copy_id) }));
}

/** Keeps the facts read from copies; an item has those of its best copy. */
export async function keepFacts(db: Database, jobId: number, read: readonly { copyId: number; facts: CopyFacts }[]): Promise<void> {
  if (read.length === 0) return;
  await db.transaction(async (tx) => {
    await tx.execute(sql`
      with read as (select "copyId" as id, facts from jsonb_to_recordset(${JSON.stringify(read)}::jsonb) as t("copyId" bigint, facts jsonb)),
      kept as (update copies set facts = read.facts from read where copies.id = read.id and copies.job_id = ${jobId})
      update items set facts = read.facts from read where items.best_copy_id = read.id and items.job_id = ${jobId}`);
    await announce(tx, jobId);
  });
}

/** By what a picture and a document are known again, whatever they are called. */
const PICTURE: SQL = sql`concat_ws(' ', i.facts->>'taken', i.facts->>'camera', greatest((i.facts->>'width')::bigint, (i.facts->>'height')::bigint),
  least((i.facts->>'width')::bigint, (i.facts->>'height')::bigint))`;
const DOCUMENT: SQL = sql`concat_ws(' ', lower(i.facts->>'title'), lower(substring(i.name from '\\.[^.]+$')))`;

/**
 * Ties content that lost its name to the items it says it belongs to: pictures taken at the same moment with the same camera, in the
 * same pixels; documents of the same type and title. Only where one item alone is meant: a series of pictures has moments in common,
 * and so have copies in two folders. @returns how many were tied
 */
export async function tieByFacts(db: Database, jobId: number): Promise<number> {
  const pictures = await alike(db, jobId, PICTURE, PICTURE_HAS_FACTS, true);
  const documents = await alike(db, jobId, DOCUMENT, DOCUMENT_HAS_FACTS, false);
  for (const { itemId, knownItemId } of pictures)
    await joinItems(db, jobId, itemId, knownItemId, "Gathered here because it was taken at the same moment, with the same camera.");
  for (const { itemId, knownItemId } of documents)
    await joinItems(
      db,
      jobId,
      itemId,
      knownItemId,
      "Gathered here because its title is the same: it may be another state of the document.",
    );
  return pictures.length + documents.length;
}

/** Nameless items and the one known item each has its key in common with. @param single whether but one nameless item may have it */
async function alike(db: Connection, jobId: number, key: SQL, where: SQL, single: boolean) {
  const { rows } = await db.execute<Record<"item_id" | "known_item_id", string>>(sql`
    with keyed as (
      select i.id, ${key} as key, f.path like '/?%' as nameless from items i join folders f on f.id = i.folder_id
      where i.job_id = ${jobId} and i.facts is not null and ${where} and i.facts->>'inside' is null
    ), sole as (
      select key, min(id) filter (where not nameless) as known from keyed group by key
      having count(*) filter (where not nameless) = 1 and (not ${single} or count(*) filter (where nameless) = 1)
    )
    select keyed.id as item_id, sole.known as known_item_id from keyed join sole using (key) where keyed.nameless order by 1`);
  return rows.map((row) => ({ itemId: Number(row.item_id), knownItemId: Number(row.known_item_id) }));
}
