import type { Summary } from "../formats/format";

/** What a copy's content says of itself, as it is kept and shown. */
export interface CopyFacts extends Omit<Summary, "thumbnail"> {
  /** The reference of the find it stands in. */
  readonly inside?: string;
}
