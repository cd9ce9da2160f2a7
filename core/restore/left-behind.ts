import type { Carried, FileFacts } from "./carried";
import type { StreamWish } from "./wishes";

/** Named streams that are listed by their names at most. */
const MOST_NAMED = 4;

/** Named streams in words. */
export function describeStreams(names: readonly string[]): string {
  const more = names.length > MOST_NAMED ? ` and ${names.length - MOST_NAMED} more` : "";
  return `${names.length} named ${names.length === 1 ? "stream" : "streams"} (${names.slice(0, MOST_NAMED).join(", ")}${more})`;
}

/**
 * Says in words which of a file's streams are left by wish. Streams that are written by themselves report their own fate; those that are
 * to be kept with the file are reported once it is written (`describeNotCarried`).
 */
export const describeLeftBehind = (streams: readonly { readonly name: string }[] | null, wish: StreamWish): string[] =>
  wish === "leave" && streams && streams.length > 0 ? [describeStreams(streams.map(({ name }) => name))] : [];

/**
 * Says in words what a file was to carry that does not stand with it at the destination. Dates of creation, which few file systems take, are reported once for all files, in the rehearsal.
 * @param streams names of those that were to be kept with the file
 */
export function describeNotCarried(
  facts: Pick<FileFacts, "modified" | "readOnly" | "hidden">,
  carried: Carried,
  streams: readonly string[] = [],
): string[] {
  const lost = streams.filter((name) => !carried.streams.includes(name));
  return [
    ...(lost.length > 0 ? [describeStreams(lost)] : []),
    ...(facts.modified !== null && !carried.modified ? ["its date of change"] : []),
    ...(facts.readOnly && !carried.readOnly ? ["its mark “read only”"] : []),
    ...(facts.hidden && !carried.hidden ? ["its mark “hidden”"] : []),
  ];
}
