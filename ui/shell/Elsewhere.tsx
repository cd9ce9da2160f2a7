"use client";

import Snackbar from "@mui/material/Snackbar";
import Link from "next/link";
import { usePathname } from "next/navigation";
import { useEffect, useRef, useState } from "react";
import { usePasses, useRestores } from "../data/use-job-data";

const SHOWN_MS = 8_000;

interface News {
  readonly words: string;
  readonly stage: string;
}

/** Reports in passing what ended in a view that is not in sight: a pass, a restore. What is in sight reports itself. */
export function Elsewhere({ jobId }: { jobId: number }) {
  const { data: passes } = usePasses(jobId);
  const { data: restores } = useRestores(jobId);
  const path = usePathname();
  const known = useRef<Map<string, string> | null>(null);
  const [news, setNews] = useState<News | null>(null);
  useEffect(() => {
    if (!passes || !restores) return;
    const states = new Map([
      ...passes.map((pass) => [`search ${pass.id}`, pass.state] as const),
      ...restores.map((restore) => [`restore ${restore.id}`, restore.state] as const),
    ]);
    const before = known.current;
    known.current = states;
    // What had ended before this page was opened is no news.
    if (!before) return;
    for (const [key, state] of states) {
      const [stage = "", id] = key.split(" ");
      const was = before.get(key);
      if (was === state || was === undefined || (state !== "done" && state !== "failed") || path.endsWith(`/${stage}`)) continue;
      const what = stage === "search" ? `Reading ${passes.find((pass) => String(pass.id) === id)?.volumeLabel ?? ""}` : "The restore";
      setNews({ words: `${what} ${state === "done" ? "is finished" : "has failed"}.`, stage });
    }
  }, [passes, restores, path]);
  return (
    <Snackbar
      open={news !== null}
      autoHideDuration={SHOWN_MS}
      onClose={() => setNews(null)}
      anchorOrigin={{ vertical: "bottom", horizontal: "right" }}
      message={news?.words}
      action={
        news && (
          <Link href={`/jobs/${jobId}/${news.stage}`} style={{ color: "inherit" }} onClick={() => setNews(null)}>
            Look
          </Link>
        )
      }
      sx={{ mb: 18 }}
    />
  );
}
