import { sql } from "drizzle-orm";
import { Stepwise } from "../../core/bytes/stepwise";
import { extensionOf, FORMATS } from "../../core/formats/registry";
import type { Entries } from "../../core/records/entries/entries";
import type { Entry } from "../../core/records/entries/entry";
import { expectedPlace } from "../../core/records/entries/expected-place";
import { mentionedFiles as filesMentioned, type MentionedFile } from "../../core/records/entries/mentioned";
import type { Connection } from "../database/connection";
import type { StoredCopy } from "../items/queries";
import { LIKENESS, type MentionedFiles, SLICE_MS, type Together } from "./contract";
import { openEntries } from "./entries";

/** Copies that are compared, and files of the job that are given for one that is spoken of. */
const MOST_COPIES = 20_000;
const MOST_FOUND = 5;
/** Sizes below which two files are of one size by chance. */
const LEAST_SIZE = 256;

const EXTENSIONS = new Set(FORMATS.flatMap(({ extensions }) => extensions));

interface Row extends Record<string, unknown> {
  id: string;
  item_id: string;
  name: string;
  folder: string;
  place: string;
  condition: string;
  size: string;
  chosen: boolean;
}

/** What a file that is not all there yet has behind its name. Common practice, no published source. */
const PARTLY = "\\.(?:part|partial|tmp|[a-z]*download)$";
const plainName = (name: string) => name.toLowerCase().replace(new RegExp(PARTLY), "");

/** How a copy is like a file that is spoken of; null: it is not. */
function likeness(file: MentionedFile, name: string, size: number): (typeof LIKENESS)[number] | null {
  const sameName = plainName(name) === file.name.toLowerCase();
  if (file.size === null) return sameName ? "name-only" : null;
  if (sameName && size === file.size) return "name-size";
  if (sameName) return size < file.size ? "part" : "name";
  return size === file.size && size >= LEAST_SIZE && extensionOf(name) === extensionOf(file.name) ? "size-type" : null;
}

const works = new WeakMap<Entries, Stepwise<{ files: readonly MentionedFile[]; isCut: boolean }>>();

function* allOf({ byKind }: Entries): Generator<Entry> {
  for (const list of byKind.values()) yield* list;
}

/** The files a database speaks of, each with the files of the job that are like it. @throws Problem when the copy holds no database */
export async function mentionedFilesOf(db: Connection, copy: StoredCopy, together: Together): Promise<MentionedFiles> {
  const { entries, opened, working } = await openEntries(db, copy, together, SLICE_MS);
  if (!entries) return { working, files: [], notes: [] };
  let work = works.get(entries);
  if (!work) {
    work = new Stepwise(filesMentioned(allOf(entries), (extension) => EXTENSIONS.has(extension)));
    works.set(entries, work);
  }
  const mentioned = work.run(SLICE_MS);
  if (!mentioned) return { working: { what: "files", done: work.done }, files: [], notes: [] };
  const { files, isCut } = mentioned.value;
  const notes = isCut ? [`Only the first ${files.length} names are looked for: there are more.`] : [];
  if (files.length === 0) return { working: null, files: [], notes };
  const names = files.map(({ name }) => name.toLowerCase());
  const sizes = files.flatMap(({ size }) => (size !== null && size >= LEAST_SIZE ? [size] : []));
  const called = sql`regexp_replace(lower(c.name), ${PARTLY}, '')`;
  const { rows } = await db.execute<Row>(sql`
    select c.id, c.item_id, c.name, coalesce(f.path, '') as folder, c.place, c.condition, c.size,
      exists (select from tray_entries t where t.item_id = c.item_id) as chosen
    from copies c left join folders f on f.id = c.folder_id
    where c.job_id = ${copy.jobId} and c.type = 'file' and c.item_id is not null
      and (${called} = any(${sql.param(names)}::text[]) or c.size = any(${sql.param(sizes)}::bigint[]))
    order by ${called} = any(${sql.param(names)}::text[]) desc, c.condition = 'whole' desc, c.id limit ${MOST_COPIES}`);
  if (rows.length === MOST_COPIES) notes.push(`Only ${MOST_COPIES} files of the job that may be meant were compared.`);
  const { rows: folders } = await db.execute<{ path: string }>(
    sql`select f.path from copies c join folders f on f.id = c.folder_id where c.id = ${copy.id}`,
  );
  const expectedOf = (path: string | null) => {
    const place = path === null || !folders[0] ? null : expectedPlace(path, folders[0].path);
    return place && `${place.folder}/${place.name}`;
  };
  const own = new Set([copy.id, ...opened.together.map(({ id }) => id)]);
  return {
    working: null,
    files: files.map((file) => ({
      ...file,
      expected: expectedOf(file.path),
      found: likest(
        file,
        rows.filter(({ id }) => !own.has(Number(id))),
      ),
    })),
    notes,
  };
}

/** The items that are like a file, of each the copy that is likest it. */
function likest(file: MentionedFile, rows: readonly Row[]): MentionedFiles["files"][number]["found"] {
  const byItem = new Map<string, { row: Row; like: (typeof LIKENESS)[number] }>();
  for (const row of rows) {
    const like = likeness(file, row.name, Number(row.size));
    const known = byItem.get(row.item_id);
    if (like && (!known || LIKENESS.indexOf(like) < LIKENESS.indexOf(known.like))) byItem.set(row.item_id, { row, like });
  }
  return [...byItem.values()]
    .sort((a, b) => LIKENESS.indexOf(a.like) - LIKENESS.indexOf(b.like))
    .slice(0, MOST_FOUND)
    .map(({ row, like }) => ({
      itemId: Number(row.item_id),
      copyId: Number(row.id),
      name: row.name,
      folder: row.folder,
      place: row.place,
      condition: row.condition,
      size: Number(row.size),
      like,
      chosen: row.chosen,
    }));
}
