"use client";

import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { settingsPreview } from "@/server/previews/contract";
import { read } from "../data/request";
import { countText } from "../instruments/words";
import { NotShown } from "./NotShown";
import styles from "./previews.module.css";
import { usePreviewRoot } from "./root";

/** Deeper names are not set in any farther. */
const DEEPEST_SET_IN = 12;

/** A file of settings as its names and values, those within others set in; moments as dates, with how they are known. */
export function SettingsView({ copyId, otherwise }: { copyId: number; otherwise: ReactNode }) {
  const root = usePreviewRoot();
  const { data, error } = useQuery({
    queryKey: ["copy", copyId, "settings"],
    queryFn: () => read(`${root}/${copyId}/settings`, settingsPreview),
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  if (error) return <NotShown error={error}>{otherwise}</NotShown>;
  if (!data) return null;
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <section tabIndex={0} aria-label="Settings">
      {data.problem && <p className={styles.text}>{data.problem}</p>}
      <table className={styles.settings} aria-label="Names and values">
        <tbody>
          {data.settings.map(({ name, value, level, when }, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: names come more than once
            <tr key={index}>
              <th scope="row" style={{ paddingLeft: 8 + Math.min(level, DEEPEST_SET_IN) * 14 }}>
                {name}
              </th>
              <td dir="auto">
                {value}
                {when && (
                  <small>
                    {when.at} UTC, {when.how}
                  </small>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {data.more && <p className={styles.text}>There is more: only the first {countText(data.settings.length)} names are shown.</p>}
    </section>
  );
}
