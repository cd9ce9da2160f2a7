"use client";

import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import IconButton from "@mui/material/IconButton";
import Popover from "@mui/material/Popover";
import { useState } from "react";
import { COLUMN_FACTS, type Column, type Columns, columnsOf, type ListOf } from "./columns";

interface Props {
  list: ListOf;
  columns: Columns;
  onToggle: (column: Column) => void;
  onMove: (column: Column, step: number) => void;
}

/** Which columns the list shows, and in what order. */
export function ColumnMenu({ list, columns, onToggle, onMove }: Props) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const order = [...columns.shown, ...columnsOf(list).filter((column) => !columns.shown.includes(column))];
  return (
    <>
      <Button variant="outlined" aria-haspopup="dialog" aria-expanded={anchor !== null} onClick={(event) => setAnchor(event.currentTarget)}>
        Columns
      </Button>
      <Popover
        open={anchor !== null}
        anchorEl={anchor}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: "bottom", horizontal: "left" }}
        slotProps={{ paper: { "aria-label": "Columns", sx: { p: 2, width: 250 } } }}
      >
        {order.map((column, index) => {
          const { words } = COLUMN_FACTS[column];
          const shown = columns.shown.includes(column);
          return (
            <div key={column} style={{ display: "flex", alignItems: "center", gap: 4, fontSize: 13 }}>
              <Checkbox checked={shown} onChange={() => onToggle(column)} slotProps={{ input: { "aria-label": `Show ${words}` } }} />
              <span style={{ flex: 1 }}>{words}</span>
              <IconButton
                size="small"
                disabled={!shown || index === 0}
                aria-label={`${words} further left`}
                onClick={() => onMove(column, -1)}
              >
                <Arrow up />
              </IconButton>
              <IconButton
                size="small"
                disabled={!shown || index === columns.shown.length - 1}
                aria-label={`${words} further right`}
                onClick={() => onMove(column, 1)}
              >
                <Arrow />
              </IconButton>
            </div>
          );
        })}
      </Popover>
    </>
  );
}

const Arrow = ({ up = false }: { up?: boolean }) => (
  <svg width="10" height="8" viewBox="0 0 10 8" aria-hidden="true">
    <path d={up ? "M5 1 9 7H1z" : "M5 7 1 1h8z"} fill="currentColor" />
  </svg>
);
