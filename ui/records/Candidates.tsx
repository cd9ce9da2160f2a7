"use client";

import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import { useQuery } from "@tanstack/react-query";
import Link from "next/link";
import { useState } from "react";
import { type RecordCandidates, recordCandidates } from "@/server/records/contract";
import { read } from "../data/request";
import { Problem, problemText } from "../instruments/Problem";
import { countText, PLACE_WORDS } from "../instruments/words";
import { useTrayChange } from "../items/use-tray-change";
import styles from "./records.module.css";

type Candidate = RecordCandidates["candidates"][number];

const WIDTH = 300;
const HEIGHT = 26;
const dayText = (at: number | null) => (at === null ? "" : new Date(at).toISOString().slice(0, 10));
const monthText = (month: number) => `${Math.floor(month / 12)}-${String((month % 12) + 1).padStart(2, "0")}`;

interface Props {
  readonly jobId: number;
  readonly copyId: number;
  /** Read them as one, by the copies other than this one. */
  readonly onTogether: (copies: readonly number[]) => void;
}

/** The databases of the same kind in the job: how far back each goes, month by month, and what only it has. Chosen ones become one. */
export function Candidates({ jobId, copyId, onTogether }: Props) {
  const { data, error } = useQuery({
    queryKey: ["copy", copyId, "candidates"],
    queryFn: ({ signal }) => read(`/api/copies/${copyId}/records/candidates`, recordCandidates, signal),
    staleTime: 60_000,
    retry: false,
  });
  const { change, error: trayError, isPending } = useTrayChange(jobId);
  const [given, setGiven] = useState<number | null>(null);
  const [left, setLeft] = useState<ReadonlySet<number>>(new Set());
  if (error) return <Problem>{problemText(error)}</Problem>;
  if (!data) return <p className={styles.note}>Reading all databases of this kind in the job …</p>;
  const chosen = data.candidates.filter((each) => !left.has(each.copyId));
  const toggle = (id: number) => {
    const next = new Set(left);
    if (!next.delete(id)) next.add(id);
    setLeft(next);
  };
  return (
    <div className={styles.candidates}>
      <p className={styles.note}>
        {data.candidates.length === 1
          ? "No other database of this kind was found in this job, among copies of its name, those with a database’s ending, and those seen to be one. "
          : `${data.candidates.length} databases of this kind were found in this job, the one that goes back farthest first. `}
        An application that was installed anew holds about the last month; the rest is usually in the oldest one.
      </p>
      <table className={styles.list} aria-label="Candidates">
        <thead>
          <tr>
            <th scope="col">
              <span className="visually-hidden">Join</span>
            </th>
            <th scope="col">Database</th>
            <th scope="col">Rows by month{data.by && ` (${data.by.table})`}</th>
            <th scope="col">First</th>
            <th scope="col">Last</th>
            <th scope="col" className={styles.number}>
              Rows
            </th>
            <th scope="col" className={styles.number}>
              Deleted
            </th>
            <th scope="col" className={styles.number}>
              Only here
            </th>
          </tr>
        </thead>
        <tbody>
          {data.candidates.map((each) => (
            <tr key={each.copyId} data-present={each.copyId === copyId}>
              <td>
                <Checkbox
                  size="small"
                  checked={!left.has(each.copyId)}
                  onChange={() => toggle(each.copyId)}
                  slotProps={{ input: { "aria-label": `Join ${each.name}, ${each.folder}` } }}
                />
              </td>
              <td>
                <Link href={`/jobs/${jobId}/records?copy=${each.copyId}&item=${each.itemId ?? ""}`}>{each.name}</Link>
                <small>
                  {each.folder || "/"}, {PLACE_WORDS[each.place]?.toLowerCase()}, {each.state}
                </small>
                {each.copyId !== copyId && each.itemId !== null && (
                  <button
                    type="button"
                    disabled={isPending}
                    title="Puts it and the logs beside it into the tray, to be restored under the name and in the folder of the database this view is of"
                    onClick={() => {
                      setGiven(each.copyId);
                      change({ chosen: true, database: copyId, expected: [{ copyId: each.copyId, path: null }] });
                    }}
                  >
                    Restore in place of this one
                  </button>
                )}
              </td>
              <td>
                <Coverage candidate={each} all={data.candidates} />
              </td>
              <td>{dayText(each.first)}</td>
              <td>{dayText(each.last)}</td>
              <td className={styles.number}>{countText(each.live)}</td>
              <td className={styles.number}>{countText(each.deleted)}</td>
              <td className={styles.number}>{each.only === null ? "not counted" : countText(each.only)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Problem>{problemText(trayError)}</Problem>
      {given !== null && !isPending && !trayError && (
        <p role="status" className={styles.note}>
          In the tray, with the logs that lie beside it, to be restored in place of this one. Close the application meanwhile, and choose to
          replace what is there: that is kept aside. <Link href={`/jobs/${jobId}/restore`}>To the rehearsal</Link>
        </p>
      )}
      <p className={styles.join}>
        <Button
          variant="contained"
          disabled={!data.joined || chosen.length < 2 || !chosen.some((each) => each.copyId === copyId)}
          onClick={() => onTogether(chosen.map((each) => each.copyId).filter((id) => id !== copyId))}
        >
          Read the {chosen.length} chosen as one
        </Button>
        <Button
          variant="outlined"
          disabled={!data.joined || chosen.length < 2}
          href={`/api/jobs/${jobId}/records/joined?copies=${chosen.map((each) => each.copyId).join(",")}`}
        >
          Join the {chosen.length} chosen into one database
        </Button>
        {data.joined && (
          <span>
            All that are listed, joined, have {countText(data.joined.rows)} rows, {countText(data.joined.deleted)} of them put together from
            what is left of deleted ones.
          </span>
        )}
      </p>
      {data.notes.map((note) => (
        <p key={note} className={styles.note}>
          {note}
        </p>
      ))}
    </div>
  );
}

/** Rows by month on the time all candidates share: those that count below, deleted ones on top. */
function Coverage({ candidate, all }: { candidate: Candidate; all: readonly Candidate[] }) {
  const months = all.flatMap((each) => each.months.map(([month]) => month));
  if (months.length === 0) return null;
  const from = months.reduce((a, b) => Math.min(a, b));
  const to = months.reduce((a, b) => Math.max(a, b));
  const most = all.flatMap((each) => each.months.map(([, live, deleted]) => live + deleted)).reduce((a, b) => Math.max(a, b), 1);
  const step = WIDTH / (to - from + 1);
  const tall = (rows: number) => (rows === 0 ? 0 : Math.max(1.5, (rows / most) * HEIGHT));
  const words =
    candidate.months.length > 0
      ? `${monthText(candidate.months[0]?.[0] ?? 0)} to ${monthText(candidate.months.at(-1)?.[0] ?? 0)}`
      : "no times";
  return (
    <svg width={WIDTH} height={HEIGHT} role="img" aria-label={`Rows by month, ${words}`}>
      <line x1="0" x2={WIDTH} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} stroke="var(--mui-palette-chart-hairline)" />
      {candidate.months.map(([month, live, deleted]) => (
        <g key={month} transform={`translate(${(month - from) * step} 0)`}>
          <title>{`${monthText(month)}: ${live} rows, ${deleted} deleted`}</title>
          <rect width={Math.max(1, step - 1)} y={HEIGHT - tall(live)} height={tall(live)} fill="var(--mui-palette-chart-depth4)" />
          <rect
            width={Math.max(1, step - 1)}
            y={HEIGHT - tall(live) - tall(deleted)}
            height={tall(deleted)}
            fill="var(--mui-palette-chart-buffDeep)"
          />
        </g>
      ))}
    </svg>
  );
}
