import { relative } from "node:path";
import { sql } from "drizzle-orm";
import { PAYLOAD } from "../../core/restore/bagit";
import { LIST_NAME, type ListedFile, toListRow } from "../../core/restore/file-list";
import type { Gaps } from "../../core/restore/gaps";
import { writeSheet } from "../../io/sheet";
import type { BagFacts, PayloadFile } from "../../io/write-bag";
import type { Database } from "../database/connection";
import { handoverAsHtml, reportAsJson } from "../handover/forms";
import { describeHandover, gatherReport } from "../handover/report";
import { RESULT_WORDS } from "../words/contract";
import type { ClaimedRestore } from "./slice";

/** A package to be closed: where it lies below the destination, what it holds, and what is said of it. */
export interface OpenBag {
  readonly folder: readonly string[];
  readonly payload: readonly PayloadFile[];
  readonly facts: BagFacts;
}

interface ClosedRow extends Record<string, unknown> {
  path: string;
  state: keyof typeof RESULT_WORDS;
  size: string;
  condition: string;
  bag: number | null;
  output: string | null;
  sha256: string | null;
  gaps: Gaps | null;
  leftBehind: string[] | null;
  problem: string | null;
  raw: string | null;
}

/** Rows read at once. */
const STEP = 5_000;

async function* rowsOf(db: Database, restoreId: number): AsyncGenerator<ClosedRow, void, void> {
  for (let after = 0; ; ) {
    const { rows } = await db.execute<ClosedRow & { id: string }>(sql`
      select r.id, r.path, r.state, r.size, r.condition, r.bag, r.output, r.sha256, r.gaps, r.left_behind as "leftBehind", r.problem, encode(c.name_raw, 'hex') as raw
      from restore_results r left join copies c on c.id = r.copy_id where r.restore_id = ${restoreId} and r.id > ${after} order by r.id limit ${STEP}`);
    yield* rows;
    const last = rows[rows.length - 1];
    if (!last) return;
    after = Number(last.id);
  }
}

const isThere = (row: ClosedRow): row is ClosedRow & { output: string; sha256: string } =>
  (row.state === "verified" || row.state === "gaps" || row.state === "same") && row.output !== null && row.sha256 !== null;

const toListed = (row: ClosedRow, root: string, asFound: boolean): ListedFile => ({
  written: isThere(row) ? relative(root, row.output) : null,
  path: row.path,
  rawName: row.raw,
  size: Number(row.size),
  sha256: isThere(row) ? row.sha256 : null,
  condition: row.condition,
  gaps: isThere(row) ? row.gaps : null,
  asFound,
  leftBehind: (isThere(row) && row.leftBehind) || [],
  remark: isThere(row) && row.state !== "same" ? null : (row.problem ?? RESULT_WORDS[row.state]),
});

/** The last part of a path. */
const nameOf = (path: string): string => path.slice(path.lastIndexOf("/") + 1);

/**
 * The list that lies beside the files of a restore (CSV), by which changes of name and place can be undone; null: none was changed, each
 * file lies in its own folders under its own name.
 */
export async function listBeside(db: Database, restore: ClaimedRestore): Promise<{ name: string; text: string } | null> {
  const { root, layout } = restore.targets;
  const listed: ListedFile[] = [];
  let changed = false;
  for await (const row of rowsOf(db, restore.id)) {
    const file = toListed(row, root, restore.asFound);
    listed.push(file);
    changed ||= file.written !== null && (layout !== "tree" || nameOf(file.written) !== nameOf(file.path));
  }
  return changed ? { name: LIST_NAME, text: writeSheet(listed.map(toListRow)) } : null;
}

/** The packages of a restore whose files are all settled, each with the list of its files and the job's report. */
export async function bagsOf(db: Database, restore: ClaimedRestore): Promise<OpenBag[]> {
  const report = await gatherReport(db, restore.jobId, restore.id);
  const page = await wholeText(handoverAsHtml(describeHandover(report, "file")));
  const data = await wholeText(reportAsJson(report));
  const bags = new Map<number | null, ClosedRow[]>();
  for await (const row of rowsOf(db, restore.id)) {
    const rows = bags.get(row.bag);
    if (rows) rows.push(row);
    else bags.set(row.bag, [row]);
  }
  const { job } = report;
  return [...bags].flatMap(([bag, rows]): OpenBag[] => {
    const folder = bag === null ? [] : [`Package ${bag}`];
    const root = [restore.targets.root, ...folder].join("/");
    const payload = rows.filter(isThere).map(({ output, sha256 }) => ({ path: relative(root, output), sha256 }));
    if (payload.length === 0 || payload.some(({ path }) => !path.startsWith(`${PAYLOAD}/`))) return [];
    const info = [
      ["Source-Organization", job.firm],
      ["Contact-Name", job.technician],
      ["External-Description", `${job.title}${job.client ? `, for ${job.client}` : ""}`],
      ["External-Identifier", job.number],
      ["Bag-Count", bag === null ? "" : `${bag} of ${bags.size}`],
    ] as const;
    return [
      {
        folder,
        payload,
        facts: {
          info: info.filter(([, value]) => value !== ""),
          tags: [
            { name: LIST_NAME, text: writeSheet(rows.map((row) => toListRow(toListed(row, root, restore.asFound)))) },
            { name: "handover.html", text: page },
            { name: "handover.json", text: data },
          ],
        },
      },
    ];
  });
}

async function wholeText(pieces: AsyncIterable<string>): Promise<string> {
  const all: string[] = [];
  for await (const piece of pieces) all.push(piece);
  return all.join("");
}
