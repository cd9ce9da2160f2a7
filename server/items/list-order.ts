import { type SQL, sql } from "drizzle-orm";
import { z } from "zod";
import { Problem } from "../problem";
import type { ItemQuery } from "./contract";
import { sizeCondition } from "./filter";
import { type ChangingColumn, shownValue } from "./moments";
import { changedOf } from "./version-rows";

/** An order by values that are other ones at another time, each with its index on the items and on the versions. */
export const CHANGING_ORDERS: Readonly<
  Record<Exclude<ItemQuery["sort"], "name">, { column: ChangingColumn; type: SQL; of(value: SQL): SQL }>
> = {
  changed: { column: "modified", type: sql`timestamptz`, of: (value) => sql`coalesce(${value}, '-infinity'::timestamptz)` },
  size: { column: "size", type: sql`bigint`, of: (value) => value },
  condition: { column: "survival", type: sql`float8`, of: (value) => value },
};

/** What tells apart the place of a row in an order: a value, with its type. */
interface Term {
  readonly by: SQL;
  readonly type: SQL;
}

/** The values of a row's terms, as the database writes them: a page goes on behind that row. */
export type Cursor = readonly string[];

const BIGINT = sql`bigint`;
const ID: Term = { by: sql`i.id`, type: BIGINT };
const ITEM: Term = { by: sql`i.item_id`, type: BIGINT };
const FLOAT = sql`float8`;
const NEWNESS = sql`coalesce(extract(epoch from ${changedOf(sql`i`)})::float8, '-infinity'::float8)`;

/**
 * What rows `i` of a list are ordered by, the first term first; no two rows agree in all. The first is as the list shows it, and the indexes have these very expressions.
 * Versions by name stand with those of their item, the newest first whichever way the names go.
 */
export function orderTerms(query: ItemQuery): readonly [Term, ...Term[]] {
  if (query.sort === "name") {
    const name: Term = { by: sql`(lower(i.name) collate "C")`, type: sql`text` };
    if (!query.rows) return [name, ID];
    return [name, ITEM, { by: query.order === "down" ? NEWNESS : sql`-${NEWNESS}`, type: FLOAT }, ID];
  }
  const { column, type, of } = CHANGING_ORDERS[query.sort];
  const shown: Term = { by: of(shownValue(column, query)), type };
  return query.rows ? [shown, ITEM, ID] : [shown, ID];
}

/** Years that are written alike everywhere. */
const [FIRST_YEAR, LAST_YEAR] = [1000, 9000];

/**
 * The condition on an order's first term that all rows meet that are narrowed to a year or a class of sizes: so a walk begins where these stand. (A year begins and
 * ends at another hour in each time zone; by a day more it is in all of them.)
 */
export function walkBounds({ sort, year, size, asOf }: ItemQuery, key: SQL): SQL {
  if (asOf === undefined && sort === "size" && size) return sql`and ${sizeCondition(size, key)}`;
  const isOrdinary = Number(year) >= FIRST_YEAR && Number(year) <= LAST_YEAR;
  if (asOf !== undefined || sort !== "changed" || !isOrdinary) return sql``;
  const from = new Date(Date.UTC(Number(year), 0, 0));
  const until = new Date(Date.UTC(Number(year) + 1, 0, 2));
  return sql`and ${key} >= ${from.toISOString()}::timestamptz and ${key} < ${until.toISOString()}::timestamptz`;
}

const all = (parts: readonly SQL[]) => sql.join([...parts], sql`, `);
const direction = ({ order }: ItemQuery) => (order === "down" ? sql`desc` : sql`asc`);
const asOrdered = (parts: readonly SQL[], query: ItemQuery) => all(parts.map((part) => sql`${part} ${direction(query)}`));

/** An order, in the forms queries need it in. */
export function listOrder(query: ItemQuery) {
  const terms = orderTerms(query);
  const [{ by }, ...ties] = terms;
  const columns = all(terms.map((term) => term.by));
  return {
    by,
    terms,
    /** All terms: in brackets, a row to compare with others; and as what a query gives. */
    columns,
    orderBy: asOrdered(
      terms.map((term) => term.by),
      query,
    ),
    /** By a column `sort_by` that has the first term: so it is known to be in order already where it was walked in order. */
    orderBySorted: asOrdered([sql`i.sort_by`, ...ties.map((term) => term.by)], query),
    /** The terms as an array of texts, the first from the column `sort_by`. */
    cursorSorted: sql`array[i.sort_by::text, ${all(ties.map((term) => sql`(${term.by})::text`))}]`,
    /** The condition that a row comes after that of a cursor. */
    beyond: (after: Cursor) =>
      sql`(${columns}) ${query.order === "down" ? sql`<` : sql`>`} (${all(terms.map(({ type }, index) => sql`${after[index] ?? null}::${type}`))})`,
  };
}

export const writeCursor = (cursor: Cursor): string => Buffer.from(JSON.stringify(cursor)).toString("base64url");

/** The parts of a cursor that a person or a program sends back. Throws a Problem where it is none of this order. */
export function readCursor(text: string, query: ItemQuery): Cursor {
  const terms = orderTerms(query).length;
  try {
    return z
      .array(z.string())
      .length(terms)
      .parse(JSON.parse(Buffer.from(text, "base64url").toString()));
  } catch {
    throw new Problem("The place to go on from is not valid. Load the list anew.");
  }
}
