"use client";

import IconButton from "@mui/material/IconButton";
import { useColorScheme } from "@mui/material/styles";
import Tooltip from "@mui/material/Tooltip";
import { useEffect, useState } from "react";

/** Changes between the day and the night chart. */
export function ColourScheme() {
  const { mode, systemMode, setMode } = useColorScheme();
  const [mounted, setMounted] = useState(false);
  // The stored choice is known only in the browser.
  useEffect(() => setMounted(true), []);
  const night = mounted && (mode === "system" ? systemMode : mode) === "dark";
  const words = night ? "Day chart" : "Night chart";
  return (
    <Tooltip title={words}>
      <IconButton aria-label={words} size="small" onClick={() => setMode(night ? "light" : "dark")} sx={{ color: "text.secondary" }}>
        <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden="true">
          <circle cx="8" cy="8" r="6.5" fill="none" stroke="currentColor" strokeWidth="1.2" />
          <path d={night ? "M8 1.5a6.5 6.5 0 0 0 0 13z" : "M8 1.5a6.5 6.5 0 0 1 0 13z"} fill="currentColor" />
        </svg>
      </IconButton>
    </Tooltip>
  );
}
