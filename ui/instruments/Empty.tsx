import type { ReactNode } from "react";

/** What stands where there is nothing yet, and what to do about it. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div style={{ padding: "48px 24px", maxWidth: 460, margin: "0 auto", textAlign: "center", color: "var(--mui-palette-chart-inkSoft)" }}>
      <p style={{ margin: 0, fontSize: 15, fontWeight: 600, color: "var(--mui-palette-chart-ink)" }}>{title}</p>
      <div style={{ marginTop: 8, fontSize: 13.5 }}>{children}</div>
    </div>
  );
}
