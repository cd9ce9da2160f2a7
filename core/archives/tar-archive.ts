import type { ByteSource } from "../bytes/byte-source";
import type { ArchiveEntry, ArchiveReading } from "./archive";
import { walkTar } from "./tar-links";

const MOST_ENTRIES = 4_000_000;

/**
 * Reads all of a TAR archive at once. What may have many members is better gone through by `walkTar`.
 * @param thorough whether members that others claim are looked for in all data, too
 */
export function readTarArchive(source: ByteSource, thorough = false): ArchiveReading {
  const entries: ArchiveEntry[] = [];
  const listings = new Map<string, ReadonlySet<string>>();
  const walk = walkTar(source, thorough);
  for (const found of walk.entries()) {
    if (found?.listing) listings.set(found.entry.path, found.listing);
    if (found) entries.push(found.entry);
    if (entries.length >= MOST_ENTRIES) break;
  }
  return { entries, listings, notes: walk.damaged > 0 ? [describeDamage(walk.damaged)] : [], isAll: walk.damaged === 0 };
}

/** @param places at which a header is damaged */
const describeDamage = (places: number): string =>
  `The header of a file is damaged at ${places === 1 ? "one place" : `${places} places`} of this archive: what stood there is not listed.`;
