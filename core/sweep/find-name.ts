import { usable } from "../copies/facts";
import type { Find } from "./find";

const MOST_LETTERS = 60;

/** A name for what has lost its own: its title, when and with what it was taken, or where it stands. With its extension. */
export function findName({ format, summary, at }: Pick<Find, "format" | "summary" | "at">): string {
  const extension = format.extensions[0] ?? format.id;
  const title = usable(summary.title);
  if (title) return `${clean(title)}.${extension}`;
  if (summary.taken !== undefined) {
    const when = new Date(summary.taken).toISOString();
    return `${when.slice(0, 10)} ${when.slice(11, 19).replaceAll(":", "-")}${summary.camera ? ` ${clean(summary.camera)}` : ""}.${extension}`;
  }
  const words = format.kind === "documents" || format.kind === "sheets" ? beginning(summary.text) : "";
  return words ? `${words}.${extension}` : `${clean(format.title)} at ${at}.${extension}`;
}

/** The first words of a text, as many as make a name. */
function beginning(text: string | undefined): string {
  const words = clean(text ?? "").split(" ");
  let name = "";
  for (const word of words) {
    if (name.length + word.length > 40) break;
    name += `${name ? " " : ""}${word}`;
  }
  return /\p{L}{3}/u.test(name) ? name : "";
}

/** Without marks that no name may have, and not too long. */
function clean(words: string): string {
  return words
    .replace(/[\p{Cc}\p{Cf}\\/:*?"<>|]+/gu, " ")
    .replace(/\s+/g, " ")
    .trim()
    .slice(0, MOST_LETTERS)
    .replace(/[. ]+$/, "");
}
