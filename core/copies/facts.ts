import type { Summary } from "../formats/format";

/** What a copy's content says of itself, as it is kept and shown. */
export interface CopyFacts extends Omit<Summary, "thumbnail"> {
  /** The reference of the find it stands in. */
  readonly inside?: string;
}

/** Words that say nothing, which programs put where a title should stand. Common practice, no published source. */
const EMPTY_TITLES = /^(untitled|anonymous|unknown|document\d*|no title|title|s\d+|slide 1|untitled document|\(anonymous\))$/i;

/** Whether a title, an author or the like says something. */
export const usable = (words: string | undefined) => (words && !EMPTY_TITLES.test(words.trim()) ? words.trim() : undefined);

/** A summary as it is kept: without a title or an author that says nothing. */
export function factsOf({ thumbnail: _, title, author, ...rest }: Summary): CopyFacts {
  const [said, by] = [usable(title), usable(author)];
  return { ...rest, ...(said ? { title: said } : {}), ...(by ? { author: by } : {}) };
}
