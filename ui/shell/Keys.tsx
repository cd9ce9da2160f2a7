"use client";

import Dialog from "@mui/material/Dialog";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import { usePathname } from "next/navigation";
import styles from "./palette.module.css";

const ANYWHERE: readonly [string, string][] = [
  ["Ctrl K", "go to a job, a stage, an action"],
  ["1 … 6", "the stages of the job, in order"],
  ["?", "this list"],
  ["Esc", "closes what is open"],
];

const OF_VIEW: Readonly<Record<string, { title: string; keys: readonly [string, string][] }>> = {
  items: {
    title: "Items",
    keys: [
      ["/", "search; ↓ goes into the list"],
      ["↑ ↓, Page, Home, End", "move through the list (when it has the focus)"],
      ["Space", "open the item large; arrows go on, Space or Esc closes"],
      ["Enter", "choose the item or take it back"],
      ["Ctrl click", "choose the item or take it back"],
      ["Shift Enter, Shift click, Shift ↑ ↓", "the same for everything since the last one"],
      ["right click", "all of this as a menu"],
      ["drag between the pictures", "choose those in the frame; with Shift, take them out"],
      ["Ctrl A", "choose all that match"],
      ["← →", "on the edge of a column: its width"],
    ],
  },
  sources: {
    title: "Sources",
    keys: [
      ["+ −", "on the chart: nearer, further"],
      ["← →", "on the chart: along the disk"],
      ["0", "on the chart: all of it"],
    ],
  },
};

/** The keys of the present view. */
export function Keys({ onClose }: { onClose: () => void }) {
  const view = usePathname().split("/").pop() ?? "";
  const own = OF_VIEW[view];
  return (
    <Dialog open onClose={onClose} aria-labelledby="keys-title" maxWidth="sm">
      <DialogTitle id="keys-title">Keys</DialogTitle>
      <DialogContent sx={{ px: 5 }}>
        {own && <List title={own.title} keys={own.keys} />}
        <List title="Anywhere" keys={ANYWHERE} />
      </DialogContent>
    </Dialog>
  );
}

function List({ title, keys }: { title: string; keys: readonly [string, string][] }) {
  return (
    <>
      <h3 style={{ margin: "4px 0", fontSize: 13 }}>{title}</h3>
      <dl className={styles.keys}>
        {keys.map(([key, words]) => (
          <div key={key} style={{ display: "contents" }}>
            <dt>
              <kbd>{key}</kbd>
            </dt>
            <dd>{words}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}
