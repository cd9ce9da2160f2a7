import type { Mark } from "@/server/items/contract";

/** One shape a kind of place, each in a box of 10 by 10. */
const SHAPES: Record<Mark["place"], string> = {
  bin: "M1 2.5h8L7.6 9.2H2.4z",
  autosave: "M5 .8 9.4 9H.6z",
  temporary: "M.6 1h8.8L5 9.2z",
  "own-backup": "M1.6 3.6 5 1l3.4 2.6V9H1.6z",
  recent: "M1 1h8v1.6H1zM1 4.2h8v1.6H1zM1 7.4h8V9H1z",
  snapshot: "M3 1h4l2.4 8H.6z",
  backup: "M1 1h8v8H1z",
  "file-record": "M5 .8a4.2 4.2 0 1 1 0 8.4a4.2 4.2 0 1 1 0-8.4z",
  "leftover-record": "M5 .3 9.7 5 5 9.7 .3 5z",
  raw: "M3.6 1h2.8v2.6H9v2.8H6.4V9H3.6V6.4H1V3.6h2.6z",
};

/** How much of the shape is filled: the share of the copy that is left. */
const fillOf = (mark: Pick<Mark, "condition" | "survival">) =>
  mark.condition === "whole" ? 1 : mark.condition === "partial" ? Math.max(0.15, Math.min(0.85, mark.survival)) : 0;

/** A copy as a mark: its shape gives the kind of place, its fill how much is left; a live file's is paler. */
export function PlaceMark({ mark, x, y }: { mark: Mark; x: number; y: number }) {
  const colour = `var(--mui-palette-chart-${mark.live ? "live" : "depth5"})`;
  const fill = fillOf(mark);
  const shape = SHAPES[mark.place];
  return (
    <g transform={`translate(${x - 5} ${y - 5})`}>
      <path d={shape} fill="var(--mui-palette-chart-sheet)" />
      {fill > 0 && <path d={shape} fill={colour} style={{ clipPath: `inset(0 ${Math.round((1 - fill) * 100)}% 0 0)` }} />}
      <path
        d={shape}
        fill="none"
        stroke={colour}
        strokeWidth="1.1"
        strokeDasharray={mark.condition === "not-checked" ? "1.6 1.2" : undefined}
      />
    </g>
  );
}

/** The same mark by itself, beside words. */
export function PlaceGlyph({ mark }: { mark: Mark }) {
  return (
    <svg width="12" height="12" viewBox="-1 -1 12 12" aria-hidden="true" focusable="false" style={{ flex: "none" }}>
      <PlaceMark mark={mark} x={5} y={5} />
    </svg>
  );
}
