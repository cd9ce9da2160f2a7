import type { Copy, Item, ItemDetail } from "@/server/items/contract";
import { bytesText } from "../instruments/words";

/** What distinguishes the rows of a list: the items, or in a list of versions the copies. */
export const rowId = ({ id, version }: Pick<Item, "id" | "version">): number => version?.copyId ?? id;

/** The copy a row shows: the version it is, or the one that stood then; null: the best one, whichever that is. */
export const copyOfRow = ({ version, copyThen }: Pick<Item, "version" | "copyThen">): number | null => version?.copyId ?? copyThen ?? null;

/** What opens a row, as a change of the address. */
export function rowAddress(item: Item): Record<"item" | "copy" | "compare", string | null> {
  const copy = copyOfRow(item);
  return { item: String(item.id), copy: copy === null ? null : String(copy), compare: null };
}

/** Whether a size of 0 says nothing of how long the file is: one of no bytes is whole where its content is known. */
export const isUnsized = ({ condition, size }: Pick<Copy, "condition" | "size">): boolean => size === 0 && condition !== "whole";

export const sizeText = (copy: Pick<Copy, "condition" | "size">): string => (isUnsized(copy) ? "size not known" : bytesText(copy.size));

/** Those of the named copies that may be of an item without having come with it. */
export const copiesLeftOut = ({ list, copies }: Pick<ItemDetail, "list" | "copies">, named: readonly (string | null)[]): string[] =>
  list.length < copies
    ? named.filter((id) => id !== null && /^\d{1,15}$/.test(id)).filter((id): id is string => !list.some((each) => String(each.id) === id))
    : [];

/** The copy of an item that the address names, else its best one. None where the named one has not come: another version is never shown in its place. */
export function openedCopy(item: ItemDetail, address: { get(name: string): string | null }): Copy | undefined {
  const named = address.get("copy");
  const found = item.list.find((each) => String(each.id) === named);
  return found ?? (copiesLeftOut(item, [named]).length > 0 ? undefined : item.list[0]);
}
