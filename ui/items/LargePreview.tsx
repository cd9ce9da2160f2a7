"use client";

import Dialog from "@mui/material/Dialog";
import type { KeyboardEvent } from "react";
import { conditionText, exactBytes } from "../instruments/words";
import { Preview } from "../previews/Preview";
import { useItemDetail } from "./use-items";

interface Props {
  jobId: number;
  itemId: number;
  onClose: () => void;
  onMove: (step: number) => void;
}

/** The preview over the whole window; arrows go on through the list, space closes it. */
export function LargePreview({ jobId, itemId, onClose, onMove }: Props) {
  const { data: item } = useItemDetail(jobId, itemId);
  const best = item?.list[0];
  const onKey = (event: KeyboardEvent) => {
    if (event.key === "ArrowDown" || event.key === "ArrowRight") onMove(1);
    else if (event.key === "ArrowUp" || event.key === "ArrowLeft") onMove(-1);
    else if (event.key === " ") onClose();
    else return;
    event.preventDefault();
  };
  return (
    <Dialog
      open
      onClose={onClose}
      onKeyDown={onKey}
      maxWidth="lg"
      fullWidth
      slotProps={{ paper: { sx: { p: 4 }, "aria-label": item ? `Preview of ${item.name}` : "Preview" } }}
    >
      {item && best && (
        <>
          <p style={{ margin: "0 0 10px", display: "flex", gap: 12, alignItems: "baseline" }}>
            <strong style={{ fontSize: 16, overflowWrap: "anywhere" }}>{item.name}</strong>
            <span style={{ color: "var(--mui-palette-chart-inkSoft)", fontSize: 13, whiteSpace: "nowrap" }}>
              {conditionText(best.condition, best.survival)}, {exactBytes(best.size)}
            </span>
          </p>
          <Preview
            key={best.id}
            copyId={best.id}
            name={item.name}
            size={best.size}
            runs={best.runs}
            nameOnly={best.condition === "name-only"}
            large
          />
        </>
      )}
    </Dialog>
  );
}
