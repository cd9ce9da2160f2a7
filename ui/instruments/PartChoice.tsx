"use client";

import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { countText } from "./words";

interface Props<P extends string> {
  label: string;
  value: P;
  /** Each part with its words and how much is in it, the one that has all first. Empty ones are not offered, but for the chosen one. */
  parts: readonly (readonly [part: P, words: string, count: number])[];
  onChange: (part: P) => void;
}

/** Which part of a list is shown; nothing where all is all there is. */
export function PartChoice<P extends string>({ label, value, parts, onChange }: Props<P>) {
  const offered = parts.filter(([part, , count], index) => index === 0 || part === value || count > 0);
  if (offered.length < 2) return null;
  return (
    <ToggleButtonGroup exclusive size="small" aria-label={label} value={value} onChange={(_, next: P | null) => next && onChange(next)}>
      {offered.map(([part, words, count]) => (
        <ToggleButton key={part} value={part} sx={{ py: 0.5, px: 2 }}>
          {words} ({countText(count)})
        </ToggleButton>
      ))}
    </ToggleButtonGroup>
  );
}
