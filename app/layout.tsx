import "@fontsource-variable/atkinson-hyperlegible-mono";
import "@fontsource-variable/atkinson-hyperlegible-next";
import InitColorSchemeScript from "@mui/material/InitColorSchemeScript";
import { AppRouterCacheProvider } from "@mui/material-nextjs/v16-appRouter";
import type { Metadata } from "next";
import type { ReactNode } from "react";
import { Frame } from "@/ui/shell/Frame";
import "./globals.css";

export const metadata: Metadata = { title: { default: "Tidy Compass", template: "%s · Tidy Compass" } };

export default function RootLayout({ children }: { children: ReactNode }) {
  return (
    <html lang="en" suppressHydrationWarning>
      <body>
        <InitColorSchemeScript attribute="data" />
        <AppRouterCacheProvider options={{ enableCssLayer: true }}>
          <Frame>{children}</Frame>
        </AppRouterCacheProvider>
      </body>
    </html>
  );
}
