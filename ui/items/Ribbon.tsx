"use client";

import { useEffect, useRef } from "react";
import type { Mark } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { PlaceMark } from "../instruments/PlaceMark";
import { placeOf, type Span, ticks, zoomedSpan } from "../instruments/time-scale";
import { conditionText, PLACE_WORDS } from "../instruments/words";
import { asOfAddress, density, type Moment, nearestMoment } from "./moments";

const EDGE = 6;
const inside = (x: number, width: number) => x >= -EDGE && x <= width + EDGE;

interface RibbonProps {
  marks: readonly Mark[];
  span: Span;
  width: number;
  height: number;
  loss: number | null;
  asOf: number | null;
}

/** One item's copies on the shared time axis, and the moment of the loss as one line through all rows. */
export function Ribbon({ marks, span, width, height, loss, asOf }: RibbonProps) {
  const middle = height / 2;
  const lost = loss === null ? null : placeOf(loss, span, width);
  const then = asOf === null ? null : placeOf(asOf, span, width);
  const placed = marks
    .flatMap((mark) => (mark.at === null ? [] : [{ mark, x: placeOf(mark.at, span, width) }]))
    .filter(({ x }) => inside(x, width));
  const words = marks.map(
    (mark) => `${PLACE_WORDS[mark.place]} ${mark.live ? "live" : "deleted"}, ${conditionText(mark.condition, mark.survival)}`,
  );
  return (
    <svg
      width={width}
      height={height}
      role="img"
      aria-label={words.join("; ") || "no copies"}
      style={{ display: "block", overflow: "hidden" }}
    >
      <line x1="0" x2={width} y1={middle} y2={middle} stroke="var(--mui-palette-chart-hairline)" strokeWidth="1.5" />
      {lost !== null && inside(lost, width) && (
        <line x1={lost} x2={lost} y1="0" y2={height} stroke="var(--mui-palette-chart-mark)" strokeWidth="1.2" />
      )}
      {then !== null && inside(then, width) && (
        <line x1={then} x2={then} y1="0" y2={height} stroke="var(--mui-palette-chart-depth4)" strokeWidth="1.2" strokeDasharray="2 2" />
      )}
      {placed.map(({ mark, x }, index) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: marks have no identity of their own and are drawn anew together
        <PlaceMark key={index} mark={mark} x={x} y={middle} />
      ))}
    </svg>
  );
}

/** Pixels of a column in which states are counted together, and within which a click means one. */
const COLUMN = 3;
const NEAR = 6;
/** The tallest column of states. */
const TALLEST = 8;

interface AxisProps {
  span: Span;
  width: number;
  loss: number | null;
  /** The states of snapshots and backup sets, and at which the list stands; null: it is as it is now. */
  moments: readonly Moment[];
  asOf: number | null;
  onChange: (span: Span | null) => void;
}

/** The axis the ribbons share: the wheel zooms, dragging moves, double click fits again. */
export function RibbonAxis({ span, width, loss, moments, asOf, onChange }: AxisProps) {
  const [, change] = useAddress();
  const element = useRef<SVGSVGElement>(null);
  const drag = useRef<{ x: number; span: Span } | null>(null);
  useEffect(() => {
    const svg = element.current;
    if (!svg) return;
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const x = event.clientX - svg.getBoundingClientRect().left;
      onChange(zoomedSpan(span, event.deltaY > 0 ? 1.25 : 0.8, span.start + (x / width) * (span.end - span.start)));
    };
    svg.addEventListener("wheel", wheel, { passive: false });
    return () => svg.removeEventListener("wheel", wheel);
  }, [span, width, onChange]);
  const lost = loss === null ? null : placeOf(loss, span, width);
  const place = (at: number) => placeOf(at, span, width);
  const columns = density(moments, place, width, COLUMN);
  const most = Math.max(1, ...columns.values());
  const then = asOf === null ? null : place(asOf);
  return (
    <svg
      ref={element}
      width={width}
      height="28"
      role="img"
      aria-label="Time axis of the copies. The wheel zooms, dragging moves, a double click fits it again; a click on a state shows the list as it was then."
      style={{ display: "block", cursor: "ew-resize", touchAction: "none", overflow: "hidden" }}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        drag.current = { x: event.clientX, span };
      }}
      onPointerMove={(event) => {
        if (!drag.current) return;
        const step = ((drag.current.x - event.clientX) / width) * (drag.current.span.end - drag.current.span.start);
        onChange({ start: drag.current.span.start + step, end: drag.current.span.end + step });
      }}
      onPointerUp={(event) => {
        const x = event.clientX - event.currentTarget.getBoundingClientRect().left;
        const moment = Math.abs((drag.current?.x ?? 0) - event.clientX) < 2 ? nearestMoment(moments, place, x, NEAR) : null;
        if (moment !== null) change(asOfAddress(moment), true);
        drag.current = null;
      }}
      onDoubleClick={() => onChange(null)}
    >
      {[...columns].map(([x, count]) => {
        const height = Math.max(2, (Math.log1p(count) / Math.log1p(most)) * TALLEST);
        return <rect key={x} x={x} y="0" width={COLUMN - 1} height={height} fill="var(--mui-palette-chart-depth3)" />;
      })}
      {then !== null && inside(then, width) && (
        <line x1={then} x2={then} y1="0" y2="28" stroke="var(--mui-palette-chart-depth4)" strokeWidth="1.5" />
      )}
      {ticks(span, width).map(({ at, words }) => {
        const x = placeOf(at, span, width);
        return (
          <g key={at}>
            <line x1={x} x2={x} y1="23" y2="28" stroke="var(--mui-palette-chart-inkFaint)" />
            {/* The word "lost" goes before a tick's. */}
            {(lost === null || Math.abs(x - lost) > 40) && (
              <text x={Math.min(x, width - 26)} y="19" fontSize="11" fill="var(--mui-palette-chart-inkSoft)">
                {words}
              </text>
            )}
          </g>
        );
      })}
      {lost !== null && inside(lost, width) && (
        <>
          <line x1={lost} x2={lost} y1="21" y2="28" stroke="var(--mui-palette-chart-mark)" strokeWidth="1.2" />
          <text x={Math.max(10, Math.min(lost, width - 10))} y="18" fontSize="11" textAnchor="middle" fill="var(--mui-palette-chart-mark)">
            lost
          </text>
        </>
      )}
    </svg>
  );
}
