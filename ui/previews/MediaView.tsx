"use client";

import { useState } from "react";
import { Problem } from "../instruments/Problem";
import styles from "./previews.module.css";
import { usePreviewRoot } from "./root";

/** Sound and video where the browser plays them. */
export function MediaView({ copyId, form, name }: { copyId: number; form: "audio" | "video"; name: string }) {
  const root = usePreviewRoot();
  const [failed, setFailed] = useState(false);
  const shared = {
    controls: true,
    preload: "metadata" as const,
    src: `${root}/${copyId}/content`,
    "aria-label": `Preview of ${name}`,
    onError: () => setFailed(true),
  };
  if (failed)
    return (
      <Problem>
        The browser cannot play this: its type is unknown to it, or the recording is damaged. Restore it to try another player.
      </Problem>
    );
  return form === "audio" ? <audio className={styles.media} {...shared} /> : <video className={styles.media} {...shared} />;
}
