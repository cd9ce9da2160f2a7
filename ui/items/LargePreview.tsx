"use client";

import Dialog from "@mui/material/Dialog";
import type { KeyboardEvent } from "react";
import { useAddress } from "../data/use-address";
import { conditionText, exactBytes } from "../instruments/words";
import { Preview } from "../previews/Preview";
import { isUnsized, openedCopy } from "./rows";
import { useItemDetail } from "./use-items";

interface Props {
  jobId: number;
  onClose: () => void;
  onMove: (step: number) => void;
}

/** The copy that is open over the whole window; arrows go on through the list, space closes it. */
export function LargePreview({ jobId, onClose, onMove }: Props) {
  const [address] = useAddress();
  const { data: item } = useItemDetail(jobId, Number(address.get("item")) || null, [address.get("copy")]);
  const copy = item && openedCopy(item, address);
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
      {item && copy && (
        <>
          <p style={{ margin: "0 0 10px", display: "flex", gap: 12, alignItems: "baseline" }}>
            <strong style={{ fontSize: 16, overflowWrap: "anywhere" }}>{item.name}</strong>
            <span style={{ color: "var(--mui-palette-chart-inkSoft)", fontSize: 13, whiteSpace: "nowrap" }}>
              {conditionText(copy.condition, copy.survival)}, {isUnsized(copy) ? "size not known" : exactBytes(copy.size)}
            </span>
          </p>
          <Preview
            key={copy.id}
            copyId={copy.id}
            name={item.name}
            size={copy.size}
            runs={copy.runs}
            nameOnly={copy.condition === "name-only"}
            large
          />
        </>
      )}
    </Dialog>
  );
}
