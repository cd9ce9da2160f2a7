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
  KIND_TITLES,
  KINDS,
  type Kind,
  LAYOUTS,
  RESTORE_FORMS,
  type RehearsedFile,
  type RestoreForm,
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

const FORM_WORDS: Readonly<Record<RestoreForm, string>> = { files: "Files as they are", bag: "A package for the archive" };
/** What a package may hold, by what it is put on; bytes, with room left for the disc's own tables. */
const BAG_LIMITS = [
  [0, "everything"],
  [4_400_000_000, "a DVD (4.4 GB)"],
  [24_000_000_000, "a Blu-ray disc (24 GB)"],
  [31_000_000_000, "a stick of 32 GB"],
] as const;

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
  const [kinds, setKinds] = useState<RestorePlan["kinds"]>({});
  const [form, setForm] = useState<RestoreForm>("files");
  const [bagLimit, setBagLimit] = useState<number | null>(null);
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
  const plan: RestorePlan = { destination, conflict, layout, form, bagLimit, kinds: {}, choices: {}, streams, asFound };
  const what = { destination, layout, form, streams, trayBytes, trayCount };
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
    mutationFn: () => write("POST", `/api/jobs/${jobId}/restores`, { ...plan, kinds, choices, asked }),
    onSuccess: () => {
      setAsked(crypto.randomUUID());
      setChoices({});
      setKinds({});
      window.scrollTo({ top: 0 });
    },
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const replaced = surveyed.data ? toReplace(surveyed.data, conflict, kinds, choices) : null;
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
        <TextField
          select
          size="small"
          label="What is made"
          value={form}
          onChange={(event) => setForm(event.target.value as RestoreForm)}
          sx={{ width: 220 }}
        >
          {RESTORE_FORMS.map((each) => (
            <MenuItem key={each} value={each}>
              {FORM_WORDS[each]}
            </MenuItem>
          ))}
        </TextField>
        {form === "bag" && (
          <TextField
            select
            size="small"
            label="One package holds"
            value={bagLimit ?? 0}
            onChange={(event) => setBagLimit(Number(event.target.value) || null)}
            sx={{ width: 210 }}
          >
            {BAG_LIMITS.map(([bytes, words]) => (
              <MenuItem key={bytes} value={bytes}>
                {words}
              </MenuItem>
            ))}
          </TextField>
        )}
        <Button
          variant="contained"
          disabled={!ready || ([conflict, ...Object.values(kinds)].includes("replace") && !surveyed.data)}
          onClick={begin}
        >
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
          {form === "bag" && (
            <p className={styles.lead}>
              A package (BagIt, RFC 8493) holds the files below “data”, the list of them, their hashes (SHA-256 and SHA-512) and the report.
              It needs a folder of its own.{bagLimit !== null && " A file that is larger than that gets a package of its own."}
            </p>
          )}
          {surveyed.data && surveyed.data.existing > 0 && (
            <ByKind found={surveyed.data.kinds} conflict={conflict} kinds={kinds} onKinds={setKinds} />
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
            kinds={kinds}
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
  { conflicts, kinds: found }: Survey,
  conflict: Conflict,
  kinds: RestorePlan["kinds"],
  choices: RestorePlan["choices"],
): { count: number; files: RehearsedFile[] } {
  const files = conflicts.filter((file) => (choices[file.copyId] ?? kinds[file.kind] ?? conflict) === "replace");
  // Those that are not listed one by one go by their kind.
  const unlisted = Object.entries(found).map(([kind, count]) => ({
    wish: kinds[kind as Kind] ?? conflict,
    count: count - conflicts.filter((file) => file.kind === kind).length,
  }));
  return { count: unlisted.reduce((sum, { wish, count }) => sum + (wish === "replace" ? count : 0), files.length), files };
}

interface ByKindProps {
  found: Survey["kinds"];
  conflict: Conflict;
  kinds: RestorePlan["kinds"];
  onKinds: (kinds: RestorePlan["kinds"]) => void;
}

/** What to do with files that are there already, for all of one kind. */
function ByKind({ found, conflict, kinds, onKinds }: ByKindProps) {
  const those = KINDS.filter((kind) => (found[kind] ?? 0) > 0);
  if (those.length < 2) return null;
  return (
    <div className={styles.form}>
      {those.map((kind) => (
        <label key={kind} className={styles.kind}>
          {KIND_TITLES[kind]} ({countText(found[kind] ?? 0)})
          <select
            className={styles.choice}
            aria-label={`What to do with ${KIND_TITLES[kind]} that are there`}
            value={kinds[kind] ?? conflict}
            onChange={(event) => onKinds({ ...kinds, [kind]: event.target.value as Conflict })}
          >
            {CONFLICTS.map((each) => (
              <option key={each} value={each}>
                {CONFLICT_WORDS[each]}
              </option>
            ))}
          </select>
        </label>
      ))}
    </div>
  );
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
        <RehearsalTable jobId={0} root={root} files={files.slice(0, 50)} conflict="replace" kinds={{}} choices={{}} onChoice={null} />
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
