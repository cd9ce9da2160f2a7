"use client";

import TextField from "@mui/material/TextField";
import { useEffect, useState } from "react";
import { NAME_TOKENS, wrongPattern } from "@/server/restores/contract";

/** How long nothing is typed before the rehearsal follows. Milliseconds. */
const PAUSE = 300;

interface Props {
  value: string;
  onChange: (pattern: string) => void;
}

/** A pattern of names; what is wrong with it is said, and the last right one counts until it is mended. */
export function NamesField({ value, onChange }: Props) {
  const [typed, setTyped] = useState(value);
  const pattern = typed.trim();
  const wrong = wrongPattern(pattern);
  useEffect(() => {
    if (wrong !== null || pattern === value) return;
    const timer = setTimeout(() => onChange(pattern), PAUSE);
    return () => clearTimeout(timer);
  }, [pattern, wrong, value, onChange]);
  return (
    <TextField
      size="small"
      label="Names, as {date} {name}"
      value={typed}
      error={wrong !== null}
      helperText={wrong}
      title={`Empty: files keep their own names. What may stand in it: ${NAME_TOKENS.map((token) => `{${token}}`).join(", ")}`}
      onChange={(event) => setTyped(event.target.value)}
      sx={{ width: 225 }}
    />
  );
}
