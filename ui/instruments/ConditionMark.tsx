import type { Item } from "@/server/items/contract";
import { standingText } from "./words";

interface Props {
  condition: Item["condition"];
  survival: number;
  /** Of a live file, and whether its content opens; null: nobody has looked. */
  live?: boolean;
  opens?: Item["opens"];
  /** Only the fill, where the word stands elsewhere. */
  bare?: boolean;
}

/** What stands behind a word, and what can be done about it. */
const MEANING: Partial<Record<string, string>> = {
  "in place": "A live file: its record accounts for all its bytes. Whether it opens is checked when it is looked at or put into the tray.",
  "not checked": "Nothing proves or disproves its content. Look at the preview, and restore it to try whether it opens.",
  whole: "Every byte is accounted for, and nothing speaks against them.",
  "name only": "Only its name is known: nothing of its content is left here.",
};

/** How much of a copy is left: a bar filled to that share, and the word. Dashed when nothing but the name is known. */
export function ConditionMark({ condition, survival, live = false, opens = "unknown", bare = false }: Props) {
  const share = condition === "whole" ? 1 : condition === "name-only" ? 0 : survival;
  const dashed = condition === "name-only" || condition === "not-checked";
  const words = standingText({ condition, survival, live, opens });
  return (
    <span style={{ display: "inline-flex", alignItems: "center", gap: 7, whiteSpace: "nowrap" }} title={MEANING[words]}>
      <svg width="27" height="10" aria-hidden="true" focusable="false" style={{ flex: "none" }}>
        {!dashed && <rect x="1" y="1" width={25 * share} height="8" fill="var(--mui-palette-chart-depth4)" />}
        <rect
          x="0.5"
          y="0.5"
          width="26"
          height="9"
          fill="none"
          stroke="var(--mui-palette-chart-depth5)"
          strokeDasharray={dashed ? "2.5 2" : undefined}
        />
      </svg>
      {!bare && words}
    </span>
  );
}
