import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import type { Sight } from "./use-records";

/** Rows of which only those in sight exist. @param height of a row, in pixels, where it is not measured */
export function useRowsInSight(count: number, height: number, onSight: (sight: Sight) => void) {
  const scroll = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => scroll.current,
    estimateSize: () => height,
    overscan: 10,
    onChange: ({ range }) => range && onSight({ first: range.startIndex, last: range.endIndex }),
  });
  return { scroll, virtual };
}
