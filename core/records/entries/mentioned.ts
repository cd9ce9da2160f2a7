import type { Entry } from "./entry";

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

/** Entries after which who waits for it may be answered. */
const ENTRIES_A_STEP = 1_024;

/**
 * Lists the files entries speak of, each once: those that were sent or received, and names in texts whose extension is one of a file. Gives how
 * many entries were gone through, from time to time.
 * @param isExtension says whether an extension is one that files have: "e.g" and "larkfield.example" end in none
 */
export function* mentionedFiles(
  entries: Iterable<Entry>,
  isExtension: (extension: string) => boolean,
): Generator<number, { files: MentionedFile[]; isCut: boolean }> {
  const found = new Map<string, MentionedFile>();
  const inTexts = new Map<string, MentionedFile>();
  let isCut = false;
  const add = (to: Map<string, MentionedFile>, file: MentionedFile) => {
    const key = `${file.name.toLowerCase()} ${file.size ?? ""}`;
    const known = to.get(key);
    if (!known && to.size >= MOST_FILES) isCut = true;
    // Of two rows the one that says where it was kept is taken.
    else if (!known || (known.path === null && file.path !== null)) to.set(key, { ...file, at: known?.at ?? file.at });
  };
  let gone = 0;
  for (const { at, files, text, kind } of entries) {
    gone += 1;
    if (gone % ENTRIES_A_STEP === 0) yield gone;
    for (const { name, size, type, path } of files) add(found, { name, size, type, path, at, inText: false });
    if (kind !== "messages" && kind !== "notes") continue;
    for (const [name] of [...(text ?? "").slice(0, LONGEST_TEXT).matchAll(NAME)].slice(0, MOST_IN_TEXT))
      if (isExtension(name.slice(name.lastIndexOf(".") + 1).toLowerCase()))
        add(inTexts, { name, size: null, type: null, path: null, at, inText: true });
  }
  const sent = new Set([...found.values()].map(({ name }) => name.toLowerCase()));
  for (const file of inTexts.values()) if (!sent.has(file.name.toLowerCase())) add(found, file);
  return { files: [...found.values()], isCut };
}
