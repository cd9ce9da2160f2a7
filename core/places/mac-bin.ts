import type { FileRecord } from "../filesystems/file-record";
import { putBackPlaces, readFolderMetadata } from "./folder-metadata";
import type { PlacedFind } from "./placed-copy";

/** What lies in a Mac's bin, with the place each thing came from where the folder's metadata file says. */
export function macBinCopies(records: readonly FileRecord[], read: (record: FileRecord) => Uint8Array | null): PlacedFind[] {
  const places = new Map<string, ReturnType<typeof putBackPlaces>>();
  for (const record of records) {
    if (record.name !== ".DS_Store") continue;
    const bytes = read(record);
    const folder = folderOf(record.path);
    if (bytes) places.set(folder, new Map([...(places.get(folder) ?? []), ...putBackPlaces(readFolderMetadata(bytes))]));
  }
  return records.flatMap((record): PlacedFind[] => {
    if (record.name === ".DS_Store" || record.name === ".localized") return [];
    // Below the bin's own folder stands what was thrown away; below that, what was in it.
    const match = /^(.*?\/(?:\.Trash|\.Trashes\/[^/]+))\/([^/]+)(\/.*)?$/.exec(record.path);
    const [, bin = "", top = "", inside = ""] = match ?? [];
    const place = places.get(bin)?.get(top);
    if (!match || !place) return [{ record, path: record.path, modified: record.modified, notes: [] }];
    const folder = place.folder === null ? bin : place.folder ? `/${place.folder}` : "";
    return [{ record, path: `${folder}/${place.name ?? top}${inside}`, modified: record.modified, notes: [] }];
  });
}

const folderOf = (path: string) => path.slice(0, Math.max(0, path.lastIndexOf("/")));
