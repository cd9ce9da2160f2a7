"use client";

import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  CONFLICTS,
  type Conflict,
  LAYOUTS,
  type RehearsedFile,
  type RestoreLayout,
  type RestorePlan,
  rehearsalPage,
  rehearsalSums,
  type Survey,
  survey,
} from "@/server/restores/contract";
import { write } from "../data/request";
import { keys, useJob } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, countText } from "../instruments/words";
import { CONFLICT_WORDS, RehearsalTable } from "./RehearsalTable";
import styles from "./restore.module.css";

const LAYOUT_WORDS: Readonly<Record<RestoreLayout, string>> = {
  tree: "In their own folders",
  kind: "By kind",
  date: "By the day of their last change",
  flat: "All in one folder",
};

interface Props {
  jobId: number;
  trayBytes: number;
  trayCount: number;
}

/** What would be written where. Nothing is written before it was seen, and nothing is replaced unasked. */
export function Rehearsal({ jobId, trayBytes, trayCount }: Props) {
  const { data: job } = useJob(jobId);
  const client = useQueryClient();
  const [named, setNamed] = useState<string | null>(null);
  const [conflict, setConflict] = useState<Conflict>("keep-both");
  const [layout, setLayout] = useState<RestoreLayout>("tree");
  const [choices, setChoices] = useState<RestorePlan["choices"]>({});
  const [streams, setStreams] = useState(false);
  const [asFound, setAsFound] = useState(false);
  const [page, setPage] = useState(0);
  const [onlyThere, setOnlyThere] = useState(false);
  const [asking, setAsking] = useState(false);
  // The same for every press until one has been answered: pressing twice starts one restore.
  const [asked, setAsked] = useState(() => crypto.randomUUID());
  const destination = named ?? job?.title ?? "";
  const plan: RestorePlan = { destination, conflict, layout, choices: {}, streams, asFound };
  const what = { destination, layout, streams, trayBytes, trayCount };
  const enabled = destination.trim() !== "";
  const { data, error } = useQuery({
    queryKey: [...keys.of(jobId, "rehearsal"), what, page],
    queryFn: async () => rehearsalPage.parse(await write("POST", `/api/jobs/${jobId}/rehearsal?page=${page}`, plan)),
    enabled,
    placeholderData: (before) => before,
  });
  const { data: sums, error: sumsError } = useQuery({
    queryKey: [...keys.of(jobId, "rehearsal-sums"), what],
    queryFn: async () => rehearsalSums.parse(await write("POST", `/api/jobs/${jobId}/rehearsal/sums`, plan)),
    enabled,
    placeholderData: (before) => before,
  });
  const surveyed = useQuery({
    queryKey: [...keys.of(jobId, "survey"), what],
    queryFn: async () => survey.parse(await write("POST", `/api/jobs/${jobId}/rehearsal/survey`, plan)),
    enabled,
    placeholderData: (before) => before,
  });
  const start = useMutation({
    mutationFn: () => write("POST", `/api/jobs/${jobId}/restores`, { ...plan, choices, asked }),
    onSuccess: () => {
      setAsked(crypto.randomUUID());
      setChoices({});
      window.scrollTo({ top: 0 });
    },
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const replaced = surveyed.data ? toReplace(surveyed.data, conflict, choices) : null;
  const ready = data && sums && data.refused === null && sums.tooLarge === null && sums.writable > 0 && !start.isPending;
  const begin = () => {
    if (replaced && replaced.count > 0) setAsking(true);
    else start.mutate();
  };
  const pages = data?.pages ?? 1;
  const shown = onlyThere ? (surveyed.data?.conflicts ?? []) : (data?.files ?? []);
  return (
    <section aria-label="Rehearsal">
      <h2>Rehearsal</h2>
      <p className={styles.lead}>Nothing is written yet. This is what would go where; each file is read again afterwards and compared.</p>
      <div className={styles.form}>
        <TextField
          size="small"
          label="Folder in the delivery folder"
          value={destination}
          onChange={(event) => setNamed(event.target.value)}
          sx={{ width: 340 }}
        />
        <TextField
          select
          size="small"
          label="If a file is already there"
          value={conflict}
          onChange={(event) => setConflict(event.target.value as Conflict)}
          sx={{ width: 240 }}
        >
          {CONFLICTS.map((each) => (
            <MenuItem key={each} value={each}>
              {CONFLICT_WORDS[each]}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          select
          size="small"
          label="How the files lie there"
          value={layout}
          onChange={(event) => setLayout(event.target.value as RestoreLayout)}
          sx={{ width: 240 }}
        >
          {LAYOUTS.map((each) => (
            <MenuItem key={each} value={each}>
              {LAYOUT_WORDS[each]}
            </MenuItem>
          ))}
        </TextField>
        <Button variant="contained" disabled={!ready || (conflict === "replace" && !surveyed.data)} onClick={begin}>
          {sums ? `Restore ${countText(sums.writable)} ${sums.writable === 1 ? "file" : "files"}` : "Restore"}
        </Button>
      </div>
      <Problem>{data?.refused ?? sums?.tooLarge ?? problemText(error ?? sumsError) ?? problemText(start.error)}</Problem>
      {data && (
        <>
          <p className={styles.lead}>
            {sums && `${bytesText(sums.bytes)} `}to {data.root}
            {data.freeBytes !== null && `, where ${bytesText(data.freeBytes)} are free`}.
            {sums &&
              sums.unwritable > 0 &&
              ` ${countText(sums.unwritable)} cannot be written: nothing of their content is left, or it is closed.`}
            {sums && sums.withGaps > 0 && ` ${countText(sums.withGaps)} ${sums.withGaps === 1 ? "has" : "have"} gaps.`}{" "}
            <Surveyed data={surveyed.data} error={surveyed.error} />
          </p>
          {sums && sums.withGaps > 0 && (
            <label className={styles.streams}>
              <input type="checkbox" checked={asFound} onChange={(event) => setAsFound(event.target.checked)} />
              Bytes that belong to other files now: write what stands there today (otherwise zeros)
            </label>
          )}
          {sums && sums.streams > 0 && (
            <label className={styles.streams}>
              <input type="checkbox" checked={streams} onChange={(event) => setStreams(event.target.checked)} />
              {sums.streams === 1
                ? "The named stream of these files too"
                : `The ${countText(sums.streams)} named streams of these files too`}
              , as files of their own
            </label>
          )}
          <div className={styles.form}>
            {(surveyed.data?.existing ?? 0) > 0 && (
              <Button variant="text" aria-pressed={onlyThere} onClick={() => setOnlyThere(!onlyThere)}>
                {onlyThere ? "All files" : `Only those already there (${countText(surveyed.data?.existing ?? 0)})`}
              </Button>
            )}
            {!onlyThere && pages > 1 && (
              <>
                <Button variant="outlined" disabled={page === 0} onClick={() => setPage(page - 1)}>
                  Back
                </Button>
                <span className={styles.pages}>
                  Page {countText(page + 1)} of {countText(pages)}
                </span>
                <Button variant="outlined" disabled={page + 1 >= pages} onClick={() => setPage(page + 1)}>
                  On
                </Button>
              </>
            )}
            {onlyThere && (surveyed.data?.existing ?? 0) > shown.length && (
              <span className={styles.pages}>
                The first {countText(shown.length)} of {countText(surveyed.data?.existing ?? 0)}
              </span>
            )}
          </div>
          <RehearsalTable
            jobId={jobId}
            root={data.root}
            files={shown}
            conflict={conflict}
            choices={choices}
            onChoice={(copyId, choice) => setChoices((before) => ({ ...before, [copyId]: choice }))}
          />
        </>
      )}
      {asking && replaced && (
        <AskToReplace
          count={replaced.count}
          files={replaced.files}
          root={data?.root ?? ""}
          onCancel={() => setAsking(false)}
          onReplace={() => {
            setAsking(false);
            start.mutate();
          }}
        />
      )}
    </section>
  );
}

/** The files that would be replaced by what was said so far. */
function toReplace(
  { existing, conflicts }: Survey,
  conflict: Conflict,
  choices: RestorePlan["choices"],
): { count: number; files: RehearsedFile[] } {
  const replaces = (file: RehearsedFile) => (choices[file.copyId] ?? conflict) === "replace";
  const files = conflicts.filter(replaces);
  return { count: files.length + (conflict === "replace" ? existing - conflicts.length : 0), files };
}

function Surveyed({ data, error }: { data: Survey | undefined; error: unknown }) {
  if (error) return <>{problemText(error)}</>;
  if (!data) return <>Looking at what is there already …</>;
  return (
    <>
      {data.existing > 0 ? `A file of that name is already there for ${countText(data.existing)}.` : "Nothing is there already."}
      {data.meeting > 0 && ` ${countText(data.meeting)} would meet another of these files in one name: they get a number.`}
    </>
  );
}

interface AskProps {
  count: number;
  files: readonly RehearsedFile[];
  root: string;
  onCancel: () => void;
  onReplace: () => void;
}

/** Asks once before anything that is there is replaced, and shows what that is. */
function AskToReplace({ count, files, root, onCancel, onReplace }: AskProps) {
  return (
    <Dialog open onClose={onCancel} fullWidth maxWidth="md" aria-labelledby="replace-title">
      <DialogTitle id="replace-title">{`Replace ${countText(count)} ${count === 1 ? "file" : "files"} that ${count === 1 ? "is" : "are"} there?`}</DialogTitle>
      <DialogContent sx={{ px: 5 }}>
        <p className={styles.lead}>Each is kept beside the new one, under its name with the moment it was replaced.</p>
        <RehearsalTable jobId={0} root={root} files={files.slice(0, 50)} conflict="replace" choices={{}} onChoice={null} />
        {count > 50 && <p className={styles.lead}>and {countText(count - Math.min(50, files.length))} more.</p>}
      </DialogContent>
      <DialogActions>
        <Button variant="outlined" onClick={onCancel}>
          Not yet
        </Button>
        <Button variant="contained" onClick={onReplace}>
          Replace and keep the old ones aside
        </Button>
      </DialogActions>
    </Dialog>
  );
}
