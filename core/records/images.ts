import type { Database } from "./sqlite/database";
import type { Part } from "./sqlite/pages";

/** What a page was before, and where that stands. */
export interface PageImageAt {
  readonly page: number;
  readonly at: number;
  readonly from: Part;
  /** It stands in a transaction of the log that never came to an end. */
  readonly uncommitted: boolean;
}

/** Gives what pages were before: in the log, the journal, under them in the main file, and behind its end. What counts now is not among them. */
export function imagesOf({ log, journal, pages, files, pageSize, count }: Database): PageImageAt[] {
  const images: PageImageAt[] = [];
  const add = (page: number, from: Part, at: number, uncommitted = false) => images.push({ page, at, from, uncommitted });
  const frames = log?.frames ?? [];
  for (const { page, at, state } of frames) if (state !== "uncommitted") add(page, "log", at);
  for (const { page, at } of journal?.images ?? []) add(page, "journal", at);
  const inMain = Math.floor(files.main.size / pageSize);
  const changed = new Set(images.map(({ page }) => page));
  for (const page of changed) if (page <= inMain) add(page, "main", (page - 1) * pageSize);
  for (let page = count + 1; page <= inMain; page += 1) if (!changed.has(page)) add(page, "main", (page - 1) * pageSize);
  // Last, so that what stands elsewhere too is not said to stand only there.
  for (const { page, at, state } of frames) if (state === "uncommitted") add(page, "log", at, true);
  return images.filter(({ page, from, at }) => {
    const now = pages.placeOf(page);
    return page > count || now.from !== from || now.at !== at;
  });
}
