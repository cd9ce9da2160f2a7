import type { Entry } from "./entries";

/** A file that messages or rows of sent files speak of. */
export interface MentionedFile {
  readonly name: string;
  readonly size: number | null;
  readonly type: string | null;
  /** Where the application kept it, as its row says. */
  readonly path: string | null;
  readonly at: number | null;
  /** Its name stands in a text; nothing says that it was sent. */
  readonly inText: boolean;
}

/** Files that are kept, and names one text may hold. */
const MOST_FILES = 5_000;
const MOST_IN_TEXT = 20;
const LONGEST_TEXT = 20_000;

/** A name without spaces and with an extension, as it stands in a sentence. */
const NAME = /(?<![\p{L}\p{N}_.()-])[\p{L}\p{N}_][\p{L}\p{N}_.()-]{0,118}\.[a-z][a-z0-9]{1,4}(?![\p{L}\p{N}_/@:])/giu;

/**
 * Lists the files entries speak of, each once: those that were sent or received, and names in texts whose extension is one of a file.
 * @param isExtension says whether an extension is one that files have: "e.g" and "larkfield.example" end in none
 */
export function mentionedFiles(
  entries: Iterable<Entry>,
  isExtension: (extension: string) => boolean,
): { files: MentionedFile[]; more: number } {
  const found = new Map<string, MentionedFile>();
  let more = 0;
  const add = (file: MentionedFile) => {
    const key = `${file.name.toLowerCase()} ${file.size ?? ""}`;
    const known = found.get(key);
    if (!known && found.size >= MOST_FILES) more += 1;
    // Of two rows the one that says where it was kept is taken.
    else if (!known || (known.path === null && file.path !== null)) found.set(key, { ...file, at: known?.at ?? file.at });
  };
  const inTexts: MentionedFile[] = [];
  for (const { at, files, text, kind } of entries) {
    for (const { name, size, type, path } of files) add({ name, size, type, path, at, inText: false });
    if (kind !== "messages" && kind !== "notes") continue;
    for (const [name] of [...(text ?? "").slice(0, LONGEST_TEXT).matchAll(NAME)].slice(0, MOST_IN_TEXT))
      if (isExtension(name.slice(name.lastIndexOf(".") + 1).toLowerCase()))
        inTexts.push({ name, size: null, type: null, path: null, at, inText: true });
  }
  const sent = new Set([...found.values()].map(({ name }) => name.toLowerCase()));
  for (const file of inTexts) if (!sent.has(file.name.toLowerCase())) add(file);
  return { files: [...found.values()], more };
}
