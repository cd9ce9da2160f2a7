import type { Item } from "@/server/items/contract";
import { conditionText } from "./words";

interface Props {
  condition: Item["condition"];
  survival: number;
  /** Only the fill, where the word stands elsewhere. */
  bare?: boolean;
}

/** How much of a copy is left: a bar filled to that share, and the word. Dashed when nothing but the name is known. */
export function ConditionMark({ condition, survival, bare = false }: Props) {
  const share = condition === "whole" ? 1 : condition === "name-only" ? 0 : survival;
  const dashed = condition === "name-only" || condition === "not-checked";
  return (
    <span style={{ display: "inline-flex", alignItems: "center", gap: 7, whiteSpace: "nowrap" }}>
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
      {!bare && conditionText(condition, survival)}
    </span>
  );
}
