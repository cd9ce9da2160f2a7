import { PLACES, type Place, placesWith, rankOf } from "../../core/copies/vocabulary";
import { SHIPPED_RULES } from "../../core/places/rules";

/** Whether a content opens, as far as it was looked into; of what a checksum vouches for, nobody has tried. */
export const OPENS = (row: string) =>
  `case when ${row}.evidence->'content'->>'finding' is null then (case when ${row}.evidence->>'kept' = 'vouched' then 'unknown' end) when ${row}.evidence->'content'->>'finding' = 'agrees' and (${row}.evidence->'content'->>'checked')::boolean then 'yes'
    when ${row}.evidence->'content'->>'finding' = 'damaged' then 'no' else 'unknown' end`;

const quoted = (place: Place) => `'${place}'`;
const KEPT_PLACES = placesWith("impliesLoss").map(quoted).join(", ");
/** The rank of a place among copies in the same condition. */
const RANK = (column: string) =>
  `case ${column} ${PLACES.flatMap((place) => (rankOf(place) > 0 ? [`when ${quoted(place)} then ${rankOf(place)}`] : [])).join(" ")} else 0 end`;
const ORDINARY = SHIPPED_RULES.filter((rule) => rule.ordinary)
  .map((rule) => `'${rule.id}'`)
  .join(", ");

/** Whether a copy is one of a lost file: deleted, kept in a known place, or known by its name alone. */
export const lostIf = (copy: string) =>
  `(${copy}.state = 'deleted' or (${copy}.place in (${KEPT_PLACES}) and ${copy}.rule not in (${ORDINARY})) or (${copy}.condition = 'name-only' and (${copy}.size > 0 or ${copy}.place = 'recent')))`;

/** Whether an item with this copy alone is lost: what only a backup file has is gone from where it was. */
export const lostAlone = (copy: string) => `(${lostIf(copy)} or ${copy}.evidence->>'kept' is not null)`;

/** Whether an item with these copies is lost: a list that names a file says nothing about it where the file is there. */
const LOST_ITEM = `bool_or(${lostIf("c")} and not (c.condition = 'name-only' and c.rule is not null)) or not bool_or(c.rule is null or c.condition <> 'name-only')
  or (bool_or(c.evidence->>'kept' is not null) and not bool_or(c.state = 'live' and c.evidence->>'kept' is null))`;

/** The order of an item's copies `c`, the best first. */
export const BEST_FIRST = `array_position(array['whole', 'partial', 'not-checked', 'name-only'], c.condition), ${RANK("c.place")},
  (c.state = 'live' and c.rule is null), c.modified desc nulls last, c.survival desc, c.id`;

/**
 * What items say of their copies, as the common table expressions `ranked` (the best copy) and `counted` (all of them).
 * @param from tables with `copies c` @param by the columns that distinguish items
 */
export const summed = (from: string, by: string) => `ranked as (
    select distinct on (${by}) ${by}, c.id, c.name, c.size, c.modified, c.condition, c.survival, c.facts, c.state = 'live' as live, ${OPENS("c")} as opens,
      c.created, c.deleted_at
    from ${from} order by ${by}, ${BEST_FIRST}
  ), counted as (
    select ${by}, count(*)::int as copies, ${LOST_ITEM} as lost, array_agg(distinct c.place) as places, array_agg(distinct c.store_id) as stores
    from ${from} group by ${by}
  )`;

/** Sets what items say of their copies anew. @param touched a query for the ids of the items in question */
export function gatherCopies(touched: string): string {
  return `
  with touched as (${touched}), ${summed("copies c join touched on touched.id = c.item_id", "c.item_id")}
  update items set copies = counted.copies, lost = counted.lost, places = counted.places, stores = counted.stores,
    best_copy_id = case when overruled then best_copy_id else ranked.id end,
    size = case when overruled then items.size else ranked.size end,
    modified = case when overruled then items.modified else ranked.modified end,
    condition = case when overruled then items.condition else ranked.condition end,
    survival = case when overruled then items.survival else ranked.survival end,
    facts = case when overruled then items.facts else ranked.facts end,
    live = case when overruled then items.live else ranked.live end,
    opens = case when overruled then items.opens else ranked.opens end,
    created = case when overruled then items.created else ranked.created end,
    deleted_at = case when overruled then items.deleted_at else ranked.deleted_at end
  from ranked join counted using (item_id) where items.id = ranked.item_id`;
}

/**
 * Items that have gathered more than one copy take the facts of their best one: whole before partial, then lost before
 * live (the live one needs no rescue), then the newest content. What the technician has chosen stays.
 */
export const BEST_COPY = gatherCopies("select id from touched");
