import { RowsByNumber } from "../rows-by-number";
import { EntryList } from "./entry-list";
import { EntryReader } from "./entry-reader";
import type { EntryKind } from "./kinds";
import { type EntryTable, recogniseEntryTables } from "./recognise";
import type { RecordTable } from "./table";
import { Talks } from "./talks";

export interface Entries {
  /** All entries of each kind. */
  readonly byKind: ReadonlyMap<EntryKind, EntryList>;
  readonly talks: Talks;
  /** By table, what it was taken for and why. */
  readonly why: readonly { readonly table: string; readonly kind: EntryKind; readonly why: readonly string[] }[];
}

/** Rows after which who waits for them may be answered. */
const ROWS_A_STEP = 1_024;

/** Reads the rows of tables as what they are. Gives how many rows were gone through, from time to time. @param now seconds since 1970 */
export function* readEntries(all: readonly RecordTable[], now: number): Generator<number, Entries> {
  const recognised = recogniseEntryTables(all, now);
  yield 0;
  const reader = new EntryReader(all, recognised);
  yield* reader.prepare(ROWS_A_STEP);
  const byKind = new Map<EntryKind, EntryList>();
  const talks = new Talks(reader);
  let rows = 0;
  for (const [found, entryTable] of recognised.found.entries()) {
    const { kind, table } = entryTable;
    const list = byKind.get(kind) ?? new EntryList(kind, reader);
    byKind.set(kind, list);
    const add = (row: number, lastVisit: boolean) => {
      const entry = reader.read({ found, row, lastVisit });
      if (entry) list.add(entry, { found, row, lastVisit });
      if (entry?.kind === "messages") talks.add(entry);
    };
    for (let row = 0; row < (all[table]?.rows.length ?? 0); row += 1) {
      add(row, false);
      rows += 1;
      if (rows % ROWS_A_STEP === 0) yield rows;
    }
    if (kind !== "visits") continue;
    for (const row of pagesNotVisited(entryTable, all)) {
      if (row !== null) add(row, true);
      rows += 1;
      if (rows % ROWS_A_STEP === 0) yield rows;
    }
  }
  for (const list of byKind.values()) {
    list.finish();
    yield rows;
  }
  const why = recognised.found.map((each) => ({ table: all[each.table]?.name ?? "", kind: each.kind, why: each.why }));
  return { byKind, talks, why };
}

/** Pages that no visit leads to any more, by their places; null for one that was looked at and is none. */
function* pagesNotVisited({ table, roles, leads }: EntryTable, all: readonly RecordTable[]): Generator<number | null> {
  const pages = leads.address === undefined ? undefined : all[leads.address]?.rows;
  const visits = all[table]?.rows;
  if (!pages || !visits) return;
  const visited = new RowsByNumber();
  for (let i = 0; i < visits.length; i += 1) {
    const page = visits.valueAt(i, roles.address ?? -1);
    if ((typeof page === "number" || typeof page === "bigint") && !visited.has(page)) visited.add(page, i);
    yield null;
  }
  for (let i = 0; i < pages.length; i += 1) yield visited.has(pages.numberAt(i)) ? null : i;
}
