"use client";

import Button from "@mui/material/Button";
import type { SharedJob } from "@/server/shares/contract";
import { write } from "../data/request";
import { useAddress } from "../data/use-address";
import { momentText } from "../instruments/words";
import { PreviewRoot } from "../previews/root";
import { ColourScheme } from "../shell/ColourScheme";
import { Compass } from "../shell/Compass";
import { SharedFound } from "./SharedFound";
import { SharedHandover } from "./SharedHandover";
import { SharedRestores } from "./SharedRestores";
import styles from "./shared.module.css";

const VIEWS = { found: "What was found", restored: "Restored files", handover: "Handover" } as const;
type View = keyof typeof VIEWS;

/** What a client sees of a job: what was found, what was restored, and the handover; nothing else of the bench. */
export function Shared({ share, job }: { share: string; job: SharedJob }) {
  const [address, change] = useAddress();
  const views: readonly View[] = job.scope === "job" ? ["found", "restored", "handover"] : ["handover", "restored"];
  const view = views.find((each) => each === address.get("view")) ?? (views[0] as View);
  const root = `/shared/${share}`;
  const close = async () => {
    await write("DELETE", `${root}/session`);
    window.location.reload();
  };
  return (
    <div className={styles.page}>
      <header className={styles.bar}>
        <Compass />
        <h1>{job.title}</h1>
        <span className={styles.who}>{[job.technician, job.firm].filter(Boolean).join(", ")}</span>
        <span className={styles.until}>
          until {momentText(new Date(job.endsAt), job.timeZone)} {job.timeZone}
        </span>
        <ColourScheme />
        <Button variant="text" onClick={() => void close()}>
          Close
        </Button>
      </header>
      <nav aria-label="What is shared" className={styles.views}>
        {views.map((each) => (
          <button
            key={each}
            type="button"
            aria-current={each === view ? "page" : undefined}
            onClick={() => change({ view: each === views[0] ? null : each }, true)}
          >
            {VIEWS[each]}
          </button>
        ))}
      </nav>
      <main className={styles.main}>
        <PreviewRoot value={`${root}/copies`}>
          {view === "found" && <SharedFound root={root} timeZone={job.timeZone} />}
          {view === "restored" && <SharedRestores root={root} timeZone={job.timeZone} />}
          {view === "handover" && <SharedHandover root={root} />}
        </PreviewRoot>
      </main>
    </div>
  );
}
