import { type ByteSource, readBytes } from "../core/bytes/byte-source";
import { COMPANION_HEAD, COMPANIONS, companionSuffix, hasCompanions } from "../core/restore/companions";
import type { Delivery } from "./deliver";

/** Says whether a content is a database that has logs under its name. */
export const isDatabase = (content: ByteSource): boolean =>
  content.size >= COMPANION_HEAD && hasCompanions(readBytes(content, 0, COMPANION_HEAD));

/**
 * Says whether a file of that name would stand by itself: a database would take over the logs that another one has left under its name, and
 * a log would be another database's.
 * @param isOwn whether a file there, by its folders and name, was written by this restore
 */
export function standsAlone(
  delivery: Delivery,
  folders: readonly string[],
  name: string,
  database: boolean,
  isOwn: (components: readonly string[]) => boolean,
): boolean {
  const others = (each: string) => delivery.isTaken([...folders, each]) && !isOwn([...folders, each]);
  const suffix = companionSuffix(name);
  if (suffix !== null && others(name.slice(0, -suffix.length))) return false;
  return !database || !COMPANIONS.some((each) => others(`${name}${each}`));
}
