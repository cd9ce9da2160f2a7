import type { Copy, Item, ItemDetail } from "@/server/items/contract";

/** What distinguishes the rows of a list: the items, or in a list of versions the copies. */
export const rowId = ({ id, version }: Pick<Item, "id" | "version">): number => version?.copyId ?? id;

/** The copy a row shows: the version it is, or the one that stood then; null: the best one, whichever that is. */
export const copyOfRow = ({ version, copyThen }: Pick<Item, "version" | "copyThen">): number | null => version?.copyId ?? copyThen ?? null;

/** What opens a row, as a change of the address. */
export function rowAddress(item: Item): Record<"item" | "copy" | "compare", string | null> {
  const copy = copyOfRow(item);
  return { item: String(item.id), copy: copy === null ? null : String(copy), compare: null };
}

/** The copy of an item that the address names, else its best one. */
export const openedCopy = (item: ItemDetail, address: { get(name: string): string | null }): Copy | undefined =>
  item.list.find((each) => String(each.id) === address.get("copy")) ?? item.list[0];
