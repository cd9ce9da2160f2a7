"use client";

import { type KeyboardEvent, useCallback, useEffect, useRef, useState } from "react";
import type { Source } from "@/server/sources/contract";
import { coverage, moved, type View, zoomed } from "./disk-chart-scale";
import { bytesText, FILE_SYSTEM_WORDS, offsetText } from "./words";

interface Props {
  source: Source;
  /** Share of each volume that was read, 0 … 1, by volume id. */
  read: ReadonlyMap<number, number>;
  /** Disk offsets where lost copies begin. */
  finds: readonly number[];
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

/** A source to scale as one strip: what is in use (buff), free (water), read so far (full colour), and the finds. */
export function DiskChart({ source, read, finds, chosen = [], height = 30, zoomable = false, focus = null, onPick }: Props) {
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
    draw(context, { source, read, finds, chosen, view, width, height, colours: readColours() });
  }, [source, read, finds, chosen, view, width, height, scheme]);

  const byteAt = useCallback((x: number) => view.start + (x / Math.max(1, width)) * (view.end - view.start), [view, width]);

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
  const owner = pointer === null ? null : describe(source, byteAt(pointer));
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
  const volume = source.volumes.find((each) => byte >= each.offset && byte < each.offset + each.length);
  const where = offsetText(Math.max(0, Math.round(byte)));
  return volume
    ? `${where}  ${volume.label ?? `volume ${volume.number}`} (${FILE_SYSTEM_WORDS[volume.filesystem] ?? volume.filesystem})`
    : `${where}  outside the volumes`;
}

interface Drawing extends Required<Omit<Props, "zoomable" | "onPick" | "focus">> {
  view: View;
  width: number;
  colours: Colours;
}

function draw(context: CanvasRenderingContext2D, { source, read, finds, chosen, view, width, height, colours }: Drawing): void {
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
    drawVolume(context, volume, Math.max(0, left), Math.min(width, right), left, right, height, read.get(volume.id) ?? 0, colour);
  }
  const findColumns = coverage(
    finds.map((at) => ({ start: at, end: at + 1 / perByte })).sort((a, b) => a.start - b.start),
    view,
    width,
  );
  context.fillStyle = colour("depth5");
  for (let column = 0; column < width; column += 1) if ((findColumns[column] as number) > 0) context.fillRect(column, height - 9, 1, 9);
  context.fillStyle = colour("mark");
  for (const { at, length } of chosen) {
    const left = x(at);
    if (left > width || x(at + length) < 0) continue;
    context.fillRect(left, 0, Math.max(2, length * perByte), height);
  }
}

function drawVolume(
  context: CanvasRenderingContext2D,
  volume: Source["volumes"][number],
  from: number,
  to: number,
  left: number,
  right: number,
  height: number,
  share: number,
  colour: (name: (typeof NAMES)[number]) => string,
): void {
  const readTo = left + (right - left) * share;
  context.fillStyle = volume.readable ? colour("depth1") : colour("tidal");
  context.fillRect(from, 0, Math.max(1, to - from), height);
  const { usage } = volume;
  for (let px = Math.floor(from); px < to && usage.length > 0; px += 1) {
    const first = Math.floor(((px - left) / (right - left)) * usage.length);
    const last = Math.max(first + 1, Math.ceil(((px + 1 - left) / (right - left)) * usage.length));
    let most = 0;
    for (let i = Math.max(0, first); i < Math.min(usage.length, last); i += 1) most = Math.max(most, usage[i] as number);
    if (most === 0) continue;
    context.globalAlpha = 0.35 + 0.65 * (most / 255);
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
  context.strokeRect(Math.round(from) + 0.5, 0.5, Math.max(0, Math.round(to - from) - 1), height - 1);
}
