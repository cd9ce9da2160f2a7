import { sql } from "drizzle-orm";
import type { Layout } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import { BANDS, BUNDLE_LIST } from "../../core/containers/sparse-bundle";
import { looksLikeDisk } from "../../core/volumes/holds-disk";
import { diskName } from "../../io/bundle";
import type { FileAt } from "../../io/folder-source";
import { type InnerFile, type InnerPart, MOST_WITHIN, packLayout } from "../../io/inner-file";
import { openSource, pickSourceAt } from "../../io/open-source";
import type { Connection } from "../database/connection";
import { findStoredCopy } from "../items/queries";
import { withContent } from "../previews/content";
import { Problem } from "../problem";
import { type InspectedSource, toInspected } from "./inspect";
import { permittedSource } from "./source-folders";

/** A disk found in the content of a copy. */
export interface InnerDisk {
  readonly jobId: number;
  /** The store the copy stands in. */
  readonly storeId: number;
  readonly name: string;
  readonly path: string;
  readonly beside: readonly string[];
  readonly within: readonly InnerFile[];
  readonly found: InspectedSource;
}

/** Files of the same folder that are looked at as parts or parents of a disk at most. */
const MOST_PARTS = 65_536;

/**
 * Reads the structure of the disk in a copy's content. Nothing is unpacked: it is read where it stands.
 * @throws Problem when the content cannot be read, or holds no disk that is known; SourceError when its container cannot be opened
 */
export async function inspectWithin(db: Connection, copyId: number): Promise<InnerDisk> {
  const copy = await findStoredCopy(db, copyId);
  if (!copy) throw new Problem("There is no such copy.", 404);
  const { layout, name } = copy;
  if (!layout) throw new Problem("The content of this copy cannot be read; its notes say why.", 409);
  if (copy.within.length >= MOST_WITHIN)
    throw new Problem(`Disks are nested more than ${MOST_WITHIN} deep here: this is not followed.`, 409);
  const { storeId, path, isLive, parts } = await placeOf(db, copyId);
  const inner: InnerFile = copy.file
    ? { path, layout: isOwnFile(copy.file, layout) ? "" : packLayout(layout), file: copy.file, proven: true, parts: [] }
    : { path, layout: packLayout(layout), file: null, proven: isLive, parts };
  // What is known to be unreadable, and the mark, are those of the disk around it.
  const outer = { ...pickSourceAt(copy), bad: [], mark: null, sourcePath: permittedSource(copy.sourcePath) };
  const marked = await withContent(copy, looksLikeDisk);
  const opened = openSource({ ...outer, within: [...copy.within, inner] });
  try {
    const found = toInspected(opened);
    if (!marked && found.container === "raw" && found.volumes.every(({ filesystem }) => filesystem === "unknown"))
      throw new Problem(`No disk image is recognised in “${name}”: it has neither a partition table nor a volume that is known.`, 409);
    const within = [...copy.within, { ...inner, parts: opened.parts }];
    return {
      jobId: copy.jobId,
      storeId,
      name: diskName(path),
      path: outer.sourcePath,
      beside: copy.beside,
      within,
      found: { ...found, notes: [...notesOn(copy, inner.proven), ...found.notes] },
    };
  } finally {
    opened.close();
  }
}

/** Whether a content is all of a file of a folder, rather than a part of an archive. */
function isOwnFile({ size, further }: FileAt, { segments }: Layout): boolean {
  const [only, second] = segments;
  return !further && !second && only?.kind === "disk" && only.at === 0 && only.length === size;
}

/** What is to be known of a disk because of the file it lies in. */
function notesOn({ condition }: { condition: string }, proven: boolean): string[] {
  return [
    ...(condition === "partial" ? ["Parts of the file this disk is in are lost: they count as bytes that cannot be read."] : []),
    ...(proven ? [] : ["The file this disk is in is no live one: files on it are called whole only where their own content proves it."]),
  ];
}

/** Where a copy stands, and the files beside it. */
async function placeOf(db: Connection, copyId: number): Promise<{ storeId: number; path: string; isLive: boolean; parts: InnerPart[] }> {
  const { rows } = await db.execute<{ store_id: number; path: string; live: boolean; beside: string | null; layout: Buffer | null }>(sql`
    select c.store_id, f.path || '/' || c.name as path, c.state = 'live' and c.place = 'file-record' as live, o.name as beside, o.layout
    from copies c join folders f on f.id = c.folder_id
    left join lateral (
      select case when b.id = f.id then o.name else ${`${BANDS}/`} || o.name end as name, o.layout from folders b join copies o on o.folder_id = b.id
      where (b.id = f.id or (c.name = ${BUNDLE_LIST} and b.home_id = f.home_id and b.path = f.path || ${`/${BANDS}`}))
        and o.store_id = c.store_id and o.type = 'file' and o.state = 'live' and o.layout is not null and o.file is null limit ${MOST_PARTS}) o on true
    where c.id = ${copyId}`);
  const [first] = rows;
  if (!first) throw new Problem("There is no such copy.", 404);
  const parts = rows.flatMap(({ beside, layout }) =>
    beside && layout ? [{ name: beside, layout: packLayout(decodeLayout(layout)) }] : [],
  );
  return { storeId: first.store_id, path: first.path, isLive: first.live, parts };
}
