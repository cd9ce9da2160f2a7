"use client";

import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useState } from "react";
import styles from "./account.module.css";

interface ChoiceProps<K extends string> {
  label: string;
  empty: string;
  table: Record<K, string>;
  value: K | null;
  onChange: (value: K | null) => void;
}

/** A blank that one of several answers fills. */
export function Choice<K extends string>({ label, empty, table, value, onChange }: ChoiceProps<K>) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const choose = (next: K | null) => {
    setAnchor(null);
    onChange(next);
  };
  return (
    <>
      <Blank label={label} words={value ? table[value] : null} empty={empty} open={anchor !== null} onOpen={setAnchor} />
      <Menu
        anchorEl={anchor}
        open={anchor !== null}
        onClose={() => setAnchor(null)}
        slotProps={{ list: { dense: true, "aria-label": label } }}
      >
        {(Object.keys(table) as K[]).map((key) => (
          <MenuItem key={key} selected={key === value} onClick={() => choose(key)}>
            {table[key]}
          </MenuItem>
        ))}
        <MenuItem onClick={() => choose(null)} sx={{ color: "text.secondary", borderTop: "1px solid", borderColor: "divider" }}>
          not known
        </MenuItem>
      </Menu>
    </>
  );
}

interface ChoicesProps<K extends string> extends Omit<ChoiceProps<K>, "value" | "onChange"> {
  value: readonly K[];
  onChange: (value: K[]) => void;
}

/** A blank that several answers may fill together. */
export function Choices<K extends string>({ label, empty, table, value, onChange }: ChoicesProps<K>) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const words = value.map((key) => table[key]);
  const said = words.length > 1 ? `${words.slice(0, -1).join(", ")} and ${words[words.length - 1]}` : (words[0] ?? null);
  return (
    <>
      <Blank label={label} words={said} empty={empty} open={anchor !== null} onOpen={setAnchor} />
      <Menu
        anchorEl={anchor}
        open={anchor !== null}
        onClose={() => setAnchor(null)}
        slotProps={{ list: { dense: true, "aria-label": label } }}
      >
        {(Object.keys(table) as K[]).map((key) => {
          const chosen = value.includes(key);
          return (
            <MenuItem
              key={key}
              role="menuitemcheckbox"
              aria-checked={chosen}
              selected={chosen}
              onClick={() => onChange(chosen ? value.filter((each) => each !== key) : [...value, key])}
            >
              <span aria-hidden="true" className={styles.tick}>
                {chosen ? "✓" : ""}
              </span>
              {table[key]}
            </MenuItem>
          );
        })}
      </Menu>
    </>
  );
}

function Blank({
  label,
  words,
  empty,
  open,
  onOpen,
}: {
  label: string;
  words: string | null;
  empty: string;
  open: boolean;
  onOpen: (anchor: HTMLElement) => void;
}) {
  return (
    <button
      type="button"
      className={styles.blank}
      data-empty={words === null}
      aria-haspopup="menu"
      aria-expanded={open}
      aria-label={`${label}: ${words ?? "not known"}`}
      onClick={(event) => onOpen(event.currentTarget)}
    >
      {words ?? empty}
    </button>
  );
}

interface WordsProps {
  label: string;
  empty: string;
  value: string | null;
  onChange: (value: string | null) => void;
  longest?: number;
}

/** A blank filled with the client's own words. */
export function Words({ label, empty, value, onChange, longest = 500 }: WordsProps) {
  return (
    <input
      className={styles.blank}
      data-empty={!value}
      aria-label={label}
      placeholder={empty}
      value={value ?? ""}
      maxLength={longest}
      onChange={(event) => onChange(event.target.value || null)}
    />
  );
}
