import type { Database } from "../../server/database/connection";
import { type Item, itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";

/** All items of a job that a query gives, page by page. */
export async function allItems(db: Database, jobId: number, query: Record<string, unknown>): Promise<Item[]> {
  const items: Item[] = [];
  for (let after: string | undefined; ; ) {
    const page = await listItems(db, jobId, itemQuery.parse({ limit: 37, ...query, ...(after ? { after } : {}) }));
    items.push(...page.items);
    if (!page.next) return items;
    after = page.next;
  }
}
