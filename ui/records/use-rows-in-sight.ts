import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useEffect, useRef } from "react";
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
  // Rows are measured when they have come: whoever went to the last one stays there while the list becomes longer.
  const staysAtEnd = useRef(false);
  const total = virtual.getTotalSize();
  useEffect(() => {
    if (staysAtEnd.current && total > 0) virtual.scrollToIndex(count - 1, { align: "end" });
  }, [total, count, virtual]);
  const leaveEnd = () => {
    staysAtEnd.current = false;
  };
  const onKeyDown = ({ key, target }: KeyboardEvent) => {
    staysAtEnd.current = key === "End" && target === scroll.current;
  };
  return { scroll, virtual, keepEnd: { onKeyDown, onWheel: leaveEnd, onPointerDown: leaveEnd } };
}
