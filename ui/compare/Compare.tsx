"use client";

import Dialog from "@mui/material/Dialog";
import { type ReactNode, useState } from "react";
import type { Copy } from "@/server/items/contract";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, conditionText, countText, momentText, PLACE_WORDS } from "../instruments/words";
import { sizeText } from "../items/rows";
import { useTrayChange } from "../items/use-tray-change";
import { hexLines, useBytes } from "../previews/HexView";
import { usePicture } from "../previews/PictureView";
import { useFacts } from "../previews/Preview";
import { useTables } from "../previews/TablesView";
import { useText } from "../previews/TextView";
import styles from "./compare.module.css";
import { byteDifferences, sheetDifferences, textDifference } from "./differences";

const BYTES = 65_536;
const LINES_SHOWN = 400;
const CELLS_SHOWN = 500;

interface Props {
  jobId: number;
  name: string;
  first: Copy;
  second: Copy;
  zone: string;
  onClose: () => void;
}

/** Two copies beside each other, compared by what they are: text, cells, pictures or bytes. */
export function Compare({ jobId, name, first, second, zone, onClose }: Props) {
  const { data: a } = useFacts(first.id);
  const { data: b } = useFacts(second.id);
  const form = a && b && a.form === b.form ? a.form : "hex";
  return (
    <Dialog
      open
      onClose={onClose}
      maxWidth="lg"
      fullWidth
      slotProps={{ paper: { "aria-label": `Two copies of ${name}`, sx: { p: 4, height: "86vh" } } }}
    >
      <header className={styles.head}>
        <h2>{name}</h2>
        <CopyFactsColumn jobId={jobId} copy={first} side="first" zone={zone} />
        <CopyFactsColumn jobId={jobId} copy={second} side="second" zone={zone} />
        <button type="button" onClick={onClose}>
          Close
        </button>
      </header>
      <div className={styles.body}>
        {first.identical.includes(second.id) && <Same>The two hold the same bytes.</Same>}
        {a && b && form === "picture" && <Pictures first={first.id} second={second.id} />}
        {a && b && (form === "text" || form === "document") && <Texts first={first.id} second={second.id} form={form} />}
        {a && b && form === "tables" && <Cells first={first.id} second={second.id} />}
        {a && b && !["picture", "text", "document", "tables"].includes(form) && <Bytes first={first} second={second} />}
      </div>
    </Dialog>
  );
}

interface CopyFactsProps {
  jobId: number;
  copy: Copy;
  side: "first" | "second";
  zone: string;
}

/** What a copy is, and the way to take it. */
function CopyFactsColumn({ jobId, copy, side, zone }: CopyFactsProps) {
  const tray = useTrayChange(jobId);
  return (
    <p data-side={side}>
      <b>
        {PLACE_WORDS[copy.place]}, {copy.state}
      </b>
      {momentText(copy.modified, zone)}, {sizeText(copy)}, {conditionText(copy.condition, copy.survival)}
      <button type="button" disabled={tray.isPending} onClick={() => tray.change({ copies: [copy.id], chosen: !copy.inTray })}>
        {copy.inTray ? "Take out of the tray" : "Take this one"}
      </button>
      <Problem>{problemText(tray.error)}</Problem>
    </p>
  );
}

const Same = ({ children }: { children: ReactNode }) => <p className={styles.same}>{children}</p>;

function Texts({ first, second, form }: { first: number; second: number; form: "text" | "document" }) {
  const a = useText(first, form);
  const b = useText(second, form);
  if (a.error || b.error) return <Problem>{problemText(a.error ?? b.error)}</Problem>;
  if (!a.data || !b.data) return null;
  const lines = textDifference(a.data.text, b.data.text);
  const changed = lines.filter((line) => line.kind !== "same").length;
  const beyond = a.data.truncated || b.data.truncated ? " Only the beginning was compared." : "";
  if (changed === 0) return <Same>The text is the same in both.{beyond}</Same>;
  return (
    <>
      <p className={styles.count}>
        {countText(changed)} {changed === 1 ? "line differs" : "lines differ"}.{beyond}
      </p>
      <ol className={styles.lines}>
        {lines.slice(0, LINES_SHOWN * 5).map((line, index) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: lines have no key but their place
          <li key={index} data-kind={line.kind}>
            {line.kind !== "same" && (
              <span className="visually-hidden">{line.kind === "first" ? "only in the first: " : "only in the second: "}</span>
            )}
            {line.text || " "}
          </li>
        ))}
      </ol>
    </>
  );
}

function Cells({ first, second }: { first: number; second: number }) {
  const a = useTables(first, "compared");
  const b = useTables(second, "compared");
  if (a.error || b.error) return <Problem>{problemText(a.error ?? b.error)}</Problem>;
  if (!a.data || !b.data) return null;
  const found = sheetDifferences(a.data, b.data);
  // What was not compared must not be called the same.
  const cut = [...a.data.tables, ...b.data.tables].some((table) => table.total !== null && table.total > table.rows.length);
  const beyond = cut ? " Only the beginning of the longest tables was compared." : "";
  if (found.length === 0) return <Same>All cells are the same in both.{beyond}</Same>;
  const count = (kind: "cell" | "row") => found.filter((each) => each.kind === kind).length;
  const [cells, rows] = [count("cell"), count("row")];
  const words = [
    cells > 0 || rows === 0 ? `${countText(cells)} ${cells === 1 ? "cell differs" : "cells differ"}` : null,
    rows > 0 ? `${countText(rows)} ${rows === 1 ? "row is" : "rows are"} in one of them alone` : null,
  ];
  return (
    <>
      <p className={styles.count}>
        {words.filter(Boolean).join(", ")}.{beyond}
      </p>
      <table className={styles.cells}>
        <thead>
          <tr>
            <th>Sheet</th>
            <th>Cell or row</th>
            <th>First</th>
            <th>Second</th>
          </tr>
        </thead>
        <tbody>
          {found.slice(0, CELLS_SHOWN).map((each, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a row may be numbered alike in both
            <tr key={index}>
              <td>{each.sheet}</td>
              <td>{each.place}</td>
              <td data-kind={each.first === null ? undefined : "first"}>{each.first ?? "not there"}</td>
              <td data-kind={each.second === null ? undefined : "second"}>{each.second ?? "not there"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {found.length > CELLS_SHOWN && <p className={styles.count}>and {countText(found.length - CELLS_SHOWN)} more.</p>}
    </>
  );
}

function Pictures({ first, second }: { first: number; second: number }) {
  const a = usePicture(first, true);
  const b = usePicture(second, true);
  const [share, setShare] = useState(50);
  if (a.error || b.error) return <Problem>{problemText(a.error ?? b.error)}</Problem>;
  if (!a.data || !b.data) return null;
  return (
    <div className={styles.pictures}>
      <div>
        <img src={a.data} alt="First copy" />
        <img src={b.data} alt="Second copy" style={{ clipPath: `inset(0 0 0 ${share}%)` }} />
        <i style={{ left: `${share}%` }} />
      </div>
      <input
        type="range"
        min="0"
        max="100"
        value={share}
        aria-label="How much of the first is shown"
        onChange={(event) => setShare(Number(event.target.value))}
      />
    </div>
  );
}

function Bytes({ first, second }: { first: Copy; second: Copy }) {
  const a = useBytes(first.id, 0, Math.min(BYTES, first.size));
  const b = useBytes(second.id, 0, Math.min(BYTES, second.size));
  if (a.error || b.error) return <Problem>{problemText(a.error ?? b.error)}</Problem>;
  if (!a.data || !b.data) return null;
  const found = byteDifferences(a.data, b.data);
  const beyond = Math.max(first.size, second.size) > BYTES ? ` Only the first ${bytesText(BYTES)} are compared here.` : "";
  if (found.length === 0) return <Same>Every byte is the same in both.{beyond}</Same>;
  const differs = (line: number) => found.some((range) => range.start < line * 16 + 16 && range.end > line * 16);
  const left = hexLines(a.data, 0, 16);
  const right = hexLines(b.data, 0, 16);
  const lines = Array.from({ length: Math.max(left.length, right.length) }, (_, index) => index).filter(differs);
  return (
    <>
      <p className={styles.count}>
        {countText(found.reduce((sum, range) => sum + range.end - range.start, 0))} bytes differ, the first at byte{" "}
        {countText(found[0]?.start ?? 0)}.{beyond}
      </p>
      <div className={styles.bytes}>
        <pre>
          {lines
            .slice(0, LINES_SHOWN)
            .map((index) => left[index] ?? "")
            .join("\n")}
        </pre>
        <pre>
          {lines
            .slice(0, LINES_SHOWN)
            .map((index) => right[index] ?? "")
            .join("\n")}
        </pre>
      </div>
    </>
  );
}
