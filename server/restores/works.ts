import { relative, sep } from "node:path";
import { sql } from "drizzle-orm";
import { EMPTY_LAYOUT, type Layout } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import type { CopyFacts } from "../../core/copies/facts";
import type { Absence } from "../../core/filesystems/file-record";
import { type FileFacts, marksOf } from "../../core/restore/carried";
import { COMPANION_PATTERN, companionSuffix } from "../../core/restore/companions";
import type { Gaps } from "../../core/restore/gaps";
import { describeLeftBehind, describeStreams } from "../../core/restore/left-behind";
import { type NamedStream, SECOND_FILE } from "../../core/restore/two-files";
import type { Conflict } from "../../core/restore/wishes";
import type { FileAt } from "../../io/folder-source";
import type { SourceAt } from "../../io/open-source";
import type { Database } from "../database/connection";
import type { ResultState } from "../database/schema";
import { FILE_COLUMNS, type FileColumns, toFileAt } from "../items/queries";
import { missingDrive } from "../sources/drives";
import { SOURCE_COLUMNS, type SourceColumns, toSourceAt } from "../sources/source-at";
import { bagFolder, componentsOf, type ExpectedPlace, settledAt } from "./placing";
import { NAMING_COLUMNS, problemOf, REPAIRED, SECOND, type StoredStream, secondFileOf, streamsOf } from "./planned";
import type { ClaimedRestore } from "./slice";
import type { Targets } from "./targets";

/** One file to write. */
export interface RestoreWork extends SourceAt {
  readonly resultId: number;
  readonly sourceId: number;
  readonly file: FileAt | null;
  readonly size: number;
  readonly layout: Layout;
  readonly components: readonly string[];
  /** What it keeps where the destination can hold it, beside its streams. */
  readonly facts: Omit<FileFacts, "attributes">;
  /** Streams that are kept with it where the destination can hold them. */
  readonly streams: readonly NamedStream[];
  /** It goes with another file, and has no use under any other name. */
  readonly second: boolean;
  /** The copy whose repaired form is to be written, and the name its content was given; null: the content is written, as it is. */
  readonly repairOf: { readonly copyId: number; readonly name: string } | null;
  /** What of the file does not go along by wish, in words. */
  readonly leftBehind: readonly string[];
  readonly conflict: Conflict;
  /** Set when an earlier worker was about to give the file its name: the name, and the hash of what it had written. */
  readonly begun: { readonly output: string; readonly sha256: string; readonly gaps: Gaps | null } | null;
}

/** A file that cannot be written, and why. */
export interface RefusedWork {
  readonly resultId: number;
  readonly problem: string;
}

interface WorkRow extends FileColumns, SourceColumns, ExpectedPlace {
  id: string;
  copy_id: string;
  state: ResultState;
  stream: number | null;
  dated: boolean;
  size: string;
  conflict: Conflict | null;
  bag: number | null;
  output: string | null;
  sha256: string | null;
  gaps: Gaps | null;
  known: boolean;
  name: string;
  folder: string;
  copy_size: string;
  condition: string;
  absent: Absence | null;
  layout: Buffer | null;
  streams: StoredStream[] | null;
  marks: number | null;
  first_output: string | null;
  number: number;
  facts: CopyFacts | null;
  nameless: boolean;
  format: string | null;
  container: string;
  source_size: string;
  home_id: number | null;
  modified: string | null;
  created: string | null;
}

/** The next files that are not settled, a number of small ones together; empty: there is none. Each is judged anew. */
export async function nextFiles(
  db: Database,
  restore: ClaimedRestore,
  most: number,
  mostBytes: number,
): Promise<(RestoreWork | RefusedWork)[]> {
  const { rows } = await db.execute<WorkRow>(sql`
    select r.id, r.copy_id, r.state, r.stream, r.dated, r.size, r.conflict, r.bag, r.output, r.sha256, r.gaps, r.place_home, r.place_folder, r.place_name, (s.id is not null) as known,
      c.name, f.path as folder, c.size as copy_size, c.condition, c.absent, c.layout, c.streams, c.marks, r.number, ${NAMING_COLUMNS}, coalesce(o.output, m.output) as first_output, ${FILE_COLUMNS}, f.home_id, c.modified, c.created,
      ${SOURCE_COLUMNS}, s.container, s.size as source_size
    from (select * from restore_results where restore_id = ${restore.id} and state in ('waiting', 'writing') order by id limit ${most}) r
    left join copies c on c.id = r.copy_id left join folders f on f.id = c.folder_id
    left join stores v on v.id = c.store_id left join sources s on s.id = v.source_id
    left join lateral (select output from restore_results o where r.stream < 0 and o.restore_id = ${restore.id} and o.copy_id = r.copy_id
      and o.stream is null and o.state in ('verified', 'gaps', 'same') limit 1) o on true
    left join lateral (select m.output from restore_results m join copies mc on mc.id = m.copy_id
      where r.stream is null and not r.dated and c.name ~ ${COMPANION_PATTERN} and m.restore_id = ${restore.id} and m.stream is null
        and m.state in ('verified', 'gaps', 'same') and mc.folder_id = c.folder_id and mc.name = regexp_replace(c.name, ${COMPANION_PATTERN}, '')
      limit 1) m on true order by r.id`);
  const works: (RestoreWork | RefusedWork)[] = [];
  let bytes = 0;
  for (const row of rows) {
    bytes += Number(row.size);
    // What goes beside a file is called after the name that has got.
    if (works.length > 0 && (bytes > mostBytes || isBeside(row) !== isBeside(rows[0] as WorkRow))) break;
    works.push(toWork(row, restore));
  }
  return works;
}

/** It goes beside another file of the restore. */
const isBeside = ({ stream, name }: WorkRow): boolean =>
  stream === SECOND || stream === REPAIRED || (stream === null && companionSuffix(name) !== null);

function toWork(row: WorkRow, restore: ClaimedRestore): RestoreWork | RefusedWork {
  const { targets, conflict, form } = restore;
  const resultId = Number(row.id);
  const refused = (problem: string): RefusedWork => ({ resultId, problem });
  if (!row.known) return refused("The copy is no longer known: its source was taken out of the job.");
  const missing = missingDrive({ container: row.container, path: row.path, size: Number(row.source_size) });
  if (missing) return refused(missing);
  if (row.stream === SECOND) return toSecondWork(row, restore);
  if (row.stream === REPAIRED) return toRepairedWork(row, restore);
  const stream = row.stream === null ? null : row.streams?.[row.stream];
  if (stream === undefined) return refused("The stream is no longer known.");
  const size = stream ? stream.size : Number(row.copy_size);
  const stored = stream ? stream.layout && Buffer.from(stream.layout, "base64") : row.layout;
  const problem = stream
    ? !stored && size > 0 && "Where this stream stands is not known."
    : problemOf({ ...row, size, readable: stored !== null });
  if (problem) return refused(problem);
  const layout = stored ? decodeLayout(stored) : EMPTY_LAYOUT;
  if (layout.size !== size) return refused("What is kept of it does not tell where all of its content stands.");
  const modified = row.modified ? new Date(row.modified) : null;
  // A log belongs to its database by its name: it goes by the one that database has got.
  const companion = row.stream === null && row.first_output !== null ? companionSuffix(row.name) : null;
  const { homeFolder, row: settled } = settledAt(row, targets.folders);
  return {
    resultId,
    ...toSourceAt(row),
    file: toFileAt(row, layout),
    size,
    layout,
    components:
      companion !== null
        ? besideFirst(row, targets, (name) => `${name}${companion}`)
        : [...bagFolder(form, row.bag), ...componentsOf(homeFolder, { ...settled, stream: stream?.name ?? null, modified }, targets)],
    facts: { ...datesOf(row), ...marksOf(row.marks) },
    streams: stream === null && targets.streams === "keep" ? streamsOf(row.streams) : [],
    second: companion !== null,
    repairOf: null,
    leftBehind: stream === null ? describeLeftBehind(row.streams, targets.streams) : [],
    conflict: row.conflict ?? conflict,
    begun: begunOf(row),
  };
}

/** UTC milliseconds. */
const datesOf = ({ modified, created }: WorkRow) => {
  const moment = (text: string | null) => (text === null ? null : new Date(text).getTime());
  return { modified: moment(modified), created: moment(created) };
};

/** The place beside the file a row belongs to, under a name made of that file's own. */
function besideFirst({ first_output }: WorkRow, { root }: Targets, named: (first: string) => string): string[] {
  const components = relative(root, first_output as string).split(sep);
  return [...components.slice(0, -1), named(components.at(-1) as string)];
}

const begunOf = ({ state, output, sha256, gaps }: WorkRow): RestoreWork["begun"] =>
  state === "writing" && output && sha256 ? { output, sha256, gaps } : null;

/** The repaired form of a file, beside it. */
function toRepairedWork(row: WorkRow, restore: ClaimedRestore): RestoreWork | RefusedWork {
  const work = toWork({ ...row, stream: null, first_output: null }, restore);
  if ("problem" in work) return work;
  if (row.first_output === null) return { resultId: work.resultId, problem: NOT_BESIDE };
  const components = relative(restore.targets.root, row.first_output).split(sep);
  return {
    ...work,
    components,
    facts: { ...work.facts, ...marksOf(null) },
    streams: [],
    leftBehind: [],
    repairOf: { copyId: Number(row.copy_id), name: components.at(-1) as string },
  };
}

const NOT_BESIDE = "The file it belongs to was not written by this restore.";

/** The second file of the two-file form: it stands beside its first one, under the name that one has got. */
function toSecondWork(row: WorkRow, { targets, conflict }: ClaimedRestore): RestoreWork | RefusedWork {
  const resultId = Number(row.id);
  const second = secondFileOf(row.streams);
  if (!second || second.layout.size !== Number(row.size)) return { resultId, problem: "What belongs into it is no longer known." };
  if (row.first_output === null) return { resultId, problem: NOT_BESIDE };
  return {
    resultId,
    ...toSourceAt(row),
    file: toFileAt(row, second.layout),
    size: second.layout.size,
    layout: second.layout,
    components: besideFirst(row, targets, (name) => `${SECOND_FILE}${name}`),
    facts: { ...datesOf(row), ...marksOf(null) },
    streams: [],
    second: true,
    repairOf: null,
    leftBehind: second.left.length > 0 ? [describeStreams(second.left)] : [],
    conflict: row.conflict ?? conflict,
    begun: begunOf(row),
  };
}
