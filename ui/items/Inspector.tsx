"use client";

import Button from "@mui/material/Button";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import dynamic from "next/dynamic";
import { Fragment } from "react";
import type { ContentFacts, Copy, ItemDetail } from "@/server/items/contract";
import { write } from "../data/request";
import { useAddress } from "../data/use-address";
import { keys, useJob } from "../data/use-job-data";
import { ConditionMark } from "../instruments/ConditionMark";
import { Problem, problemText } from "../instruments/Problem";
import {
  ABSENCE_WORDS,
  bytesText,
  countText,
  durationText,
  exactBytes,
  momentText,
  offsetText,
  PLACE_WORDS,
  pixelsText,
} from "../instruments/words";
import { Preview } from "../previews/Preview";
import { CopyList } from "./CopyList";
import styles from "./items.module.css";
import { OpenInside } from "./OpenInside";
import { Pieces } from "./Pieces";
import { ReadRecords } from "./ReadRecords";
import { Repair } from "./Repair";
import { isUnsized, openedCopy } from "./rows";
import { useItemDetail } from "./use-items";
import { useInTray, useTrayChange } from "./use-tray-change";

/** Files named at most that stand where bytes of a copy were. */
const MOST_TAKERS = 8;

// Comparing brings its own tools; they come when they are asked for.
const Compare = dynamic(() => import("../compare/Compare").then((module) => module.Compare), { ssr: false });

/** One item: its content first, then the evidence for it, then its other copies. */
export function Inspector({ jobId, itemId }: { jobId: number; itemId: number }) {
  const [address, change] = useAddress();
  const { data: item, error, reading } = useItemDetail(jobId, itemId, [address.get("copy"), address.get("compare")]);
  const { data: job } = useJob(jobId);
  const held = useHeld(jobId);
  const zone = job?.timeZone ?? "UTC";
  if (!item) return <Problem>{problemText(error)}</Problem>;
  const copy = openedCopy(item, address);
  if (!copy && reading)
    return (
      <p className={styles.held} role="status">
        Reading this version …
      </p>
    );
  if (!copy)
    return (
      <Problem>
        {problemText(error) ?? "This version is not among the copies of the file any more. Open the file again from the list."}
      </Problem>
    );
  const compared = item.list.find((each) => String(each.id) === address.get("compare") && each !== copy);
  const comparing = address.get("compare") === "held" && held && held.copy.id !== copy.id ? held.copy : compared;
  return (
    <>
      <h2>{item.name}</h2>
      <p className={styles.where}>
        {item.volumeLabel}{" "}
        {item.folder
          .split("/")
          .filter(Boolean)
          .map((part) => `/ ${part} `)}
      </p>
      <Preview
        key={copy.id}
        copyId={copy.id}
        name={item.name}
        size={copy.size}
        runs={copy.runs}
        nameOnly={copy.condition === "name-only"}
      />
      <Evidence copy={copy} item={item} zone={zone} />
      <CheckWhenSeen key={`check ${copy.id}`} jobId={jobId} copy={copy} />
      <Repair key={`repair ${copy.id} ${copy.condition}`} copy={copy} />
      <Pieces key={`pieces ${copy.id}`} jobId={jobId} copy={copy} />
      <ReadRecords key={`records ${copy.id}`} jobId={jobId} itemId={itemId} copy={copy} />
      <OpenInside key={`inside ${copy.id}`} jobId={jobId} copy={copy} />
      <ChooseCopy jobId={jobId} item={item} copy={copy} />
      <IntoTray jobId={jobId} item={item} copy={copy} />
      <Sought jobId={jobId} item={item} />
      <Held item={item} copy={copy} held={held} />
      {item.list.length > 1 && <CopyList item={item} copy={copy} zone={zone} />}
      {comparing && (
        <Compare
          jobId={jobId}
          name={comparing === compared ? item.name : `${item.name} and ${held?.item.name}`}
          first={copy}
          second={comparing}
          zone={zone}
          onClose={() => change({ compare: null })}
        />
      )}
    </>
  );
}

/** Puts the copy that is shown into the tray, and no other. Several copies of one item may be there. */
function IntoTray({ jobId, item, copy }: { jobId: number; item: ItemDetail; copy: Copy }) {
  const tray = useTrayChange(jobId);
  const best = useInTray(item);
  const inTray = copy.best ? best : copy.inTray;
  const change = () =>
    tray.change(copy.best && item.alsoInTray === 0 ? { items: [item.id], chosen: !inTray } : { copies: [copy.id], chosen: !inTray });
  return (
    <>
      <Button variant={inTray ? "outlined" : "contained"} disabled={tray.isPending} onClick={change}>
        {inTray ? "Take out of the tray" : "Put into the tray"}
      </Button>
      <Problem>{problemText(tray.error)}</Problem>
    </>
  );
}

/** Has the content of a live copy looked at, once it is shown: a record vouches for its place, not for its content. */
function CheckWhenSeen({ jobId, copy }: { jobId: number; copy: Copy }) {
  const client = useQueryClient();
  const unseen = copy.state === "live" && copy.evidence.content === null && copy.runs.length > 0 && copy.condition !== "name-only";
  const { isFetching, error } = useQuery({
    queryKey: ["check", copy.id],
    queryFn: async () => {
      await write("POST", `/api/copies/${copy.id}/check`);
      await client.invalidateQueries({ queryKey: keys.of(jobId, "item") });
      return true;
    },
    enabled: unseen,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  if (isFetching)
    return (
      <p className={styles.held} role="status">
        Checking whether it opens …
      </p>
    );
  return <Problem>{problemText(error)}</Problem>;
}

/** Says that this is what was looked for: what is left of the plan is then not needed. */
function Sought({ jobId, item }: { jobId: number; item: ItemDetail }) {
  const client = useQueryClient();
  const found = useMutation({
    mutationFn: (itemId: number | null) => write("POST", `/api/jobs/${jobId}/plan`, { do: "found", itemId }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  return (
    <>
      <Button variant="outlined" sx={{ ml: 2 }} disabled={found.isPending} onClick={() => found.mutate(item.sought ? null : item.id)}>
        {item.sought ? "Not what was looked for" : "This is what was lost"}
      </Button>
      <Problem>{problemText(found.error)}</Problem>
    </>
  );
}

interface HeldCopy {
  readonly item: ItemDetail;
  readonly copy: Copy;
}

/** The copy kept in hand to be compared with one of another item; it is named in the address as "item.copy". */
function useHeld(jobId: number): HeldCopy | null {
  const [address] = useAddress();
  const [itemId, copyId] = (address.get("held") ?? "").split(".").map(Number);
  const { data: item } = useItemDetail(jobId, itemId || null, [copyId ? String(copyId) : null]);
  const copy = item?.list.find((each) => each.id === copyId);
  return item && copy ? { item, copy } : null;
}

function Held({ item, copy, held }: { item: ItemDetail; copy: Copy; held: HeldCopy | null }) {
  const [, change] = useAddress();
  const mine = held?.copy.id === copy.id;
  return (
    <p className={styles.held}>
      {held && !mine && (
        <button type="button" onClick={() => change({ compare: "held" }, true)}>
          Compare with {held.item.name}
        </button>
      )}
      {mine ? (
        <>
          <span>In hand: open another item to compare the two.</span>
          <button type="button" onClick={() => change({ held: null })}>
            Let go
          </button>
        </>
      ) : (
        <button type="button" onClick={() => change({ held: `${item.id}.${copy.id}` })}>
          Keep in hand to compare
        </button>
      )}
    </p>
  );
}

/** The bench proposes the best copy; the technician may take another. */
function ChooseCopy({ jobId, item, copy }: { jobId: number; item: ItemDetail; copy: Copy }) {
  const client = useQueryClient();
  const choose = useMutation({
    mutationFn: (copyId: number | null) => write("PATCH", `/api/items/${item.id}`, { copyId }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  if (copy.best && !item.overruled) return null;
  return (
    <>
      {!copy.best && (
        <Button variant="outlined" sx={{ mr: 2 }} disabled={choose.isPending} onClick={() => choose.mutate(copy.id)}>
          Take this copy instead
        </Button>
      )}
      {copy.best && item.overruled && (
        <Button variant="text" sx={{ mr: 2 }} disabled={choose.isPending} onClick={() => choose.mutate(null)}>
          Leave the choice to the bench
        </Button>
      )}
      <Problem>{problemText(choose.error)}</Problem>
    </>
  );
}

function contentText(copy: Copy): string {
  const { content } = copy.evidence;
  if (copy.condition === "name-only") return "not here: only its name is known";
  if (copy.state === "live" && !content) return copy.runs.length > 0 ? "not looked at yet" : "none to look at";
  if (copy.evidence.usedByOthers + copy.evidence.takenLater > 0) return "parts of it are overwritten: what is there may be another file’s";
  if (!content) return copy.condition === "whole" ? "kept in the record itself" : "not looked at";
  const words: Record<string, string> = {
    agrees: content.checked ? "opens: followed to its end and sound" : "begins as its name says",
    differs: "does not begin as its name says",
    damaged: "does not open as it is",
    zeros: "nothing but zeros",
    unknown: "its type is not checked",
  };
  return words[content.finding] ?? content.finding;
}

function bytesLeft(copy: Copy): string {
  if (isUnsized(copy)) return "not known";
  const { usedByOthers, takenLater, lost, unreadable } = copy.evidence;
  const left = copy.condition === "name-only" ? 0 : Math.max(0, copy.size - usedByOthers - takenLater - lost - unreadable);
  return `${countText(left)} of ${countText(copy.size)}`;
}

/** What the content says of itself. */
function Facts({ facts }: { facts: ContentFacts }) {
  const rows: readonly (readonly [string, string | undefined])[] = [
    ["Title", facts.title],
    ["Author", facts.author],
    ["Taken", facts.taken === undefined ? undefined : `${momentText(new Date(facts.taken), "UTC")}, by the camera’s clock`],
    ["Camera", facts.camera],
    ["Pixels", pixelsText(facts) || undefined],
    ["Length", facts.duration === undefined ? undefined : durationText(facts.duration)],
    ["Pages", facts.pages === undefined ? undefined : countText(facts.pages)],
    ["Begins", facts.text === undefined ? undefined : `${facts.text.slice(0, 120)}${facts.text.length > 120 ? " …" : ""}`],
    ["Stands in", facts.inside],
  ];
  return rows.map(([title, words]) =>
    words === undefined ? null : (
      <Fragment key={title}>
        <dt>{title}</dt>
        <dd>{words}</dd>
      </Fragment>
    ),
  );
}

function Evidence({ copy, item, zone }: { copy: Copy; item: ItemDetail; zone: string }) {
  const [first] = copy.runs;
  return (
    <>
      <dl className={styles.facts}>
        <dt>Condition</dt>
        <dd>
          <ConditionMark
            condition={copy.condition}
            survival={copy.survival}
            live={copy.state === "live"}
            opens={copy.evidence.content === null ? null : "unknown"}
          />
        </dd>
        <dt>Content</dt>
        <dd>{contentText(copy)}</dd>
        <dt>Bytes left</dt>
        <dd title={isUnsized(copy) ? undefined : exactBytes(copy.size)}>{bytesLeft(copy)}</dd>
        {copy.takenBy.length > 0 && (
          <>
            <dt>Overwritten by</dt>
            <dd>
              {copy.takenBy
                .slice(0, MOST_TAKERS)
                .map((path) => path.slice(1))
                .join(", ")}
              {copy.takenBy.length > MOST_TAKERS && <> and {copy.takenBy.length - MOST_TAKERS} more</>}
            </dd>
          </>
        )}
        <dt>Found</dt>
        <dd>
          {copy.found ? copy.found.rule : copy.present ? PLACE_WORDS[copy.place] : copy.state === "live" ? "Live file" : "Deleted file"}
          {copy.file ? "" : `, ${copy.reference}`} of {item.sourceName}
        </dd>
        {copy.present && (
          <>
            <dt>Stood</dt>
            <dd>
              from {momentText(copy.present.from, zone)}
              {copy.present.until ? ` until ${momentText(copy.present.until, zone)}` : ", in the last state too"}
            </dd>
          </>
        )}
        {copy.found && (
          <>
            <dt>Found as</dt>
            <dd>{copy.found.path.slice(1)}</dd>
          </>
        )}
        <dt>Changed</dt>
        <dd>{momentText(copy.modified, zone)}</dd>
        <dt>Created</dt>
        <dd>{momentText(copy.created, zone)}</dd>
        {copy.deletedAt && (
          <>
            <dt>Deleted</dt>
            <dd>{momentText(copy.deletedAt, zone)}</dd>
          </>
        )}
        {copy.links > 1 && (
          <>
            <dt>Names</dt>
            <dd>{countText(copy.links)} names on the volume mean this file</dd>
          </>
        )}
        {copy.streams.length > 0 && (
          <>
            <dt>Streams</dt>
            <dd>{copy.streams.map((stream) => `${stream.name} (${bytesText(stream.size)})`).join(", ")}</dd>
          </>
        )}
        {copy.absent && (
          <>
            <dt>Content</dt>
            <dd>{ABSENCE_WORDS[copy.absent]}</dd>
          </>
        )}
        <dt>Bytes at</dt>
        <dd style={{ fontFamily: "var(--mono)", fontSize: 12 }}>
          {copy.file ? (copy.inArchive ? "in its archive" : "the file’s own") : first ? offsetText(first.at) : "nowhere"}
          {copy.runs.length > 1 && !copy.inArchive ? `, ${copy.runs.length} pieces` : ""}
        </dd>
        {copy.facts && <Facts facts={copy.facts} />}
        <dt>Why this</dt>
        <dd>{copy.reason}</dd>
      </dl>
      {copy.notes.length > 0 && (
        <ul className={styles.notes}>
          {copy.notes.map((note) => (
            <li key={note}>{note}</li>
          ))}
        </ul>
      )}
    </>
  );
}
