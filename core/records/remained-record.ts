import type { Remain } from "./sqlite/carve";
import type { Cell } from "./sqlite/cell";
import type { Database } from "./sqlite/database";
import { recordOf } from "./sqlite/overflow";
import type { Page } from "./sqlite/pages";
import { lengthOf } from "./sqlite/record";

/** The record of a remain, with the pages it goes on to: its bytes, where its values begin in them and end. */
export function remainedRecord(
  database: Database,
  page: Page,
  remain: Remain,
): { cell: Cell; bytes: Buffer; body: number; end: number; whole: boolean } {
  const { rowid, types, bodyAt, at, payload, local, overflow } = remain;
  const recordAt = bodyAt - (payload - types.reduce((sum, type) => sum + lengthOf(type), 0));
  const cell: Cell = { at, rowid, payload, local, recordAt, end: remain.end, overflow };
  const { bytes, recordAt: start, end, whole } = recordOf(database, page, cell, false);
  return { cell, bytes, body: start + (bodyAt - recordAt), end, whole };
}
