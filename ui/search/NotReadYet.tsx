"use client";

import Button from "@mui/material/Button";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  formOf,
  isNarrowed,
  PASS_PLACES,
  type Pass,
  type PassOptions,
  type PassPlace,
  passKind,
  passWords,
  refusedOptions,
} from "@/server/passes/contract";
import type { Source } from "@/server/sources/contract";
import { write } from "../data/request";
import { keys } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, FILE_SYSTEM_WORDS, KIND_WORDS, narrowedWords, STANDING_WORDS } from "../instruments/words";
import styles from "./search.module.css";

interface OpenPass {
  readonly source: Source;
  readonly volume: Source["volumes"][number];
  /** Raw content is started by a form of its own. */
  readonly place: Exclude<PassPlace, "raw">;
}

/** Passes that could be started: those of readable volumes that have not been read for that place. */
export function openPasses(sources: readonly Source[], passes: readonly Pass[]): OpenPass[] {
  const begun = new Set(
    passes
      .filter((pass) => pass.state !== "stopped" && pass.state !== "failed" && !isNarrowed(pass.options))
      .map((pass) => `${pass.storeId} ${pass.place}`),
  );
  return PASS_PLACES.filter((place) => place !== "raw").flatMap((place) =>
    sources.flatMap((source) =>
      source.volumes
        .filter((volume) => volume.readable && !begun.has(`${volume.id} ${place}`))
        .filter((volume) => passKind(place).on.includes(formOf(source.container, volume.filesystem)))
        .map((volume): OpenPass => ({ source, volume, place })),
    ),
  );
}

/** More volumes of one source than this stand together for each place, and one by one only when asked. */
const MOST_ALONE = 4;
/** So do those of all sources, where there are more sources than this. */
const MOST_SOURCES = 4;

/** What can still be read, those of one source and place together; of very many sources, those of one place. */
export function together(open: readonly OpenPass[]): OpenPass[][] {
  const groups = new Map<string, OpenPass[]>();
  const many = new Set(open.map(({ source }) => source.id)).size > MOST_SOURCES;
  for (const each of open) {
    const key = many ? each.place : `${each.place} ${each.source.id}`;
    groups.set(key, [...(groups.get(key) ?? []), each]);
  }
  return [...groups.values()].flatMap((group) => (group.length > MOST_ALONE ? [group] : group.map((each) => [each])));
}

/** The volumes that can still be read, for each place; narrowed to a folder, a part or some kinds when asked. */
export function NotReadYet({ jobId, open }: { jobId: number; open: readonly OpenPass[] }) {
  const [options, setOptions] = useState<PassOptions>({});
  const start = useStart(jobId);
  const ready = open.filter(({ source, place }) => source.connected && place === "file-record");
  // Where they stand together anyway, their own row has the button.
  const several = ready.length > 1 && together(ready).length > 1;
  return (
    <>
      <h2>Not read yet</h2>
      <Narrow options={options} onChange={setOptions} />
      {several && (
        <p className={styles.lead}>
          <Button
            variant="outlined"
            disabled={start.isPending}
            onClick={() => start.mutate(ready.map(({ volume, place }) => ({ storeId: volume.id, place, options })))}
          >
            Read the records of all {ready.length} volumes
          </Button>
        </p>
      )}
      <Problem>{problemText(start.error)}</Problem>
      <ul className={styles.rows} aria-label="Volumes not read yet">
        {together(open).map(([first, ...others]) =>
          !first ? null : others.length > 0 ? (
            <OpenGroup key={`${first.source.id} ${first.place}`} jobId={jobId} group={[first, ...others]} options={options} />
          ) : (
            <OpenRow key={`${first.volume.id} ${first.place}`} jobId={jobId} open={first} options={options} />
          ),
        )}
      </ul>
    </>
  );
}

export function useStart(jobId: number) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (wanted: { storeId: number; place: PassPlace; options: PassOptions }[]) => {
      for (const each of wanted) await write("POST", `/api/jobs/${jobId}/passes`, each);
    },
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
}

/** All volumes of a source that can still be read for one place: at once, or one by one. */
function OpenGroup({ jobId, group, options }: { jobId: number; group: readonly [OpenPass, ...OpenPass[]]; options: PassOptions }) {
  const [{ source, place }] = group;
  const sources = new Set(group.map((each) => each.source.id)).size;
  const systems = [...new Set(group.map(({ volume }) => FILE_SYSTEM_WORDS[volume.filesystem]))].join(", ");
  return (
    <>
      <StartRow
        jobId={jobId}
        open={group}
        of={`all ${group.length} volumes`}
        where={sources > 1 ? `${sources} sources` : source.name}
        systems={systems}
        options={options}
      />
      <li className={styles.alone}>
        <details>
          <summary>{passWords(place, formOf(source.container, group[0].volume.filesystem)).title} of each volume by itself</summary>
          <ul className={styles.rows}>
            {group.map((each) => (
              <OpenRow key={each.volume.id} jobId={jobId} open={each} options={options} />
            ))}
          </ul>
        </details>
      </li>
    </>
  );
}

function OpenRow({ jobId, open, options }: { jobId: number; open: OpenPass; options: PassOptions }) {
  const { source, volume } = open;
  return (
    <StartRow
      jobId={jobId}
      open={[open]}
      of={volume.label ?? `volume ${volume.number}`}
      where={[source.name, STANDING_WORDS[volume.standing]].filter(Boolean).join(", ")}
      systems={FILE_SYSTEM_WORDS[volume.filesystem] ?? ""}
      options={options}
    />
  );
}

/** What an option narrows a pass to. */
const NARROWED_TO: Readonly<Record<string, string>> = {
  from: "a part of the volume",
  to: "a part of the volume",
  folder: "a folder",
  kinds: "kinds of file",
  statesFrom: "states between two days",
  statesTo: "states between two days",
};

interface StartProps {
  jobId: number;
  /** What is started together: volumes of one source, for one place. */
  open: readonly [OpenPass, ...OpenPass[]];
  of: string;
  where: string;
  systems: string;
  options: PassOptions;
}

function StartRow({ jobId, open, of, where, systems, options }: StartProps) {
  const start = useStart(jobId);
  const [newestFirst, setNewestFirst] = useState(false);
  const [{ source, volume: first, place }] = open;
  const { title, about, start: words } = passWords(place, formOf(source.container, first.filesystem));
  const refused = refusedOptions(place, options);
  const connected = open.filter((each) => each.source.connected);
  const bytes = open.reduce((sum, { volume }) => sum + volume.length, 0);
  return (
    <li className={styles.row}>
      <div>
        <b>
          {title} of {of}
        </b>
        <span>{where}</span>
      </div>
      <span>{bytes > 0 ? `${systems}, ${bytesText(bytes)}` : systems}</span>
      <span>{connected.length === 0 ? "not connected" : about}</span>
      <div className={styles.buttons}>
        <Button
          variant={place === "file-record" ? "contained" : "outlined"}
          disabled={!connected.length || refused.length > 0 || start.isPending}
          onClick={() =>
            start.mutate(
              connected.map(({ volume }) => ({ storeId: volume.id, place, options: { ...options, ...(newestFirst && { newestFirst }) } })),
            )
          }
        >
          {words}
        </Button>
        {passKind(place).options.includes("newestFirst") && (
          <label className={styles.order}>
            <input type="checkbox" checked={newestFirst} onChange={(event) => setNewestFirst(event.target.checked)} />
            Newest state first
          </label>
        )}
        {refused.length > 0 && (
          <span>It cannot be narrowed to {[...new Set(refused.map((option) => NARROWED_TO[option] ?? option))].join(", nor to ")}.</span>
        )}
        <Problem>{problemText(start.error)}</Problem>
      </div>
    </li>
  );
}

/** What the next passes are narrowed to. */
function Narrow({ options, onChange }: { options: PassOptions; onChange: (options: PassOptions) => void }) {
  const { folder = "", from = 0, to = 100, kinds = [], statesFrom = "", statesTo = "" } = options;
  const set = (next: { [option in "folder" | "from" | "to" | "kinds" | "statesFrom" | "statesTo"]?: NonNullable<PassOptions[option]> }) => {
    const all = { folder, from, to, kinds, statesFrom, statesTo, ...next };
    onChange({
      ...(all.folder.trim() ? { folder: `/${all.folder.trim().replace(/^\/+/, "")}` } : {}),
      ...(all.from > 0 || all.to < 100 ? { from: all.from, to: all.to } : {}),
      ...(all.kinds.length > 0 ? { kinds: all.kinds } : {}),
      ...(all.statesFrom ? { statesFrom: all.statesFrom } : {}),
      ...(all.statesTo ? { statesTo: all.statesTo } : {}),
    });
  };
  const day = (name: "statesFrom" | "statesTo", value: string, label: string) => (
    <input type="date" value={value} aria-label={label} onChange={(event) => set({ [name]: event.target.value })} />
  );
  const percent = (name: "from" | "to", value: number, label: string) => (
    <input
      type="number"
      min={0}
      max={100}
      value={value}
      aria-label={label}
      onChange={(event) => set({ [name]: Math.max(0, Math.min(100, Number(event.target.value) || 0)) })}
    />
  );
  const words = narrowedWords(options);
  return (
    <details className={styles.narrow}>
      <summary>{words ? `Only ${words}` : "Everything on the volume; narrow it"}</summary>
      <div>
        <label>
          Only below the folder
          <input type="text" value={folder} placeholder="/Users/mo/Documents" onChange={(event) => set({ folder: event.target.value })} />
        </label>
        <span>
          Only what begins from {percent("from", from, "From percent")} to {percent("to", to, "To percent")} % of the volume
        </span>
        <span>
          Only earlier states from {day("statesFrom", statesFrom, "States from")} to {day("statesTo", statesTo, "States up to")} (UTC), with
          the newest one, which says what became of what stood then
        </span>
        <fieldset>
          <legend>Only these kinds</legend>
          {Object.entries(KIND_WORDS).map(([kind, title]) => (
            <label key={kind}>
              <input
                type="checkbox"
                checked={(kinds as readonly string[]).includes(kind)}
                onChange={(event) =>
                  set({
                    kinds: (event.target.checked ? [...kinds, kind] : kinds.filter((each) => each !== kind)) as NonNullable<
                      PassOptions["kinds"]
                    >,
                  })
                }
              />
              {title}
            </label>
          ))}
        </fieldset>
        {from >= to && <Problem>The part must end after it begins.</Problem>}
        {statesTo && statesFrom > statesTo && <Problem>The last day of the states must not come before the first.</Problem>}
      </div>
    </details>
  );
}
