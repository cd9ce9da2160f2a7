"use client";

import Button from "@mui/material/Button";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type VersionChoice, type VersionsChosen, versionsChosen } from "@/server/tray/contract";
import { write } from "../data/request";
import { keys, useJob, useLoss } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { countText, filesText, momentText } from "../instruments/words";
import styles from "./restore.module.css";

/** Chooses the same kind of version of all that is in the tray. @param several how many of the items have more than one copy */
export function Versions({ jobId, several }: { jobId: number; several: number }) {
  const { data: job } = useJob(jobId);
  const loss = useLoss(jobId);
  const client = useQueryClient();
  const choose = useMutation({
    mutationFn: async (choice: VersionChoice) => versionsChosen.parse(await write("POST", `/api/jobs/${jobId}/tray/versions`, choice)),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  if (several === 0) return null;
  const choices: readonly (readonly [string, VersionChoice])[] = [
    ["the best", { take: "best" }],
    ["the newest", { take: "newest" }],
    ["the newest whole or in place", { take: "whole" }],
    ...(loss === null
      ? []
      : [
          [
            `the newest before ${momentText(new Date(loss), job?.timeZone ?? "UTC")}`,
            { take: "before", before: new Date(loss).toISOString() },
          ] as const,
        ]),
  ];
  return (
    <div className={styles.form}>
      <fieldset className={styles.versions} aria-label="Version of each file">
        <span>
          {several === 1 ? "One file has" : `${countText(several)} files have`} other copies. Of each take{" "}
          <span className="visually-hidden">one of these:</span>
        </span>
        {choices.map(([words, choice]) => (
          <Button key={words} variant="outlined" size="small" disabled={choose.isPending} onClick={() => choose.mutate(choice)}>
            {words}
          </Button>
        ))}
      </fieldset>
      <span role="status" className={styles.pages}>
        {choose.data && !choose.isPending && chosenText(choose.data)}
      </span>
      <Problem>{problemText(choose.error)}</Problem>
    </div>
  );
}

function chosenText({ changed, same, without }: VersionsChosen): string {
  return [
    changed === 0 ? "Nothing has changed" : `Of ${filesText(changed)} another copy is chosen now`,
    same > 0 ? `of ${filesText(same)} that copy was chosen already` : null,
    without > 0
      ? `${filesText(without)} ${without === 1 ? "has" : "have"} no such copy and ${without === 1 ? "stays as it is" : "stay as they are"}`
      : null,
  ]
    .filter(Boolean)
    .join("; ")
    .concat(".");
}
