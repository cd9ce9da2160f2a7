"use client";

import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { z } from "zod";
import { CONFLICTS, type Conflict, type RehearsedFile, type RestorePlan } from "@/server/restores/contract";
import { write } from "../data/request";
import { useJob } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, CONDITION_WORDS, exactBytes, momentText, standingText } from "../instruments/words";
import { isUnsized } from "../items/rows";
import { useTrayChange } from "../items/use-tray-change";
import styles from "./restore.module.css";

export const CONFLICT_WORDS: Record<Conflict, string> = {
  compare: "compare first",
  "keep-both": "keep both, numbered",
  skip: "leave it, skip mine",
  replace: "replace it, keep it aside",
};

interface TableProps {
  jobId: number;
  root: string;
  files: readonly RehearsedFile[];
  conflict: Conflict;
  kinds: RestorePlan["kinds"];
  choices: RestorePlan["choices"];
  /** null: the files are only shown. */
  onChoice: ((copyId: number, choice: Conflict) => void) | null;
}

/** Files of the tray with where they would go, and what is there. */
export function RehearsalTable({ jobId, root, files, conflict, kinds, choices, onChoice }: TableProps) {
  const tray = useTrayChange(jobId);
  const { data: job } = useJob(jobId);
  const zone = job?.timeZone ?? "UTC";
  // Changes of the tray are made one after the other.
  const takeBest = ({ itemId, copyId }: RehearsedFile) => {
    tray.change({ copies: [copyId], chosen: false });
    tray.change({ items: [itemId], chosen: true });
  };
  return (
    <>
      <Problem>{problemText(tray.error)}</Problem>
      <table className={styles.table}>
        <thead>
          <tr>
            <th>File</th>
            <th style={{ width: 116 }}>Condition</th>
            <th className={styles.number} style={{ width: 90 }}>
              Size
            </th>
            <th style={{ width: "34%" }}>What happens</th>
            {onChoice && (
              <th style={{ width: 80 }}>
                <span className="visually-hidden">Tray</span>
              </th>
            )}
          </tr>
        </thead>
        <tbody>
          {files.map((file) => (
            <tr key={`${file.copyId} ${file.stream ?? ""}`}>
              <td>
                {file.path.slice(1)}
                <small>
                  {file.target.slice(root.length + 1)}
                  {file.placed && ", where the application expects it"}
                  {!file.best && `, the copy of ${momentText(file.modified, zone)}`}
                </small>
              </td>
              <td>
                {file.stream === null ? standingText(file) : CONDITION_WORDS[file.condition]}
                {file.opens === "no" && <small>does not open</small>}
                {file.better && (
                  <small>
                    a better copy is known: {CONDITION_WORDS[file.better]}{" "}
                    <Button variant="text" onClick={() => takeBest(file)}>
                      Take that
                    </Button>
                  </small>
                )}
                {file.missing > 0 && !file.problem && <small title={exactBytes(file.missing)}>{bytesText(file.missing)} missing</small>}
              </td>
              <td className={styles.number} title={isSized(file) ? exactBytes(file.size) : undefined}>
                {isSized(file) ? bytesText(file.size) : file.stream === null ? "not known" : ""}
              </td>
              <td>
                {file.problem
                  ? `Not written: ${file.problem}`
                  : file.stream === REPAIRED
                    ? "is made, if anything in it can be repaired"
                    : file.exists
                      ? "A file is already there: "
                      : "is written anew"}
                {!file.problem && file.exists && onChoice && (
                  <select
                    aria-label={`What to do with ${file.path}`}
                    className={styles.choice}
                    value={choices[file.copyId] ?? kinds[file.kind] ?? conflict}
                    onChange={(event) => onChoice(file.copyId, event.target.value as Conflict)}
                  >
                    {CONFLICTS.map((each) => (
                      <option key={each} value={each}>
                        {CONFLICT_WORDS[each]}
                      </option>
                    ))}
                  </select>
                )}
                {!file.problem && file.exists && <There file={file} zone={zone} />}
              </td>
              {onChoice && (
                <td>
                  {file.stream === null && (
                    <Button variant="text" onClick={() => tray.change({ copies: [file.copyId], chosen: false })}>
                      Take out
                    </Button>
                  )}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** Stands in place of a stream's number for the repaired form of a content. */
const REPAIRED = -2;

const same = z.object({ same: z.boolean() });

/** Whether the size of what is written is known before. */
const isSized = (file: RehearsedFile): boolean => file.stream !== REPAIRED && !(file.stream === null && isUnsized(file));

/** What stands at the target: its date and size, and whether it holds the same bytes. */
function There({ file, zone }: { file: RehearsedFile; zone: string }) {
  const { exists, size, copyId, stream, target } = file;
  const equal = exists?.size === size;
  const { data, error } = useQuery({
    queryKey: ["same", copyId, stream, target, exists?.size, exists?.modified.getTime()],
    queryFn: async () => same.parse(await write("POST", `/api/copies/${copyId}/same`, { stream, target })),
    enabled: equal,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  if (!exists) return null;
  const content = !equal
    ? "other content"
    : error
      ? "not compared"
      : data
        ? data.same
          ? "the same content"
          : "other content"
        : "being compared …";
  return (
    <small title={exactBytes(exists.size)}>
      {bytesText(exists.size)}, changed {momentText(exists.modified, zone)}, {content}
    </small>
  );
}
