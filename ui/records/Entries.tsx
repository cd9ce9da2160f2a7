"use client";

import TextField from "@mui/material/TextField";
import { type EntriesPage, type EntryExport, type MentionedFiles, MOST_ON_A_PAGE, type RecordEntry } from "@/server/records/contract";
import { useTyped } from "../data/use-typed";
import { Problem, problemText } from "../instruments/Problem";
import { countText, ENTRY_WORDS, rowStateText } from "../instruments/words";
import { Mentioned, useMentioned } from "./Mentioned";
import { letterOf } from "./place-title";
import { BytesButton } from "./RowBytes";
import styles from "./records.module.css";
import { onlyFrom, Tools } from "./Tools";
import type { Sight, WantedEntries } from "./use-records";
import { useRowsInSight } from "./use-rows-in-sight";
import { workingText } from "./working-text";

const ROW = 30;

const dayFormat = new Intl.DateTimeFormat("en-GB", { weekday: "long", day: "numeric", month: "long", year: "numeric", timeZone: "UTC" });
const dayText = (at: number | null) => (at === null ? "Without a time" : dayFormat.format(at).replace(",", ""));
const timeText = (at: number | null) => (at === null ? "" : new Date(at).toISOString().slice(11, 16));

interface Props {
  readonly jobId: number;
  readonly copyId: number;
  readonly wanted: WantedEntries;
  readonly head: EntriesPage | undefined;
  readonly error: Error | null;
  readonly entryAt: (index: number) => RecordEntry | undefined;
  readonly onSight: (sight: Sight) => void;
  readonly onChange: (changes: Readonly<Record<string, string | null>>) => void;
  readonly onBytes: (place: string) => void;
  readonly exported: (form: EntryExport) => string;
}

/** Messages, visits and the like, day by day; deleted ones marked by fill and word; beside them the files they speak of. */
export function Entries({ jobId, copyId, wanted, head, error, entryAt, onSight, onChange, onBytes, exported }: Props) {
  const mentioned = useMentioned(jobId, copyId, wanted.with, head !== undefined && head.working === null);
  const speaks = head?.kind === "messages" || head?.kind === "transfers" || head?.kind === "notes";
  const beside = speaks && mentioned.data && mentioned.data.files.length > 0 ? mentioned.data : null;
  return (
    <div className={styles.entries} data-beside={beside !== null}>
      <section className={styles.rows} aria-label="Entries">
        <Tools label="Find in all of it" find={wanted.find} only={onlyFrom(wanted.only)} onChange={onChange}>
          <Day label="From" value={wanted.since} onChange={(since) => onChange({ since })} />
          <Day label="Until" value={wanted.until} onChange={(until) => onChange({ until })} />
        </Tools>
        <p className={styles.summary}>
          {head?.kind && (
            <span className={styles.count} role="status">
              {countText(head.matched)} {head.matched === 1 ? ENTRY_WORDS[head.kind].one : ENTRY_WORDS[head.kind].many.toLowerCase()}, times
              in UTC
            </span>
          )}
          {head && head.matched > 0 && (
            <span className={styles.save}>
              Save as {head.matched <= MOST_ON_A_PAGE && <a href={exported("html")}>a page</a>}
              {head.matched <= MOST_ON_A_PAGE && ", "}
              <a href={exported("json")}>JSON</a>
            </span>
          )}
        </p>
        <Problem>{problemText(error)}</Problem>
        {!head && !error && <p className={styles.note}>Reading the database …</p>}
        {head?.working && <p className={styles.note}>{workingText(head.working)}</p>}
        {head && !head.working && head.matched === 0 && <p className={styles.note}>Nothing in it fits.</p>}
        {head && !head.working && (
          <Rows
            key={`${head.kind} ${wanted.talk} ${wanted.who}`}
            head={head}
            entryAt={entryAt}
            mentioned={beside}
            onSight={onSight}
            onBytes={onBytes}
          />
        )}
      </section>
      {beside && <Mentioned jobId={jobId} copyId={copyId} mentioned={beside} />}
    </div>
  );
}

const PERIOD = /^(\d{4}(-(0[1-9]|1[0-2])(-(0[1-9]|[12]\d|3[01]))?)?)?$/;

/** A day, a month or a year; what is half typed waits. */
function Day({ label, value, onChange }: { label: string; value: string; onChange: (day: string | null) => void }) {
  const [typed, setTyped] = useTyped(value, (text) => PERIOD.test(text) && onChange(text || null));
  return (
    <TextField
      size="small"
      placeholder={label.toLowerCase()}
      value={typed}
      error={!PERIOD.test(typed)}
      onChange={(event) => setTyped(event.target.value.trim())}
      slotProps={{ htmlInput: { "aria-label": label, title: "A day as 2026-03-01, a month as 2026-03, or a year" } }}
      sx={{ width: 116 }}
    />
  );
}

interface RowsProps {
  head: EntriesPage;
  entryAt: Props["entryAt"];
  mentioned: MentionedFiles | null;
  onSight: Props["onSight"];
  onBytes: Props["onBytes"];
}

/** Only entries in sight exist; each is as high as what it says. */
function Rows({ head, entryAt, mentioned, onSight, onBytes }: RowsProps) {
  const { scroll, virtual, keepEnd } = useRowsInSight(head.matched, ROW, onSight);
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <section ref={scroll} className={styles.scroll} tabIndex={0} aria-label="All entries" {...keepEnd}>
      <ol className={styles.days} style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map(({ index, start }) => {
          const entry = entryAt(index);
          const before = index > 0 ? entryAt(index - 1) : undefined;
          const opens = entry && (index === 0 || (before !== undefined && dayText(before.at) !== dayText(entry.at)));
          return (
            <li key={index} data-index={index} ref={virtual.measureElement} style={{ transform: `translateY(${start}px)` }}>
              {opens && <h3>{dayText(entry.at)}</h3>}
              {entry ? <EntryRow entry={entry} head={head} mentioned={mentioned} onBytes={onBytes} /> : <div className={styles.entry} />}
            </li>
          );
        })}
      </ol>
    </section>
  );
}

interface EntryRowProps {
  entry: RecordEntry;
  head: EntriesPage;
  mentioned: MentionedFiles | null;
  onBytes: Props["onBytes"];
}

function EntryRow({ entry, head, mentioned, onBytes }: EntryRowProps) {
  const { at, who, title, text, address, files, details, lastVisit } = entry;
  return (
    <div className={styles.entry} data-state={entry.state} data-confidence={entry.confidence} data-persons={hasPersons(head)}>
      <time dateTime={at === null ? undefined : new Date(at).toISOString()}>{timeText(at)}</time>
      {hasPersons(head) && <b>{who ?? (head.kind === "messages" ? "Not known who" : "")}</b>}
      <div className={styles.said}>
        {title && <span className={styles.title}>{title}</span>}
        {text && <span>{text}</span>}
        {head.kind === "visits" && <span className={styles.address}>{address ?? "The row of its page is gone."}</span>}
        {head.kind !== "visits" && address && <span className={styles.address}>{address}</span>}
        {details.map(([name, value]) => (
          <span key={name} className={styles.detail}>
            <small>{name}</small> {value}
          </span>
        ))}
        {files.length > 0 && (
          <span className={styles.files}>
            {files.map((file) => (
              <Sent key={`${file.name} ${file.size}`} file={file} mentioned={mentioned} />
            ))}
          </span>
        )}
      </div>
      <span className={styles.state}>
        {[lastVisit && "last visit, by the list of pages", rowStateText(entry), onlyIn(entry, head)].filter(Boolean).join("; ")}
        <BytesButton from={entry.from} at={entry.offset} onBytes={onBytes} />
      </span>
    </div>
  );
}

const hasPersons = ({ kind }: EntriesPage) => kind === "messages" || kind === "transfers";

/** Which of the databases read as one has it, where it is not all of them. */
function onlyIn({ in: list }: RecordEntry, { together }: EntriesPage): string | null {
  if (!list || list.length === together.length) return null;
  return list.length === 1 ? `only in ${letterOf(list[0] ?? 0)}` : `in ${list.map(letterOf).join(", ")}`;
}

function Sent({ file, mentioned }: { file: RecordEntry["files"][number]; mentioned: MentionedFiles | null }) {
  const known = mentioned?.files.find(({ name, size }) => name === file.name && size === file.size);
  const best = known?.found[0]?.like;
  const words = !known ? "" : best === "name-size" || best === "size-type" ? "likely found" : best ? "by its name only" : "none like it";
  return (
    <span className={styles.file} data-found={words} title={file.path ?? undefined}>
      {file.name}
      {words && <small>{words}</small>}
    </span>
  );
}
