/** Holds the values of the flags a verb was called with. */
export interface Options {
  json?: boolean;
  volume?: string;
  state?: string;
  system?: boolean;
  match?: string;
  to?: string;
  streams?: boolean;
  "two-file"?: boolean;
  "keep-streams"?: boolean;
  foreign?: boolean;
  findings?: boolean;
  account?: string;
  "records-only"?: boolean;
  beside?: string[];
  range?: string;
  kinds?: string;
  "every-byte"?: boolean;
  longer?: boolean;
  unused?: boolean;
  like?: string;
  store?: string;
  "as-of"?: string;
  deep?: boolean;
  thorough?: boolean;
  layout?: string;
  names?: string;
  conflict?: string;
  package?: string;
  list?: boolean;
  deleted?: boolean;
  table?: string;
}
