"use client";

import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import { QueryClientProvider } from "@tanstack/react-query";
import { type ReactNode, Suspense, useState } from "react";
import { makeQueryClient } from "../data/query-client";
import { theme } from "../theme/theme";
import { Shortcuts } from "./Shortcuts";

/** What every page stands in: the theme and the store of fetched data. */
export function Frame({ children }: { children: ReactNode }) {
  const [client] = useState(makeQueryClient);
  return (
    <ThemeProvider theme={theme} defaultMode="system" disableTransitionOnChange>
      <CssBaseline enableColorScheme />
      <QueryClientProvider client={client}>
        {children}
        <Suspense>
          <Shortcuts />
        </Suspense>
      </QueryClientProvider>
    </ThemeProvider>
  );
}
