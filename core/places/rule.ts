import type { Place } from "../copies/vocabulary";

/** What extension the right name of a copy gets. */
export type Extension =
  /** The one it has. */
  | "keep"
  /** That of its content, where the content is of a known format; otherwise the one it has. */
  | "content"
  /** A fixed one, only when the content is of the format. */
  | { readonly when: string; readonly name: string };

/** How the right name comes out of the one found. */
export interface Naming {
  /**
   * A regular expression over the found name. Its groups: `name` (the right name with its extension), `stem` (without),
   * `date` (when the copy was made, YYYY-MM-DD_HHMMSS). Without a pattern the name stays.
   */
  readonly pattern?: string;
  readonly extension: Extension;
}

export type Reader = "file" | "windows-bin" | "mac-bin" | "document-versions" | "link" | "jump-list" | "property-list" | "owner";

/** One kind of spot where copies are left. Facts of the trade: common practice, no published source. */
export interface PlaceRule {
  readonly id: string;
  readonly title: string;
  readonly system: "windows" | "mac" | "any";
  readonly place: Place;
  /** Globs below the root of a volume (or of a folder that was copied from one); capitals do not matter. */
  readonly where: readonly string[];
  readonly reader: Reader;
  /** What it holds, in words. */
  readonly holds: string;
  readonly naming: Naming;
  /** What the copy is a copy of: the file beside it, one of the right name found anywhere, or nothing that can be known. */
  readonly ties: "beside" | "by-name" | "none";
  /** What the technician reads beside each find. */
  readonly note: string;
  /** What is there lies there in the ordinary course of things: by itself it is no sign of a loss. */
  readonly ordinary?: boolean;
}
