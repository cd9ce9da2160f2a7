"use client";

import Checkbox from "@mui/material/Checkbox";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useCallback, useEffect, useRef, useState } from "react";
import type { Item } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { useJob } from "../data/use-job-data";
import { ConditionMark } from "../instruments/ConditionMark";
import { bytesText, dateText, exactBytes } from "../instruments/words";
import styles from "./items.module.css";
import { LargePreview } from "./LargePreview";
import type { useItems } from "./use-items";
import { useTrayChange } from "./use-tray-change";

const ROW = 30;

interface Props {
  jobId: number;
  items: ReturnType<typeof useItems>;
  matching: number;
  opened: number | null;
}

/** The list itself: only the rows in sight exist, pages are fetched as they come near. */
export function ItemList({ jobId, items, matching, opened }: Props) {
  const { data, hasNextPage, isFetchingNextPage, fetchNextPage } = items;
  const rows = data?.pages.flatMap((page) => page.items) ?? [];
  const [, change] = useAddress();
  const { data: job } = useJob(jobId);
  const zone = job?.timeZone ?? "UTC";
  const tray = useTrayChange(jobId);
  const [large, setLarge] = useState(false);
  const scroll = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroll.current, estimateSize: () => ROW, overscan: 12 });
  const shown = virtual.getVirtualItems();
  const lastShown = shown[shown.length - 1]?.index ?? 0;

  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage && lastShown > rows.length - 80) void fetchNextPage();
  }, [lastShown, rows.length, hasNextPage, isFetchingNextPage, fetchNextPage]);

  const present = rows.findIndex((row) => row.id === opened);
  const open = useCallback((item: Item | undefined) => item && change({ item: String(item.id), copy: null }), [change]);
  const move = (index: number) => {
    const target = Math.max(0, Math.min(rows.length - 1, index));
    open(rows[target]);
    virtual.scrollToIndex(target);
  };
  const toggle = (item: Item | undefined) => item && tray.mutate({ items: [item.id], chosen: !item.inTray });

  const onKey = (event: KeyboardEvent) => {
    const page = Math.max(1, Math.floor((scroll.current?.clientHeight ?? 300) / ROW) - 1);
    const steps: Record<string, number> = {
      ArrowDown: present + 1,
      ArrowUp: present - 1,
      PageDown: present + page,
      PageUp: present - page,
      Home: 0,
      End: rows.length - 1,
    };
    const target = steps[event.key];
    if (target !== undefined) move(target);
    else if (event.key === " ") setLarge(present >= 0);
    else if (event.key === "Enter") toggle(rows[present]);
    else return;
    event.preventDefault();
  };

  return (
    <>
      <div className={styles.head} aria-hidden="true">
        <span />
        <span>Item</span>
        <span>Changed</span>
        <span className={styles.right}>Size</span>
        <span>Best copy</span>
      </div>
      <div
        ref={scroll}
        className={styles.scroll}
        role="grid"
        aria-label="Items"
        aria-rowcount={matching}
        aria-multiselectable="true"
        tabIndex={0}
        onKeyDown={onKey}
      >
        <div style={{ height: virtual.getTotalSize(), position: "relative" }} role="presentation">
          {shown.map(({ index, start }) => {
            const item = rows[index];
            if (!item) return null;
            return (
              <Row
                key={item.id}
                item={item}
                index={index}
                top={start}
                zone={zone}
                selected={item.id === opened}
                onOpen={() => open(item)}
                onLarge={() => {
                  open(item);
                  setLarge(true);
                }}
                onToggle={() => toggle(item)}
              />
            );
          })}
        </div>
      </div>
      {large && opened && <LargePreview itemId={opened} onClose={() => setLarge(false)} onMove={(step) => move(present + step)} />}
    </>
  );
}

interface RowProps {
  item: Item;
  index: number;
  top: number;
  zone: string;
  selected: boolean;
  onOpen: () => void;
  onLarge: () => void;
  onToggle: () => void;
}

function Row({ item, index, top, zone, selected, onOpen, onLarge, onToggle }: RowProps) {
  return (
    <div
      className={styles.row}
      role="row"
      aria-rowindex={index + 1}
      aria-selected={selected}
      data-chosen={item.inTray}
      style={{ transform: `translateY(${top}px)` }}
      onClick={onOpen}
      onDoubleClick={onLarge}
    >
      <span role="gridcell" className={styles.tick}>
        <Checkbox
          checked={item.inTray}
          tabIndex={-1}
          slotProps={{ input: { "aria-label": `Choose ${item.name}` } }}
          onClick={(event) => event.stopPropagation()}
          onDoubleClick={(event) => event.stopPropagation()}
          onChange={onToggle}
        />
      </span>
      <span role="gridcell" className={styles.name} title={`${item.folder}/${item.name}`}>
        <b>{item.name}</b>
        <span>{item.folder.slice(1)}</span>
      </span>
      <span role="gridcell" className={styles.soft}>
        {dateText(item.modified, zone)}
      </span>
      <span role="gridcell" className={styles.right} title={exactBytes(item.size)}>
        {bytesText(item.size)}
      </span>
      <span role="gridcell">
        <ConditionMark condition={item.condition} survival={item.survival} />
      </span>
    </div>
  );
}
