"use client";

import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type ChangeHomes, type HomeList, homeList, type Suggestion } from "@/server/homes/contract";
import type { Source } from "@/server/sources/contract";
import { read, write } from "../data/request";
import { keys } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { RenameForm } from "../instruments/RenameForm";
import { countText } from "../instruments/words";
import styles from "./sources.module.css";

type Home = HomeList["homes"][number];
type Change = (change: ChangeHomes) => void;

function useHomes(jobId: number) {
  const client = useQueryClient();
  const address = `/api/jobs/${jobId}/homes`;
  const { data, error } = useQuery({ queryKey: keys.of(jobId, "homes"), queryFn: () => read(address, homeList) });
  const change = useMutation({
    mutationFn: (change: ChangeHomes) => write("POST", address, change),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  return { data, change, problem: problemText(error ?? change.error) };
}

/** Which of the client's drives a source shows, and what else shows them. Said only where there is more than one store to compare. */
export function Homes({ jobId, source }: { jobId: number; source: Source }) {
  const { data, change, problem } = useHomes(jobId);
  if (!data || data.homes.reduce((sum, { stores }) => sum + stores.length, 0) < 2) return null;
  const own = new Set(source.volumes.map(({ id }) => id));
  const rows = data.homes.flatMap((home) => home.stores.filter(({ storeId }) => own.has(storeId)).map((shown) => ({ home, shown })));
  const shown = new Set(rows.map(({ home }) => home.id));
  const suggestions = data.suggestions.filter(({ storeId, homeId }) => own.has(storeId) || shown.has(homeId));
  return (
    <section className={styles.homes} aria-label="The client’s drives">
      <h3>The client’s drives</h3>
      {suggestions.map((each) => (
        <Suggested key={`${each.storeId} ${each.below} ${each.homeId}`} {...each} busy={change.isPending} onChange={change.mutate} />
      ))}
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>Here</TableCell>
            <TableCell>is the client’s</TableCell>
            <TableCell>Also shown by</TableCell>
            <TableCell className={styles.number}>Items</TableCell>
            <TableCell />
          </TableRow>
        </TableHead>
        <TableBody>
          {rows.map(({ home, shown }) => (
            <Row
              key={`${shown.storeId} ${shown.below}`}
              rest={shown.below === "" && rows.some((each) => each.shown.storeId === shown.storeId && each.shown !== shown)}
              home={home}
              shown={shown}
              busy={change.isPending}
              onChange={change.mutate}
            />
          ))}
        </TableBody>
      </Table>
      <Place key={source.id} source={source} homes={data.homes} busy={change.isPending} onChange={change.mutate} />
      {change.isPending && <p role="status">Gathering what was found there anew …</p>}
      <Problem>{problem}</Problem>
    </section>
  );
}

/** What a store is called, and which folder of it is meant. */
const placeText = (store: string, folder: string) => (folder ? `${store}, ${folder.slice(1)}` : store);

function Suggested({ busy, onChange, ...suggestion }: Suggestion & { busy: boolean; onChange: Change }) {
  const { storeId, store, below, homeId, home, at, reason } = suggestion;
  return (
    <p className={styles.suggested}>
      <span>
        <b>{placeText(store, below)}</b> may be a copy of <b>{home}</b>. {reason}
      </span>
      <Button variant="outlined" disabled={busy} onClick={() => onChange({ store: storeId, below, home: homeId, at })}>
        Gather it with {home}
      </Button>
    </p>
  );
}

interface RowProps {
  home: Home;
  shown: Home["stores"][number];
  /** Other folders of its store are of other drives. */
  rest: boolean;
  busy: boolean;
  onChange: Change;
}

function Row({ home, shown, rest, busy, onChange }: RowProps) {
  const [renaming, setRenaming] = useState(false);
  const others = home.stores.filter((each) => each !== shown);
  const firsts = others.slice(0, 4).map((each) => `${placeText(each.store, each.below)} of ${each.source}`);
  return (
    <TableRow>
      <TableCell>{rest ? `${shown.store}, the rest of it` : placeText(shown.store, shown.below)}</TableCell>
      <TableCell>
        {!renaming ? (
          <>
            {placeText(home.label, shown.at)}{" "}
            <button type="button" className={styles.plain} onClick={() => setRenaming(true)}>
              Rename
            </button>
          </>
        ) : (
          <RenameForm
            label="What the client calls this drive"
            name={home.label}
            busy={busy}
            className={styles.typed}
            onKeep={(label) => {
              onChange({ rename: home.id, label });
              setRenaming(false);
            }}
            onCancel={() => setRenaming(false)}
          />
        )}
        {shown.reason && <span className={styles.why}>{shown.reason}</span>}
      </TableCell>
      <TableCell>{[...firsts, ...(others.length > 4 ? [`${others.length - 4} others`] : [])].join("; ") || "–"}</TableCell>
      <TableCell className={styles.number}>{countText(home.items)}</TableCell>
      <TableCell className={styles.number}>
        {others.length > 0 && (
          <Button variant="text" disabled={busy} onClick={() => onChange({ part: shown.storeId, below: shown.below })}>
            Part
          </Button>
        )}
      </TableCell>
    </TableRow>
  );
}

interface PlaceProps {
  source: Source;
  homes: readonly Home[];
  busy: boolean;
  onChange: Change;
}

/** A folder; its label stands above, so that it is seen what an empty field means. */
function FolderField({ label, value, onChange }: { label: string; value: string; onChange: (value: string) => void }) {
  return (
    <TextField
      size="small"
      label={label}
      placeholder="all of it"
      slotProps={{ inputLabel: { shrink: true } }}
      value={value}
      onChange={(event) => onChange(event.target.value)}
    />
  );
}

/** Says that a volume, or a folder of it, is one of the client's drives. */
function Place({ source, homes, busy, onChange }: PlaceProps) {
  const stores = source.volumes.filter(({ readable }) => readable);
  const [store, setStore] = useState(stores[0]?.id ?? 0);
  const [below, setBelow] = useState("");
  const [home, setHome] = useState(0);
  const [at, setAt] = useState("");
  if (stores.length === 0) return null;
  return (
    <form
      className={styles.place}
      aria-label="Gather with another drive"
      onSubmit={(event) => {
        event.preventDefault();
        onChange({ store, below, home, at });
      }}
    >
      {stores.length > 1 && (
        <TextField select size="small" label="Volume" value={store} onChange={(event) => setStore(Number(event.target.value))}>
          {stores.map((each) => (
            <MenuItem key={each.id} value={each.id}>
              {each.label ?? `volume ${each.number}`}
            </MenuItem>
          ))}
        </TextField>
      )}
      <FolderField label="Folder here" value={below} onChange={setBelow} />
      <TextField select size="small" label="is the drive" value={home || ""} onChange={(event) => setHome(Number(event.target.value))}>
        {homes.map(({ id, label, stores: [first] }) => (
          <MenuItem key={id} value={id}>
            {label}
            {first && homes.filter((each) => each.label === label).length > 1 ? ` of ${first.source}` : ""}
          </MenuItem>
        ))}
      </TextField>
      <FolderField label="Folder of that drive" value={at} onChange={setAt} />
      <Button type="submit" variant="outlined" disabled={busy || home === 0}>
        Gather
      </Button>
    </form>
  );
}
