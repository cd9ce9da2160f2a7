"use client";

import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { archivePreview, tablesPreview } from "@/server/previews/contract";
import { read } from "../data/request";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, countText } from "../instruments/words";
import { NotShown } from "./NotShown";
import styles from "./previews.module.css";
import { usePreviewRoot } from "./root";

export function useTables(copyId: number, rows: "shown" | "compared" = "shown") {
  const root = usePreviewRoot();
  return useQuery({
    queryKey: ["copy", copyId, "tables", rows],
    queryFn: () => read(`${root}/${copyId}/tables?rows=${rows}`, tablesPreview),
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
}

/** The sheets of a workbook or the tables of a database. */
export function TablesView({ copyId, otherwise }: { copyId: number; otherwise: ReactNode }) {
  const { data, error } = useTables(copyId);
  const [chosen, setChosen] = useState(0);
  if (error) return <NotShown error={error}>{otherwise}</NotShown>;
  const table = data?.tables[chosen];
  return (
    <>
      <Problem>{data?.problem}</Problem>
      {data && data.tables.length === 0 && <p className={styles.text}>There is no table in it.</p>}
      {data && data.tables.length > 1 && (
        <div className={styles.tabs} role="tablist" aria-label="Tables">
          {data.tables.map((each, index) => (
            <button key={each.name} type="button" role="tab" aria-selected={index === chosen} onClick={() => setChosen(index)}>
              {each.name}
            </button>
          ))}
        </div>
      )}
      {table && (
        <>
          <table className={styles.table}>
            <thead>
              <tr>
                {table.columns.map((column, index) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: columns may share a name; their place is what tells them apart
                  <th key={index} scope="col">
                    {column}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {table.rows.map((row, index) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: rows have no key but their place
                <tr key={index}>
                  {table.columns.map((_, column) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: as above
                    <td key={column}>{row[column] ?? ""}</td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          {table.total !== null && table.total > table.rows.length && (
            <p className={styles.more}>
              the first {countText(table.rows.length)} of {countText(table.total)} rows
            </p>
          )}
        </>
      )}
    </>
  );
}

/** What is in an archive. */
export function ArchiveView({ copyId }: { copyId: number }) {
  const root = usePreviewRoot();
  const { data, error } = useQuery({
    queryKey: ["copy", copyId, "archive"],
    queryFn: () => read(`${root}/${copyId}/archive`, archivePreview),
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (
    <>
      <Problem>{problemText(error) ?? (data?.problem ? `This archive is not sound: ${data.problem}.` : null)}</Problem>
      {data && data.members.length > 0 && (
        <table className={styles.table}>
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Size</th>
            </tr>
          </thead>
          <tbody>
            {data.members.map((member, index) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: an archive may hold the same name twice
              <tr key={index}>
                <td>
                  {member.name}
                  {member.encrypted ? " (password)" : ""}
                </td>
                <td>{member.size === null ? "" : bytesText(member.size)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {data && data.count > data.members.length && (
        <p className={styles.more}>
          the first {countText(data.members.length)} of {countText(data.count)} members
        </p>
      )}
    </>
  );
}
