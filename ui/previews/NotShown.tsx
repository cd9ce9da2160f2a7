import type { ReactNode } from "react";
import { Problem, problemText } from "../instruments/Problem";

/** Why a content cannot be shown in its form, and under it what can. */
export const NotShown = ({ error, children }: { error: Error; children: ReactNode }) => (
  <>
    <Problem>{problemText(error)}</Problem>
    {children}
  </>
);
