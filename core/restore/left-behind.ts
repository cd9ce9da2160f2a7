import { FILE_MARK } from "../filesystems/file-record";
import type { StreamWish } from "./wishes";

/** Named streams that are listed by their names at most. */
const MOST_NAMED = 4;

/** Named streams in words. */
export function describeStreams(names: readonly string[]): string {
  const more = names.length > MOST_NAMED ? ` and ${names.length - MOST_NAMED} more` : "";
  return `${names.length} named ${names.length === 1 ? "stream" : "streams"} (${names.slice(0, MOST_NAMED).join(", ")}${more})`;
}

export const READ_ONLY_LEFT = "its mark “read only”";
const HIDDEN_LEFT = "its mark “hidden”";

/**
 * Says in words what of a file does not go along with its content, as far as is known before it is written. Streams that are written
 * by themselves report their own fate.
 */
export function describeLeftBehind(
  { streams, marks }: { readonly streams: readonly { readonly name: string }[] | null; readonly marks: number | null },
  wish: StreamWish,
): string[] {
  const left: string[] = [];
  if (wish === "leave" && streams && streams.length > 0) left.push(describeStreams(streams.map(({ name }) => name)));
  // No system call writes that mark: devices that have it are written through a driver that sets it for itself.
  if (((marks ?? 0) & FILE_MARK.hidden) !== 0) left.push(HIDDEN_LEFT);
  return left;
}
