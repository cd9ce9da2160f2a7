import type { ReactNode } from "react";

/** What went wrong and what to do, where it belongs. */
export function Problem({ children }: { children: ReactNode }) {
  if (!children) return null;
  return (
    <p
      role="alert"
      style={{
        margin: "8px 0",
        padding: "6px 10px",
        borderLeft: "3px solid var(--mui-palette-chart-ink)",
        background: "var(--mui-palette-chart-buff)",
        color: "var(--mui-palette-chart-ink)",
        fontSize: 13,
      }}
    >
      {children}
    </p>
  );
}

export const problemText = (error: unknown): string | null => (error instanceof Error ? error.message : error ? String(error) : null);
