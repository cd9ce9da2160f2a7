"use client";

import Button from "@mui/material/Button";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Device,
  type RehearsalSums,
  type RestorePlan,
  rehearsalPage,
  rehearsalSums,
  STREAM_WISHES,
  type StreamWish,
  type Survey,
  survey,
} from "@/server/restores/contract";
import type { Tray } from "@/server/tray/contract";
import { write } from "../data/request";
import { keys, useJob } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, countText, filesText } from "../instruments/words";
import { AskToReplace, toReplace } from "./AskToReplace";
import { ByKind } from "./ByKind";
import { FIRST_WISHES, PlanForm } from "./PlanForm";
import { type Part, RehearsalList } from "./RehearsalList";
import styles from "./restore.module.css";
import { Versions } from "./Versions";

interface Props {
  jobId: number;
  tray: Tray;
}

/** What would be written where. Nothing is written before it was seen, and nothing is replaced unasked. */
export function Rehearsal({ jobId, tray }: Props) {
  const { data: job } = useJob(jobId);
  const client = useQueryClient();
  const [named, setNamed] = useState<string | null>(null);
  const [wishes, setWishes] = useState(FIRST_WISHES);
  const [kinds, setKinds] = useState<RestorePlan["kinds"]>({});
  const [choices, setChoices] = useState<RestorePlan["choices"]>({});
  const [streams, setStreams] = useState<StreamWish>("leave");
  const [asFound, setAsFound] = useState(false);
  const [repaired, setRepaired] = useState(false);
  const [page, setPage] = useState(0);
  const [part, setPart] = useState<Part>("all");
  const [asking, setAsking] = useState(false);
  // The same for every press until one has been answered: pressing twice starts one restore.
  const [asked, setAsked] = useState(() => crypto.randomUUID());
  const { replaces, ...wished } = wishes;
  const { conflict, layout, names, form, bagLimit, delivery } = wished;
  const folder = named ?? job?.title ?? "";
  const destination = replaces ? "" : folder;
  const plan: RestorePlan = { destination, ...wished, kinds: {}, choices: {}, streams, asFound, repaired };
  const what = { destination, delivery, layout, names, form, streams, repaired, trayBytes: tray.bytes, trayCount: tray.count };
  const enabled = replaces || folder.trim() !== "";
  const { data, error } = useQuery({
    queryKey: [...keys.of(jobId, "rehearsal"), what, page, part],
    queryFn: async () =>
      rehearsalPage.parse(await write("POST", `/api/jobs/${jobId}/rehearsal?page=${page}&only=${part === "there" ? "all" : part}`, plan)),
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
  return (
    <section aria-label="Rehearsal">
      <h2>Rehearsal</h2>
      <p className={styles.lead}>Nothing is written yet. This is what would go where; each file is read again afterwards and compared.</p>
      <PlanForm jobId={jobId} folder={folder} onFolder={setNamed} wishes={wishes} onWishes={setWishes}>
        <Button
          variant="contained"
          disabled={!ready || ([conflict, ...Object.values(kinds)].includes("replace") && !surveyed.data)}
          onClick={begin}
        >
          {sums ? `Restore ${filesText(sums.writable)}` : "Restore"}
        </Button>
      </PlanForm>
      <Problem>{data?.refused ?? sums?.tooLarge ?? problemText(error ?? sumsError) ?? problemText(start.error)}</Problem>
      <Versions jobId={jobId} several={tray.several} />
      {data && (
        <>
          <p className={styles.lead}>
            {sums && `${bytesText(sums.bytes)} `}to {data.root}
            {data.freeBytes !== null && `, where ${bytesText(data.freeBytes)} are free`}
            {data.device && ` (${deviceText(data.device)})`}.
            {sums &&
              sums.unwritable > 0 &&
              ` ${countText(sums.unwritable)} cannot be written: nothing of their content is left, or it cannot be read here.`}
            {sums && sums.withGaps > 0 && ` ${countText(sums.withGaps)} ${sums.withGaps === 1 ? "has" : "have"} gaps.`}{" "}
            <Surveyed data={surveyed.data} error={surveyed.error} />
          </p>
          {sums && sums.withGaps > 0 && (
            <label className={styles.streams}>
              <input type="checkbox" checked={asFound} onChange={(event) => setAsFound(event.target.checked)} />
              Bytes that belong to other files now: write what stands there today (otherwise zeros)
            </label>
          )}
          {sums && sums.unopened > 0 && (
            <label className={styles.streams}>
              <input type="checkbox" checked={repaired} onChange={(event) => setRepaired(event.target.checked)} />
              {sums.unopened === 1 ? "One of them does" : `${countText(sums.unopened)} of them do`} not open: write{" "}
              {sums.unopened === 1 ? "it" : "them"} repaired as well, beside, where that can be done
            </label>
          )}
          {sums && sums.unread > 0 && (
            <p className={styles.lead}>
              What {countText(sums.unread)} of them {sums.unread === 1 ? "says of itself" : "say of themselves"} (when a picture was taken,
              a title) is not read, or not yet: their names and places go by the date of their last change.
            </p>
          )}
          {sums && <Attached sums={sums} wish={streams} onWish={setStreams} />}
          {form === "bag" && (
            <p className={styles.lead}>
              A package (BagIt, RFC 8493) holds the files below “data”, the list of them, their hashes (SHA-256 and SHA-512) and the report.
              It needs a folder of its own.{bagLimit !== null && " A file that is larger than that gets a package of its own."}
            </p>
          )}
          {surveyed.data && surveyed.data.existing > 0 && (
            <ByKind found={surveyed.data.kinds} conflict={conflict} kinds={kinds} onKinds={setKinds} />
          )}
          {conflict === "compare" && surveyed.data && surveyed.data.existing > 0 && (
            <p className={styles.lead}>
              Compared first, byte for byte: a file that is the same is left as it is and mine is not written; where it is another one, both
              are kept.
            </p>
          )}
          <RehearsalList
            jobId={jobId}
            data={data}
            sums={sums}
            surveyed={surveyed.data}
            part={part}
            onPart={(next) => {
              setPart(next);
              setPage(0);
            }}
            onPage={setPage}
            wishes={{ conflict, kinds, choices }}
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

const STREAM_WORDS: Readonly<Record<StreamWish, string>> = {
  leave: "are left; each file says which",
  keep: "are kept with their files, where the destination can hold them",
  beside: "go along, each as a file of its own beside its file",
  "two-file": "go along in a second file each, as “._name” (RFC 1740)",
};

interface AttachedProps {
  sums: RehearsalSums;
  wish: StreamWish;
  onWish: (wish: StreamWish) => void;
}

/** What hangs on the files beside their content, and what becomes of it. */
function Attached({ sums, wish, onWish }: AttachedProps) {
  const { streams, withStreams, readOnly, hidden, placed } = sums;
  const marks = [
    placed > 0
      ? `${filesText(placed)} ${placed === 1 ? "goes" : "go"} where an application expects ${placed === 1 ? "it" : "them"}: close it meanwhile. What is there is kept aside where you choose to replace it.`
      : null,
    readOnly > 0
      ? `${filesText(readOnly)} ${readOnly === 1 ? "is" : "are"} marked “read only”, which is kept where the destination can hold it.`
      : null,
    hidden > 0
      ? `${filesText(hidden)} ${hidden === 1 ? "is" : "are"} marked “hidden”, which is kept on NTFS. What a file could not keep stands in its result.`
      : null,
    "Dates of creation are kept on NTFS alone.",
  ].filter(Boolean);
  return (
    <>
      {streams > 0 && (
        <label className={styles.streams}>
          The {countText(streams)} named {streams === 1 ? "stream" : "streams"} of {filesText(withStreams)} (forks and attributes too){" "}
          <select value={wish} onChange={(event) => onWish(event.target.value as StreamWish)} className={styles.choice}>
            {STREAM_WISHES.map((each) => (
              <option key={each} value={each}>
                {STREAM_WORDS[each]}
              </option>
            ))}
          </select>
        </label>
      )}
      <p className={styles.lead}>{marks.join(" ")}</p>
    </>
  );
}

/** What a destination's file system is, and what it does not hold. */
const deviceText = ({ title, writable, largestFile, timeGrain }: Device): string =>
  [
    title,
    writable ? null : "can only be read",
    largestFile !== null && largestFile < 2 ** 33 ? `files up to ${bytesText(largestFile)}` : null,
    timeGrain !== null && timeGrain >= 1000 ? `times to ${timeGrain / 1000} s` : null,
  ]
    .filter(Boolean)
    .join(", ");

function Surveyed({ data, error }: { data: Survey | undefined; error: unknown }) {
  if (error) return <>{problemText(error)}</>;
  if (!data) return <>Looking at what is there already …</>;
  return (
    <>
      {data.existing > 0 ? `A file of that name is already there for ${countText(data.existing)}.` : "None of these names is taken there."}
      {data.meeting > 0 &&
        ` ${countText(data.meeting)} would meet another of these files in one name: ${data.meeting === 1 ? "it gets" : "they get"} a number.`}
      {data.below > 0 &&
        ` ${countText(data.below)} ${data.below === 1 ? "lies" : "lie"} in a folder that has the name of another of these files: the folder gets a number.`}
    </>
  );
}
