"use client";

import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { handover } from "@/server/handover/contract";
import { read } from "../data/request";
import { HandoverArticle } from "../handover/HandoverArticle";
import { Problem, problemText } from "../instruments/Problem";
import styles from "./shared.module.css";

/** The handover as it is written for the client. */
export function SharedHandover({ root }: { root: string }) {
  const { data, error } = useQuery({
    queryKey: [root, "handover"],
    queryFn: ({ signal }) => read(`${root}/handover`, handover, signal),
  });
  return (
    <>
      <div className={`${styles.tools} screen-only`}>
        {(["pdf", "html"] as const).map((form) => (
          <Button key={form} component="a" href={`${root}/handover?form=${form}`} variant="outlined">
            {form.toUpperCase()}
          </Button>
        ))}
      </div>
      <Problem>{problemText(error)}</Problem>
      {data && <HandoverArticle page={data} />}
    </>
  );
}
