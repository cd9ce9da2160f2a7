import { type SQL, sql } from "drizzle-orm";
import type { Database } from "../database/connection";
import { askToCheckTray } from "../items/check";
import { changedOf, hasContent, NEWEST_FIRST } from "../items/version-rows";
import { OPENS } from "../passes/best-copy";
import { announce } from "../workers/queue";
import type { VersionChoice, VersionsChosen } from "./contract";

const CHANGED = changedOf(sql`c`);
const HAS_CONTENT = hasContent(sql`c`);

/** The id of the copy of an item that a choice means, as an expression; null: it has none. */
function wantedOf({ take, before }: VersionChoice): SQL {
  if (take === "best") return sql`(select i.best_copy_id from items i where i.id = t.item_id)`;
  const only = {
    newest: HAS_CONTENT,
    whole: sql`${HAS_CONTENT} and c.condition = 'whole' and ${sql.raw(OPENS("c"))} is distinct from 'no'`,
    before: sql`${HAS_CONTENT} and ${CHANGED} < ${before ?? null}::timestamptz`,
  }[take];
  return sql`(select c.id from copies c where c.item_id = t.item_id and ${only}
    order by ${NEWEST_FIRST} limit 1)`;
}

/**
 * Chooses one and the same kind of version of each item in the tray, in the place of what was chosen of it. Items that have none of the kind stay
 * as they were chosen. A place that was chosen for an item stays with it.
 */
export async function chooseVersions(db: Database, jobId: number, choice: VersionChoice): Promise<VersionsChosen> {
  const chosen = await db.transaction(async (tx) => {
    await tx.execute(sql`
      create temp table chosen_versions on commit drop as
      select t.*, t.copies <> array[t.wanted] as changed from (
        select t.item_id, ${wantedOf(choice)} as wanted, array_agg(coalesce(t.copy_id, i.best_copy_id)) as copies, bool_or(t.copy_id is null) as by_item,
          (array_agg(t.place_home) filter (where t.place_home is not null))[1] as home,
          (array_agg(t.place_folder) filter (where t.place_home is not null))[1] as folder,
          (array_agg(t.place_name) filter (where t.place_home is not null))[1] as name
        from tray_entries t join items i on i.id = t.item_id where t.job_id = ${jobId} group by t.item_id) t`);
    // What stands for “the best copy, whichever that is” means the chosen one from here on.
    const anew = sql`wanted is not null and (changed or by_item <> ${choice.take === "best"})`;
    await tx.execute(sql`
      delete from tray_entries t using chosen_versions v where t.job_id = ${jobId} and t.item_id = v.item_id and ${anew}`);
    await tx.execute(sql`
      insert into tray_entries (job_id, item_id, copy_id, place_home, place_folder, place_name)
      select ${jobId}::int, item_id, ${choice.take === "best" ? sql`null::bigint` : sql`wanted`}, home, folder, name from chosen_versions where ${anew}`);
    const { rows } = await tx.execute<VersionsChosen & Record<string, unknown>>(sql`
      select count(*) filter (where wanted is not null and changed)::int as changed, count(*) filter (where wanted is not null and not changed)::int as same,
        count(*) filter (where wanted is null)::int as without from chosen_versions`);
    return rows[0] ?? { changed: 0, same: 0, without: 0 };
  });
  await askToCheckTray(db, jobId);
  await announce(db, jobId);
  return chosen;
}
