"use client";

import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { type Source, usedRuns } from "@/server/sources/contract";
import { read as fetchAs } from "../data/request";
import { useAddress } from "../data/use-address";
import { keys, useSources } from "../data/use-job-data";
import { DiskChart, LAYERS, type Layer, type Stretch, type VolumeReading } from "../instruments/DiskChart";
import type { View } from "../instruments/disk-chart-scale";
import { findOwner } from "./ChartStrip";
import styles from "./sources.module.css";

interface Props {
  jobId: number;
  source: Source;
  read: ReadonlyMap<number, VolumeReading>;
  finds: readonly number[];
  focus: Source["volumes"][number] | null;
  /** The byte that was chosen. */
  at: number | null;
  onPick: (byte: number) => void;
}

/** The large chart of one source: its layers can be switched off, and near by each stretch in use is drawn singly. */
export function SourceChart({ jobId, source, read, finds, focus, at, onPick }: Props) {
  const [address, change] = useAddress();
  const [view, setView] = useState<View | null>(null);
  const [hover, setHover] = useState<number | null>(null);
  const hidden = address.get("hide") ?? "";
  const layers = useMemo(() => new Set(LAYERS.filter((layer) => !hidden.split(",").includes(layer))), [hidden]);
  const used = useUsedRuns(jobId, source, view);
  const unreadable = useUnreadable(jobId, source.id);
  const { data: owner } = useQuery({
    queryKey: [...keys.of(jobId, "owner"), source.id, hover],
    queryFn: () => findOwner(jobId, source.id, hover ?? 0),
    enabled: hover !== null,
  });
  const chosen = useMemo(() => (at === null ? [] : [{ at, length: 1 }]), [at]);
  const toggle = (layer: Layer) => {
    const next = LAYERS.filter((each) => (each === layer ? layers.has(each) : !layers.has(each)));
    change({ hide: next.join(",") || null });
  };
  return (
    <>
      <DiskChart
        source={source}
        read={read}
        finds={finds}
        layers={layers}
        used={used}
        unreadable={unreadable}
        chosen={chosen}
        height={64}
        zoomable
        focus={focus}
        hovered={hover !== null && owner ? `${owner.folder.slice(1)}/${owner.name}` : null}
        onPick={onPick}
        onView={setView}
        onHover={setHover}
      />
      <fieldset className={styles.legend}>
        <legend className="visually-hidden">What the chart shows</legend>
        {LAYERS.map((layer) => (
          <label key={layer}>
            <input type="checkbox" checked={layers.has(layer)} onChange={() => toggle(layer)} />
            <i style={{ background: `var(--mui-palette-chart-${TONE[layer]})` }} />
            {WORDS[layer]}
          </label>
        ))}
        <span>wheel zooms, drag moves, a click tells whose byte it is</span>
      </fieldset>
    </>
  );
}

const TONE: Record<Layer, string> = {
  "in use": "buff",
  read: "buffDeep",
  swept: "depth2",
  finds: "depth5",
  unreadable: "ink",
  chosen: "mark",
};
const WORDS: Record<Layer, string> = {
  "in use": "in use",
  read: "records read",
  swept: "swept",
  finds: "lost copy begins",
  unreadable: "unreadable",
  chosen: "chosen",
};

/** The single stretches in use around what is in sight; they are asked for with room on both sides, so that moving a little needs no new ones. */
function useUsedRuns(jobId: number, source: Source, view: View | null) {
  const part = useMemo((): Stretch => {
    if (!view) return { start: 0, end: source.size };
    const span = 2 ** Math.ceil(Math.log2(view.end - view.start));
    const start = Math.max(0, Math.floor(view.start / span) * span);
    return { start, end: Math.min(source.size, start + 2 * span) };
  }, [view, source.size]);
  const { data } = useQuery({
    // Filed apart from the job: what is in use on a source does not change with it.
    queryKey: ["source", source.id, "runs", part],
    queryFn: async ({ signal }) => {
      const address = `/api/jobs/${jobId}/sources/${source.id}/runs?start=${part.start}&end=${part.end}`;
      return { part, runs: (await fetchAs(address, usedRuns, signal)).runs };
    },
    enabled: source.connected && view !== null,
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: keepPreviousData,
    select: toStretches,
  });
  return data ?? null;
}

function toStretches({ part, runs }: { part: Stretch; runs: number[] | null }) {
  if (!runs) return null;
  const stretches: Stretch[] = [];
  for (let i = 0; i + 1 < runs.length; i += 2)
    stretches.push({ start: runs[i] as number, end: (runs[i] as number) + (runs[i + 1] as number) });
  return { part, stretches };
}

/** What the passes could not read of a source. */
function useUnreadable(jobId: number, sourceId: number): readonly Stretch[] {
  const { data: sources } = useSources(jobId);
  return useMemo(() => sources?.find((source) => source.id === sourceId)?.unreadable ?? [], [sources, sourceId]);
}
