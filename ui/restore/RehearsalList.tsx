"use client";

import Button from "@mui/material/Button";
import type { Conflict, RehearsalPage, RehearsalSums, RestorePlan, Survey } from "@/server/restores/contract";
import { PartChoice } from "../instruments/PartChoice";
import { countText } from "../instruments/words";
import { RehearsalTable } from "./RehearsalTable";
import styles from "./restore.module.css";

/** Which files are listed: all, those whose name is taken, and those with something to look at before they are written. */
export type Part = "all" | "there" | "gaps" | "unopened" | "better" | "unwritable";

interface Props {
  jobId: number;
  data: RehearsalPage;
  sums: RehearsalSums | undefined;
  surveyed: Survey | undefined;
  part: Part;
  onPart: (part: Part) => void;
  onPage: (page: number) => void;
  wishes: Pick<RestorePlan, "conflict" | "kinds" | "choices">;
  onChoice: (copyId: number, choice: Conflict) => void;
}

/** The files of a rehearsal, page by page, all or a part of them. */
export function RehearsalList({ jobId, data, sums, surveyed, part, onPart, onPage, wishes, onChoice }: Props) {
  const { page, pages, root } = data;
  const there = surveyed?.existing ?? 0;
  const parts: readonly (readonly [Part, string, number])[] = [
    ["all", "All", (sums?.writable ?? 0) + (sums?.unwritable ?? 0)],
    ["there", "Already there", there],
    ["gaps", "With gaps", sums?.withGaps ?? 0],
    ["unopened", "Do not open", sums?.unopened ?? 0],
    ["better", "With a better copy", sums?.better ?? 0],
    ["unwritable", "Cannot be written", sums?.unwritable ?? 0],
  ];
  const files = part === "there" ? (surveyed?.conflicts ?? []) : data.files;
  return (
    <>
      <div className={styles.form}>
        <PartChoice label="Which files" value={part} parts={parts} onChange={onPart} />
        {part !== "there" && pages > 1 && (
          <>
            <Button variant="outlined" disabled={page === 0} onClick={() => onPage(page - 1)}>
              Back
            </Button>
            <span className={styles.pages}>
              Page {countText(page + 1)} of {countText(pages)}
            </span>
            <Button variant="outlined" disabled={page + 1 >= pages} onClick={() => onPage(page + 1)}>
              On
            </Button>
          </>
        )}
        {part === "there" && there > files.length && (
          <span className={styles.pages}>
            The first {countText(files.length)} of {countText(there)}
          </span>
        )}
      </div>
      <RehearsalTable jobId={jobId} root={root} files={files} {...wishes} onChoice={onChoice} />
    </>
  );
}
