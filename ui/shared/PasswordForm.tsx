"use client";

import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { write } from "../data/request";
import { Problem, problemText } from "../instruments/Problem";
import { Compass } from "../shell/Compass";
import styles from "./shared.module.css";

/** Asks a client for the password that came with the link. */
export function PasswordForm({ share }: { share: string }) {
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: () => write("POST", `/shared/${share}/session`, { password }),
    onSuccess: () => window.location.reload(),
  });
  return (
    <main className={styles.door}>
      <Compass />
      <h1>Recovered files</h1>
      <p>Give the password you were given. It does not come with the link.</p>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          enter.mutate();
        }}
      >
        <TextField
          size="small"
          label="Password"
          type="password"
          autoComplete="current-password"
          autoFocus
          fullWidth
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <Button type="submit" variant="contained" disabled={password === "" || enter.isPending || enter.isSuccess}>
          Open
        </Button>
      </form>
      <Problem>{problemText(enter.error)}</Problem>
    </main>
  );
}
