import Button from "@mui/material/Button";
import { useState } from "react";

interface Props {
  /** What is asked for, for those who do not see it. */
  label: string;
  name: string;
  busy: boolean;
  className: string | undefined;
  onKeep: (name: string) => void;
  onCancel: () => void;
}

/** A name that is being changed: Enter keeps it, Escape leaves it as it was. */
export function RenameForm({ label, name: before, busy, className, onKeep, onCancel }: Props) {
  const [name, setName] = useState(before);
  return (
    <form
      className={className}
      onSubmit={(event) => {
        event.preventDefault();
        onKeep(name);
      }}
    >
      <input
        // biome-ignore lint/a11y/noAutofocus: it appears because it was asked for
        autoFocus
        aria-label={label}
        value={name}
        maxLength={200}
        onChange={(event) => setName(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && onCancel()}
      />
      <Button type="submit" variant="outlined" disabled={busy}>
        Keep the name
      </Button>
    </form>
  );
}
