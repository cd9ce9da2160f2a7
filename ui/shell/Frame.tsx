"use client";

import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { type ReactNode, Suspense, useState } from "react";
import { theme } from "../theme/theme";
import { Shortcuts } from "./Shortcuts";

/** What every page stands in: the theme and the store of fetched data. */
export function Frame({ children }: { children: ReactNode }) {
  const [client] = useState(
    () => new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: true, staleTime: 2_000 } } }),
  );
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
