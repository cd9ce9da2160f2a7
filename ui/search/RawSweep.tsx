"use client";

import Button from "@mui/material/Button";
import Slider from "@mui/material/Slider";
import { useState } from "react";
import type { Pass, PassOptions } from "@/server/passes/contract";
import { timeFor } from "@/server/plan/contract";
import type { Source } from "@/server/sources/contract";
import { useFinds, usePlan } from "../data/use-job-data";
import type { Stretch } from "../instruments/DiskChart";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, durationText, FILE_SYSTEM_WORDS, KIND_WORDS } from "../instruments/words";
import { useVolumeReadings } from "../sources/read-stretches";
import { useStart } from "./NotReadYet";
import styles from "./search.module.css";

interface Place {
  readonly source: Source;
  readonly volume: Source["volumes"][number];
}

/** Volumes whose content can be searched: all that are connected and not closed, folders of this computer left out. */
export const sweepable = (sources: readonly Source[]): Place[] =>
  sources.flatMap((source) =>
    source.container === "folder" ? [] : source.volumes.filter((volume) => !volume.closed).map((volume) => ({ source, volume })),
  );

/** Starts a search for files by what they look like inside: where, which kinds, how closely, and how long it will take. */
export function RawSweep({ jobId, places, passes }: { jobId: number; places: readonly Place[]; passes: readonly Pass[] }) {
  const [chosenId, setChosen] = useState<number | null>(null);
  const [range, setRange] = useState<[number, number]>([0, 100]);
  const [kinds, setKinds] = useState<readonly string[]>([]);
  const [unused, setUnused] = useState(true);
  const [everyByte, setEveryByte] = useState(false);
  const [longer, setLonger] = useState(false);
  const [again, setAgain] = useState(false);
  const start = useStart(jobId);
  const { data: plan } = usePlan(jobId);
  const { data: finds = [] } = useFinds(jobId);
  const readings = useVolumeReadings(jobId);
  const place = places.find(({ volume }) => volume.id === chosenId) ?? places[0];
  if (!place) return null;
  const { source, volume } = place;
  const onlyUnused = unused && volume.readable && volume.usedBytes !== null;
  const part = (range[1] - range[0]) / 100;
  const bytes = volume.length * part - (onlyUnused ? (volume.usedBytes ?? 0) * part : 0);
  const options: PassOptions = {
    ...(range[0] > 0 || range[1] < 100 ? { from: range[0], to: range[1] } : {}),
    ...(kinds.length > 0 ? { kinds: kinds as NonNullable<PassOptions["kinds"]> } : {}),
    ...(onlyUnused ? { unused: true } : {}),
    ...(everyByte ? { everyByte: true } : {}),
    ...(longer ? { longer: true } : {}),
    ...(again ? { again: true } : {}),
  };
  const swept = passes.some((pass) => pass.place === "raw" && pass.storeId === volume.id);
  const typed = (index: 0 | 1, label: string) => (
    <input
      type="number"
      min={0}
      max={100}
      value={range[index]}
      aria-label={label}
      onChange={(event) => {
        const value = Math.max(0, Math.min(100, Number(event.target.value) || 0));
        setRange(index === 0 ? [Math.min(value, range[1]), range[1]] : [range[0], Math.max(value, range[0])]);
      }}
    />
  );
  return (
    <section aria-label="Raw content" className={styles.sweep}>
      <h2>Raw content</h2>
      <p className={styles.lead}>
        Finds files by what they look like inside, where no record leads to them any more. They come without folders, named from what stands
        in them; slow.
      </p>
      <div className={styles.sweepForm}>
        <label>
          Volume
          <select value={volume.id} onChange={(event) => setChosen(Number(event.target.value))}>
            {places.map((each) => (
              <option key={each.volume.id} value={each.volume.id}>
                {each.volume.label ?? `volume ${each.volume.number}`} of {each.source.name}, {FILE_SYSTEM_WORDS[each.volume.filesystem]},{" "}
                {bytesText(each.volume.length)}
              </option>
            ))}
          </select>
        </label>
        <div className={styles.sweepChart}>
          <RangeStrip
            volume={volume}
            swept={readings.get(volume.id)?.swept ?? []}
            finds={finds.find((each) => each.sourceId === source.id)?.at ?? []}
            range={range}
          />
          <Slider
            value={range}
            onChange={(_, value) => setRange(value as [number, number])}
            getAriaLabel={(index) => (index === 0 ? "Where the sweep begins, in percent" : "Where the sweep ends, in percent")}
            size="small"
          />
        </div>
        <p>
          From {typed(0, "Sweep from percent")} to {typed(1, "Sweep to percent")} % of the volume: {bytesText(bytes)} to look through,{" "}
          {aboutText(timeFor("raw", bytes, plan?.speeds ?? {}) * (everyByte ? 2 : 1))}.
        </p>
        <fieldset>
          <legend>Kinds</legend>
          {Object.entries(KIND_WORDS)
            .filter(([kind]) => kind !== "other")
            .map(([kind, title]) => (
              <label key={kind}>
                <input
                  type="checkbox"
                  checked={kinds.includes(kind)}
                  onChange={(event) => setKinds(event.target.checked ? [...kinds, kind] : kinds.filter((each) => each !== kind))}
                />
                {title}
              </label>
            ))}
          <span>{kinds.length === 0 ? "none ticked: all kinds" : ""}</span>
        </fieldset>
        <fieldset>
          <legend>How</legend>
          {volume.readable && volume.usedBytes !== null && (
            <label>
              <input type="checkbox" checked={unused} onChange={(event) => setUnused(event.target.checked)} />
              Only where nothing is in use
            </label>
          )}
          <label>
            <input type="checkbox" checked={everyByte} onChange={(event) => setEveryByte(event.target.checked)} />
            Every byte, not only where sectors begin: finds what stands inside other files too
          </label>
          <label>
            <input type="checkbox" checked={longer} onChange={(event) => setLonger(event.target.checked)} />
            Look longer for pieces: up to 128 MiB away, and with more tries; where much lies in pieces, several times as slow
          </label>
          {swept && (
            <label>
              <input type="checkbox" checked={again} onChange={(event) => setAgain(event.target.checked)} />
              Also what was swept before
            </label>
          )}
        </fieldset>
        <div className={styles.buttons}>
          <Button
            variant="outlined"
            disabled={!source.connected || start.isPending || part <= 0}
            onClick={() => start.mutate([{ storeId: volume.id, place: "raw", options }])}
          >
            Start the sweep
          </Button>
        </div>
        <Problem>{problemText(start.error)}</Problem>
      </div>
    </section>
  );
}

const COLUMNS = 256;

interface StripProps {
  volume: Place["volume"];
  swept: readonly Stretch[];
  finds: readonly number[];
  range: readonly [number, number];
}

/** The volume from its first to its last byte: what is in use, what was looked through, where finds begin, and the part that is asked for. */
function RangeStrip({ volume, swept, finds, range }: StripProps) {
  const { usage, offset, length } = volume;
  const columns = Math.min(COLUMNS, usage.length);
  const used = Array.from({ length: columns }, (_, i) => {
    const part = usage.slice(Math.floor((i * usage.length) / columns), Math.floor(((i + 1) * usage.length) / columns));
    return { x: (i * 1000) / columns, height: (40 * part.reduce((sum, each) => sum + each, 0)) / Math.max(1, part.length) / 255 };
  });
  const marks = finds.filter((at) => at >= offset && at < offset + length).slice(0, 2000);
  const [from, to] = [range[0] * 10, range[1] * 10];
  return (
    <svg
      className={styles.strip}
      viewBox="0 0 1000 40"
      preserveAspectRatio="none"
      role="img"
      aria-label="The volume: what is in use, what was looked through, and finds"
    >
      <rect width={1000} height={40} className={styles.water} />
      {swept.slice(0, 2000).map(({ start, end }) => (
        <rect
          key={`${start} ${end}`}
          x={((start - offset) / length) * 1000}
          width={((end - start) / length) * 1000}
          height={40}
          className={styles.swept}
        />
      ))}
      {used.map(({ x, height }) => (
        <rect key={x} x={x} y={40 - height} width={1000 / columns + 0.5} height={height} className={styles.land} />
      ))}
      {marks.map((at) => (
        <rect key={at} x={((at - offset) / length) * 1000} y={0} width={1.2} height={9} className={styles.find} />
      ))}
      <rect width={from} height={40} className={styles.outside} />
      <rect x={to} width={1000 - to} height={40} className={styles.outside} />
    </svg>
  );
}

/** A time to come, as it is said in a sentence. */
const aboutText = (ms: number) => (ms < 1000 ? "in less than a second" : `in about ${durationText(ms)}`);
