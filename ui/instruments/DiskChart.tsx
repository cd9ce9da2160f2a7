"use client";

import { type KeyboardEvent, useCallback, useEffect, useRef, useState } from "react";
import type { Source } from "@/server/sources/contract";
import { coverage, moved, type View, zoomed } from "./disk-chart-scale";
import { bytesText, FILE_SYSTEM_WORDS, offsetText } from "./words";

/** What the chart shows above the bare strip; each can be switched off. */
export const LAYERS = ["in use", "read", "swept", "finds", "unreadable", "chosen"] as const;
export type Layer = (typeof LAYERS)[number];
const ALL_LAYERS: ReadonlySet<Layer> = new Set(LAYERS);

export interface Stretch {
  readonly start: number;
  readonly end: number;
}

/** What passes have read of a volume so far. */
export interface VolumeReading {
  /** Share of its records, 0 … 1. */
  readonly share: number;
  /** Stretches that were looked through for content or leftovers; sorted disk byte offsets. */
  readonly swept: readonly Stretch[];
}

interface Props {
  source: Source;
  /** What passes have read so far, by volume id. */
  read: ReadonlyMap<number, VolumeReading>;
  /** Disk offsets where lost copies begin. */
  finds: readonly number[];
  layers?: ReadonlySet<Layer>;
  /** Stretches that could not be read. */
  unreadable?: readonly Stretch[];
  /** The stretches in use inside the part they were asked for, sorted; without them the volumes' profiles are drawn. */
  used?: { readonly part: Stretch; readonly stretches: readonly Stretch[] } | null;
  /** Called when another part comes into sight. */
  onView?: (view: View) => void;
  /** Called with the byte the pointer rests on; null: it has left. */
  onHover?: (byte: number | null) => void;
  /** Whose byte that is, to be shown beside its offset. */
  hovered?: string | null;
  /** The chosen copy's bytes. */
  chosen?: readonly { at: number; length: number }[];
  height?: number;
  /** With it the wheel zooms and dragging moves. */
  zoomable?: boolean;
  /** The stretch to show: the chart goes there when it changes. */
  focus?: { readonly id: number; readonly offset: number; readonly length: number } | null;
  /** A click that was no drag: the byte under the pointer. */
  onPick?: (byte: number) => void;
}

interface Colours {
  [name: string]: string;
}
const NAMES = [
  "paper",
  "sheet",
  "hairline",
  "inkFaint",
  "ink",
  "buff",
  "buffDeep",
  "depth1",
  "depth2",
  "depth3",
  "depth4",
  "depth5",
  "mark",
  "tidal",
] as const;

function readColours(): Colours {
  const style = getComputedStyle(document.documentElement);
  return Object.fromEntries(NAMES.map((name) => [name, style.getPropertyValue(`--mui-palette-chart-${name}`).trim()]));
}

const NONE: readonly Stretch[] = [];
const NOT_READ: VolumeReading = { share: 0, swept: NONE };
const NONE_CHOSEN: readonly { at: number; length: number }[] = [];
/** The pointer rests when it has not moved for this long, in milliseconds. */
const REST = 250;

/** A source to scale as one strip: what is in use (buff), free (water), read so far (full colour), and the finds. */
export function DiskChart({
  source,
  read,
  finds,
  layers = ALL_LAYERS,
  unreadable = NONE,
  used = null,
  chosen = NONE_CHOSEN,
  height = 30,
  zoomable = false,
  focus = null,
  hovered = null,
  onPick,
  onView,
  onHover,
}: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [width, setWidth] = useState(0);
  const [view, setView] = useState<View>({ start: 0, end: source.size });
  const [pointer, setPointer] = useState<number | null>(null);
  const [scheme, setScheme] = useState(0);

  // biome-ignore lint/correctness/useExhaustiveDependencies: another stretch is one of another id; the same one fetched anew is not
  useEffect(() => {
    if (!focus) return setView({ start: 0, end: source.size });
    const margin = focus.length * 0.02;
    setView({ start: Math.max(0, focus.offset - margin), end: Math.min(source.size, focus.offset + focus.length + margin) });
  }, [source.size, focus?.id]);
  useEffect(() => {
    const element = canvas.current?.parentElement;
    if (!element) return;
    const watch = new ResizeObserver(([entry]) => entry && setWidth(Math.floor(entry.contentRect.width)));
    watch.observe(element);
    // The colours are read from the page, so a change between day and night draws anew.
    const theme = new MutationObserver(() => setScheme((count) => count + 1));
    theme.observe(document.documentElement, { attributes: true });
    return () => {
      watch.disconnect();
      theme.disconnect();
    };
  }, []);

  // biome-ignore lint/correctness/useExhaustiveDependencies: `scheme` changes when the page's colours do
  useEffect(() => {
    const element = canvas.current;
    if (!element || width === 0) return;
    const scale = window.devicePixelRatio || 1;
    element.width = width * scale;
    element.height = height * scale;
    const context = element.getContext("2d");
    if (!context) return;
    context.scale(scale, scale);
    draw(context, { source, read, finds, layers, unreadable, used, chosen, view, width, height, colours: readColours() });
  }, [source, read, finds, layers, unreadable, used, chosen, view, width, height, scheme]);

  const byteAt = useCallback((x: number) => view.start + (x / Math.max(1, width)) * (view.end - view.start), [view, width]);

  useEffect(() => {
    if (!onView) return;
    const timer = setTimeout(() => onView(view), REST);
    return () => clearTimeout(timer);
  }, [view, onView]);
  useEffect(() => {
    if (!onHover) return;
    if (pointer === null) return onHover(null);
    const timer = setTimeout(() => onHover(Math.floor(byteAt(pointer))), REST);
    return () => clearTimeout(timer);
  }, [pointer, byteAt, onHover]);

  // React listens to the wheel passively, and a passive listener cannot keep the page from scrolling.
  useEffect(() => {
    const element = canvas.current;
    if (!element || !zoomable) return;
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const x = event.clientX - element.getBoundingClientRect().left;
      if (event.shiftKey) setView((present) => moved(present, event.deltaY / 800, source.size));
      else
        setView((present) =>
          zoomed(present, event.deltaY > 0 ? 1.25 : 0.8, present.start + (x / width) * (present.end - present.start), source.size),
        );
    };
    element.addEventListener("wheel", wheel, { passive: false });
    return () => element.removeEventListener("wheel", wheel);
  }, [zoomable, width, source.size]);

  const drag = useRef<number | null>(null);
  const pressed = useRef<number | null>(null);
  const onKey = (event: KeyboardEvent) => {
    const middle = (view.start + view.end) / 2;
    if (event.key === "+" || event.key === "=") setView(zoomed(view, 0.5, middle, source.size));
    else if (event.key === "-") setView(zoomed(view, 2, middle, source.size));
    else if (event.key === "ArrowLeft") setView(moved(view, -0.2, source.size));
    else if (event.key === "ArrowRight") setView(moved(view, 0.2, source.size));
    else if (event.key === "0") setView({ start: 0, end: source.size });
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  const owner = pointer === null ? null : [describe(source, byteAt(pointer)), hovered].filter(Boolean).join(": ");
  return (
    <div style={{ position: "relative" }}>
      <canvas
        ref={canvas}
        role="img"
        aria-label={`${source.name}, ${bytesText(source.size)}: ${source.volumes.length} volumes, ${finds.length} finds. The table of volumes says the same in words.`}
        style={{ display: "block", width: "100%", height, cursor: zoomable ? "grab" : "default" }}
        onPointerMove={(event) => {
          const x = event.clientX - event.currentTarget.getBoundingClientRect().left;
          if (drag.current !== null) {
            const share = (drag.current - x) / Math.max(1, width);
            drag.current = x;
            setView((present) => moved(present, share, source.size));
          }
          setPointer(x);
        }}
        tabIndex={zoomable ? 0 : undefined}
        onKeyDown={zoomable ? onKey : undefined}
        onPointerDown={(event) => {
          pressed.current = event.clientX;
          if (!zoomable) return;
          event.currentTarget.setPointerCapture(event.pointerId);
          drag.current = event.clientX - event.currentTarget.getBoundingClientRect().left;
        }}
        onPointerUp={(event) => {
          drag.current = null;
          const still = pressed.current !== null && Math.abs(event.clientX - pressed.current) < 4;
          pressed.current = null;
          if (still && onPick) onPick(Math.floor(byteAt(event.clientX - event.currentTarget.getBoundingClientRect().left)));
        }}
        onPointerLeave={() => setPointer(null)}
        onDoubleClick={() => setView({ start: 0, end: source.size })}
      />
      {view.end - view.start < source.size && <Overview view={view} size={source.size} />}
      <div
        aria-hidden="true"
        style={{
          display: "flex",
          justifyContent: "space-between",
          gap: 12,
          fontSize: 12,
          paddingTop: 3,
          color: "var(--mui-palette-chart-inkSoft)",
          height: 20,
          overflow: "hidden",
          whiteSpace: "nowrap",
        }}
      >
        <span>
          {source.name}, {bytesText(source.size)}
        </span>
        <span style={{ fontFamily: "var(--mono)", fontSize: 11.5 }}>{owner}</span>
        <span>{legend(view, source)}</span>
      </div>
    </div>
  );
}

/** Which part of the whole is in sight. */
function Overview({ view, size }: { view: View; size: number }) {
  const share = (bytes: number) => `${(100 * bytes) / size}%`;
  return (
    <div aria-hidden="true" style={{ position: "relative", height: 5, marginTop: 2, background: "var(--mui-palette-chart-depth1)" }}>
      <i
        style={{
          position: "absolute",
          top: 0,
          bottom: 0,
          left: share(view.start),
          width: `max(3px, ${share(view.end - view.start)})`,
          background: "var(--mui-palette-chart-depth4)",
        }}
      />
    </div>
  );
}

function legend(view: View, source: Source): string {
  if (view.end - view.start >= source.size) return source.connected ? "" : "not connected";
  return `showing ${bytesText(view.end - view.start)} from ${offsetText(Math.round(view.start))}`;
}

function describe(source: Source, byte: number): string {
  const volume = source.volumes.find((each) => each.standing !== "earlier" && byte >= each.offset && byte < each.offset + each.length);
  const where = offsetText(Math.max(0, Math.round(byte)));
  return volume
    ? `${where}  ${volume.label ?? `volume ${volume.number}`} (${FILE_SYSTEM_WORDS[volume.filesystem] ?? volume.filesystem})`
    : `${where}  outside the volumes`;
}

interface Drawing extends Required<Omit<Props, "zoomable" | "onPick" | "onView" | "onHover" | "hovered" | "focus">> {
  view: View;
  width: number;
  colours: Colours;
}

function draw(context: CanvasRenderingContext2D, drawing: Drawing): void {
  const { source, read, finds, layers, unreadable, chosen, view, width, height, colours } = drawing;
  const colour = (name: (typeof NAMES)[number]) => colours[name] ?? "#888";
  const perByte = width / (view.end - view.start);
  const x = (byte: number) => (byte - view.start) * perByte;
  context.fillStyle = colour("paper");
  context.fillRect(0, 0, width, height);
  context.fillStyle = colour("hairline");
  for (let at = 0; at < width; at += 6) context.fillRect(at, height - 1, 3, 1);

  for (const volume of source.volumes) {
    const left = x(volume.offset);
    const right = x(volume.offset + volume.length);
    if (right < 0 || left > width) continue;
    drawVolume(context, { volume, left, right, reading: read.get(volume.id) ?? NOT_READ }, drawing, colour);
  }
  const fill = (stretches: readonly Stretch[], tone: string, top: number, tall: number) => {
    context.fillStyle = tone;
    const columns = coverage(stretches, view, width);
    for (let column = 0; column < width; column += 1) if ((columns[column] as number) > 0) context.fillRect(column, top, 1, tall);
  };
  if (layers.has("unreadable")) fill(unreadable, colour("ink"), height - 4, 4);
  if (layers.has("finds")) {
    const marks = finds.map((at) => ({ start: at, end: at + 1 / perByte })).sort((a, b) => a.start - b.start);
    fill(marks, colour("depth5"), height - 9, 9);
  }
  if (!layers.has("chosen")) return;
  context.fillStyle = colour("mark");
  for (const { at, length } of chosen) {
    const left = x(at);
    if (left > width || x(at + length) < 0) continue;
    context.fillRect(left, 0, Math.max(2, length * perByte), height);
  }
}

interface DrawnVolume {
  volume: Source["volumes"][number];
  /** Where its ends lie, in pixels; they may lie out of sight. */
  left: number;
  right: number;
  reading: VolumeReading;
}

function drawVolume(
  context: CanvasRenderingContext2D,
  { volume, left, right, reading }: DrawnVolume,
  { layers, used, view, width, height }: Drawing,
  colour: (name: (typeof NAMES)[number]) => string,
): void {
  const from = Math.max(0, left);
  const to = Math.min(width, right);
  // One of an earlier division lies under the present ones: only its outline shows, in the upper half.
  if (volume.standing === "earlier") {
    context.strokeStyle = colour("mark");
    context.setLineDash([5, 3]);
    context.strokeRect(Math.round(from) + 0.5, 2.5, Math.max(0, Math.round(to - from) - 1), height / 2 - 4);
    context.setLineDash([]);
    return;
  }
  context.fillStyle = volume.readable ? colour("depth1") : colour("tidal");
  context.fillRect(from, 0, Math.max(1, to - from), height);
  const swept = coverage(layers.has("swept") ? reading.swept : NONE, view, width);
  context.fillStyle = colour("depth2");
  for (let px = Math.floor(from); px < to; px += 1) if ((swept[px] ?? 0) >= 0.5) context.fillRect(px, 0, 1, height);
  const share = layers.has("read") ? reading.share : 0;
  const readTo = left + (right - left) * share;
  const shares = layers.has("in use") ? usedShares(volume, { left, right }, used, view, width) : null;
  for (let px = Math.floor(from); shares && px < to; px += 1) {
    const share = shares(px);
    if (share === 0) continue;
    context.globalAlpha = 0.35 + 0.65 * share;
    context.fillStyle = px < readTo ? colour("buffDeep") : colour("buff");
    context.fillRect(px, 0, 1, height);
    context.globalAlpha = 1;
  }
  if (share > 0 && share < 1) {
    context.fillStyle = colour("depth5");
    context.fillRect(readTo, 0, 2, height);
  }
  context.strokeStyle = colour("inkFaint");
  context.lineWidth = 1;
  context.setLineDash(volume.standing === "lost" ? [5, 3] : []);
  context.strokeRect(Math.round(from) + 0.5, 0.5, Math.max(0, Math.round(to - from) - 1), height - 1);
  context.setLineDash([]);
}

/** How much of a column is in use, 0 … 1: by the single stretches where they are known, else by the volume's profile. */
function usedShares(
  { usage }: Source["volumes"][number],
  { left, right }: { left: number; right: number },
  used: Props["used"],
  view: View,
  width: number,
): ((px: number) => number) | null {
  if (used && used.part.start <= view.start && used.part.end >= view.end) {
    const columns = coverage(used.stretches, view, width);
    return (px) => columns[px] ?? 0;
  }
  if (usage.length === 0) return null;
  return (px) => {
    const first = Math.floor(((px - left) / (right - left)) * usage.length);
    const last = Math.max(first + 1, Math.ceil(((px + 1 - left) / (right - left)) * usage.length));
    let most = 0;
    for (let i = Math.max(0, first); i < Math.min(usage.length, last); i += 1) most = Math.max(most, usage[i] as number);
    return most / 255;
  };
}
