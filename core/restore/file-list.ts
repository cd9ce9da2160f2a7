import { bytesIn, describeGaps, type Gaps } from "./gaps";

/** The name of the list that lies beside restored files. */
export const LIST_NAME = "restored files.csv";

/** One restored file, or one that was not, as the list has it. */
export interface ListedFile {
  /** Below the folder the list lies in; null: it was not written. */
  readonly written: string | null;
  /** Where it stood for the client, "/" first. */
  readonly path: string;
  /** Its name as it was stored, hexadecimal; null: not known any more. */
  readonly rawName: string | null;
  readonly size: number;
  readonly sha256: string | null;
  readonly condition: string;
  readonly gaps: Gaps | null;
  /** Foreign bytes were written as they stand. */
  readonly asFound: boolean;
  /** What did not go along, in words. */
  readonly leftBehind: readonly string[];
  readonly remark: string | null;
}

/** The list's columns of one file: by it every change of name and place can be undone. */
export function toListRow({
  written,
  path,
  rawName,
  size,
  sha256,
  condition,
  gaps,
  asFound,
  leftBehind,
  remark,
}: ListedFile): Record<string, string> {
  return {
    "written as": written ?? "",
    "original path": path,
    "name as stored, hex": rawName ?? "",
    bytes: String(size),
    "sha-256": sha256 ?? "",
    condition,
    "missing bytes": gaps ? String(bytesIn(gaps.unreadable) + bytesIn(gaps.foreign)) : written === null ? "" : "0",
    "left behind": leftBehind.join("; "),
    remark: [remark, gaps && describeGaps(gaps, asFound)].filter(Boolean).join(" "),
  };
}
