"use client";

import Button from "@mui/material/Button";
import IconButton from "@mui/material/IconButton";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import type { Copy } from "@/server/items/contract";
import { keptPieces, type LaidLook, laidLook, type Piece, piecesText } from "@/server/pieces/contract";
import { read, write } from "../data/request";
import { useAddress } from "../data/use-address";
import { keys } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, conditionText, countText, offsetText } from "../instruments/words";
import styles from "./items.module.css";
import { addSeam, lettersOf, moveBeginning, moveSeam, placeFrom, seamTyped, withoutLastSeam } from "./laying";
import { pagesKey } from "./use-items";

/** Whether pieces of a copy can be laid: its bytes stand on a disk as they are, and it is not known to be whole. */
const canBeLaid = ({ condition, file, size, runs, present, place, state }: Copy) =>
  file === null &&
  present === null &&
  size > 0 &&
  runs.length > 0 &&
  runs.every(({ start }) => start !== null) &&
  condition !== "name-only" &&
  (condition !== "whole" || runs.length > 1) &&
  (place === "raw" || state === "deleted");

/** Where the pieces of a file stand: moved by hand with what comes out shown at once, or looked for longer than a pass does. */
export function Pieces({ jobId, copy }: { jobId: number; copy: Copy }) {
  const [open, setOpen] = useState(false);
  const kept = useKept(jobId);
  const [, change] = useAddress();
  const drop = useMutation({
    mutationFn: () => write("DELETE", `/api/copies/${copy.id}/pieces`),
    onSuccess: () => {
      change({ copy: null });
      return kept.refresh();
    },
  });
  if (!canBeLaid(copy)) return null;
  return (
    <>
      {copy.place === "raw" && copy.condition !== "whole" && <LongerLook jobId={jobId} copy={copy} />}
      <p className={styles.repair}>
        <Button variant="outlined" aria-expanded={open} onClick={() => setOpen(!open)}>
          Lay its pieces by hand
        </Button>
        {copy.evidence.laid && (
          <Button variant="text" sx={{ ml: 2 }} disabled={drop.isPending} onClick={() => drop.mutate()}>
            Take this copy away
          </Button>
        )}
      </p>
      <Problem>{problemText(drop.error)}</Problem>
      {open && <Table jobId={jobId} copy={copy} />}
    </>
  );
}

/** Goes to a copy that was kept, once the lists know it. */
function useKept(jobId: number) {
  const client = useQueryClient();
  const [, change] = useAddress();
  const refresh = () =>
    Promise.all([client.invalidateQueries({ queryKey: pagesKey(jobId) }), client.invalidateQueries({ queryKey: keys.of(jobId, "item") })]);
  return {
    refresh,
    show: async (copyId: number) => {
      await refresh();
      change({ copy: String(copyId) });
    },
  };
}

function LongerLook({ jobId, copy }: { jobId: number; copy: Copy }) {
  const kept = useKept(jobId);
  const ending = useRef<AbortController | null>(null);
  const look = useMutation({
    mutationFn: async () => {
      ending.current = new AbortController();
      const answer = await write("POST", `/api/copies/${copy.id}/pieces/search`, undefined, ending.current.signal);
      return keptPieces.parse(answer);
    },
    onSuccess: ({ copyId }) => (copyId === null ? undefined : kept.show(copyId)),
  });
  if (look.isPending)
    return (
      <p className={styles.repair} role="status">
        Looking for its pieces up to 128 MiB away; this may take minutes.{" "}
        <Button size="small" onClick={() => ending.current?.abort()}>
          Stop looking
        </Button>
      </p>
    );
  const stopped = ending.current?.signal.aborted;
  return (
    <div className={styles.repair}>
      <Button variant="outlined" onClick={() => look.mutate()}>
        Look longer for its pieces
      </Button>
      {look.data && <p role="status">{look.data.words}</p>}
      {stopped ? <p role="status">The look was stopped; nothing was changed.</p> : <Problem>{problemText(look.error)}</Problem>}
    </div>
  );
}

function Table({ jobId, copy }: { jobId: number; copy: Copy }) {
  const [wanted, setWanted] = useState<readonly Piece[] | null>(null);
  const kept = useKept(jobId);
  const { data, error, isFetching } = useQuery({
    queryKey: ["pieces", copy.id, wanted],
    queryFn: async ({ signal }) => {
      const path = `/api/copies/${copy.id}/pieces`;
      return wanted ? laidLook.parse(await write("POST", path, { pieces: wanted }, signal)) : read(path, laidLook, signal);
    },
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  const keeping = useMutation({
    mutationFn: async (pieces: readonly Piece[]) => keptPieces.parse(await write("PUT", `/api/copies/${copy.id}/pieces`, { pieces })),
    onSuccess: ({ copyId }) => (copyId === null ? undefined : kept.show(copyId)),
  });
  if (!data) return error ? <Problem>{problemText(error)}</Problem> : <p className={styles.repair}>Reading its pieces …</p>;
  const pieces = wanted ?? data.pieces;
  return (
    <section className={styles.repair} aria-label="Pieces" aria-busy={isFetching}>
      <table className={styles.pieces}>
        <thead>
          <tr>
            <th scope="col">Piece</th>
            <th scope="col">Begins at</th>
            <th scope="col">Bytes</th>
          </tr>
        </thead>
        <tbody>
          {pieces.map((_, index) => (
            // Pieces have nothing else of their own: moving one must not move the focus.
            // biome-ignore lint/suspicious/noArrayIndexKey: their order is what they are
            <Row key={index} pieces={pieces} index={index} look={data} onMove={setWanted} />
          ))}
        </tbody>
      </table>
      {data.seams.map(({ before, behind }, index) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: their order is what they are
        <p key={index} className={styles.seam} title={`Bytes before and behind the end of piece ${index + 1}`}>
          <span>{lettersOf(before)}</span>
          <b> | </b>
          <span>{lettersOf(behind)}</span>
        </p>
      ))}
      <p role="status">{error ? "" : describeLook(data)}</p>
      <Problem>{problemText(error)}</Problem>
      {data.picture && <LaidPicture src={`/api/copies/${copy.id}/pieces/picture?pieces=${piecesText(data.pieces)}`} />}
      <p className={styles.laying}>
        <Button size="small" onClick={() => setWanted(addSeam(pieces, data))}>
          Add a seam
        </Button>
        <Button size="small" disabled={pieces.length < 2} onClick={() => setWanted(withoutLastSeam(pieces))}>
          Remove the last seam
        </Button>
        <Button size="small" disabled={wanted === null} onClick={() => setWanted(null)}>
          As they were
        </Button>
      </p>
      <Button
        variant="outlined"
        disabled={wanted === null || error !== null || isFetching || keeping.isPending}
        onClick={() => keeping.mutate(pieces)}
      >
        Keep as a copy
      </Button>
      <Problem>{problemText(keeping.error)}</Problem>
    </section>
  );
}

/** The picture as its pieces are laid; where it cannot be drawn, that is said instead. */
function LaidPicture({ src }: { src: string }) {
  const [failed, setFailed] = useState<string | null>(null);
  if (failed === src) return <p>The picture cannot be drawn from these pieces.</p>;
  return <img className={styles.laidPicture} src={src} alt="As its pieces are laid now" onError={() => setFailed(src)} />;
}

function describeLook({ format, size, breaks, opens, condition, survival }: LaidLook): string {
  const what = `${format ?? "Its type is not known"}, ${bytesText(size)}`;
  if (breaks) return `${what}: breaks off at byte ${countText(breaks.at)}: ${breaks.reason}.`;
  return `${what}: ${opens ? "followed to its end and sound" : "nothing shows that it breaks off"}; kept, it would be “${conditionText(condition, survival)}”.`;
}

interface RowProps {
  readonly pieces: readonly Piece[];
  readonly index: number;
  readonly look: LaidLook;
  onMove(pieces: readonly Piece[]): void;
}

function Row({ pieces, index, look, onMove }: RowProps) {
  const piece = pieces[index] as Piece;
  const { cluster } = look.grid;
  const number = index + 1;
  const last = index === pieces.length - 1;
  return (
    <tr>
      <th scope="row">{number}</th>
      <td>
        {index === 0 ? (
          offsetText(piece.at)
        ) : (
          <Steps
            words={`Piece ${number} begins`}
            value={piece.at}
            show={offsetText}
            onStep={(clusters) => onMove(moveBeginning(pieces, index, piece.at + clusters * cluster))}
            onType={(text) => {
              const at = placeFrom(text, look.grid);
              if (at !== null) onMove(moveBeginning(pieces, index, at));
              return at !== null;
            }}
          />
        )}
      </td>
      <td>
        {last ? (
          `to its end: ${countText(look.pieces.at(-1)?.length ?? 0)}`
        ) : (
          <Steps
            words={`Piece ${number} ends`}
            value={piece.length}
            show={countText}
            onStep={(clusters) => onMove(moveSeam(pieces, index, clusters * cluster))}
            onType={(text) => {
              const moved = seamTyped(pieces, index, text, cluster);
              if (moved) onMove(moved);
              return moved !== null;
            }}
          />
        )}
      </td>
    </tr>
  );
}

interface StepsProps {
  /** What is moved, for who hears it. */
  readonly words: string;
  readonly value: number;
  show(value: number): string;
  onStep(clusters: 1 | -1): void;
  /** @returns whether the text says something that can be done */
  onType(text: string): boolean;
}

const STEP = { width: 20, height: 24, fontSize: 15 } as const;

/** A number that is moved by clusters, or typed; what cannot be done stays as it was typed, and is marked. */
function Steps({ words, value, show, onStep, onType }: StepsProps) {
  const [typed, setTyped] = useState<string | null>(null);
  const [refused, setRefused] = useState(false);
  const take = () => {
    if (typed === null) return;
    const done = onType(typed);
    setRefused(!done);
    if (done) setTyped(null);
  };
  const step = (clusters: 1 | -1) => {
    setTyped(null);
    setRefused(false);
    onStep(clusters);
  };
  return (
    <span className={styles.steps}>
      <IconButton size="small" sx={STEP} aria-label={`${words} one cluster earlier`} onClick={() => step(-1)}>
        −
      </IconButton>
      <input
        value={typed ?? show(value)}
        aria-label={words}
        aria-invalid={refused}
        title={refused ? "No piece can be laid so." : undefined}
        spellCheck={false}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={take}
        onKeyDown={(event) => {
          if (event.key === "Enter") take();
        }}
      />
      <IconButton size="small" sx={STEP} aria-label={`${words} one cluster later`} onClick={() => step(1)}>
        +
      </IconButton>
    </span>
  );
}
