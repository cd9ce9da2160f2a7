"use client";

import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import type { ReactNode } from "react";
import { useTyped } from "../data/use-typed";
import styles from "./records.module.css";

const ONLY = [
  ["all", "All"],
  ["live", "Live"],
  ["deleted", "Deleted"],
] as const;
export type Only = (typeof ONLY)[number][0];
export const onlyFrom = (text: string | null): Only => ONLY.find(([id]) => id === text)?.[0] ?? "all";

interface Props {
  readonly label: string;
  readonly find: string;
  readonly only: Only;
  readonly onChange: (changes: Readonly<Record<string, string | null>>) => void;
  readonly children: ReactNode;
}

/** What narrows the rows: words in them, and whether they count. */
export function Tools({ label, find, only, onChange, children }: Props) {
  const [typed, setTyped] = useTyped(find, (words) => onChange({ find: words || null }));
  return (
    <div className={styles.tools}>
      <TextField
        size="small"
        placeholder={label}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        slotProps={{ htmlInput: { "aria-label": label } }}
        sx={{ width: 210 }}
      />
      <ToggleButtonGroup
        size="small"
        exclusive
        value={only}
        aria-label="Which rows"
        onChange={(_, value: string | null) => value && onChange({ only: value === "all" ? null : value })}
      >
        {ONLY.map(([id, words]) => (
          <ToggleButton key={id} value={id} sx={{ py: 0.25, px: 1.25 }}>
            {words}
          </ToggleButton>
        ))}
      </ToggleButtonGroup>
      {children}
    </div>
  );
}
