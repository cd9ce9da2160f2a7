"use client";

import Checkbox from "@mui/material/Checkbox";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import type { Item, ItemQuery } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { ConditionMark } from "../instruments/ConditionMark";
import { Problem, problemText } from "../instruments/Problem";
import { KIND_WORDS } from "../instruments/words";
import styles from "./items.module.css";
import { LargePreview } from "./LargePreview";
import { useItems } from "./use-items";
import { useInTray, useTrayChange } from "./use-tray-change";

const CELL = 168;

/** The same list as small pictures. */
export function PictureGrid({ jobId, query, opened }: { jobId: number; query: ItemQuery; opened: number | null }) {
  const [, change] = useAddress();
  const scroll = useRef<HTMLDivElement>(null);
  const [across, setAcross] = useState(4);
  const [large, setLarge] = useState(false);
  const [sight, setSight] = useState({ first: 0, last: 40 });
  const items = useItems(jobId, query, sight.first, sight.last);
  const tray = useTrayChange(jobId);
  useEffect(() => {
    const element = scroll.current;
    if (!element) return;
    const watch = new ResizeObserver(([entry]) => entry && setAcross(Math.max(1, Math.floor((entry.contentRect.width - 16) / CELL))));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  const virtual = useVirtualizer({
    count: Math.ceil(items.count / across),
    getScrollElement: () => scroll.current,
    estimateSize: () => CELL,
    overscan: 2,
    onChange: ({ range }) => {
      if (!range) return;
      const next = { first: range.startIndex * across, last: (range.endIndex + 1) * across };
      setSight((before) => (before.first === next.first && before.last === next.last ? before : next));
    },
  });
  const open = (item: Item) => change({ item: String(item.id), copy: null, compare: null });
  const at = Array.from({ length: sight.last - sight.first + 1 }, (_, index) => sight.first + index).find(
    (index) => items.at(index)?.id === opened,
  );
  const move = (step: number) => {
    const next = at === undefined ? undefined : items.at(at + step);
    if (next) open(next);
  };
  return (
    <>
      <div ref={scroll} className={styles.scroll}>
        <Problem>{problemText(items.error ?? tray.error)}</Problem>
        <ul style={{ height: virtual.getTotalSize(), position: "relative", margin: 0, padding: 0 }} aria-label="Pictures">
          {virtual.getVirtualItems().flatMap(({ index: line, start }) =>
            Array.from({ length: across }, (_, column) => {
              const index = line * across + column;
              const item = items.at(index);
              if (!item) return null;
              return (
                <Tile
                  key={index}
                  item={item}
                  at={`translate(${8 + column * CELL}px, ${start + 6}px)`}
                  opened={item.id === opened}
                  onOpen={() => open(item)}
                  onLarge={() => setLarge(true)}
                  onChoose={(chosen) => tray.change({ items: [item.id], chosen })}
                />
              );
            }),
          )}
        </ul>
      </div>
      {large && opened && <LargePreview jobId={jobId} itemId={opened} onClose={() => setLarge(false)} onMove={move} />}
    </>
  );
}

interface TileProps {
  item: Item;
  /** Its place, as a transform. */
  at: string;
  opened: boolean;
  onOpen: () => void;
  onLarge: () => void;
  onChoose: (chosen: boolean) => void;
}

function Tile({ item, at, opened, onOpen, onLarge, onChoose }: TileProps) {
  const inTray = useInTray(item);
  return (
    <li className={styles.tile} data-open={opened} data-chosen={inTray} style={{ transform: at, width: CELL - 10, height: CELL - 10 }}>
      <button
        type="button"
        aria-label={item.name}
        aria-current={opened}
        onClick={onOpen}
        onDoubleClick={onLarge}
        onKeyDown={(event) => {
          if (event.key !== " ") return;
          event.preventDefault();
          onOpen();
          onLarge();
        }}
      >
        <Thumbnail item={item} />
      </button>
      <span className={styles.tileFoot}>
        <Checkbox checked={inTray} slotProps={{ input: { "aria-label": `Choose ${item.name}` } }} onChange={() => onChoose(!inTray)} />
        <b title={`${item.folder}/${item.name}`}>{item.name}</b>
        <ConditionMark condition={item.condition} survival={item.survival} bare />
      </span>
    </li>
  );
}

function Thumbnail({ item }: { item: Item }) {
  const [failed, setFailed] = useState(false);
  if (item.kind !== "pictures" || item.size === 0 || item.condition === "name-only" || failed)
    return <span className={styles.noPicture}>{failed ? "cannot be drawn" : KIND_WORDS[item.kind]}</span>;
  return (
    <img key={item.bestCopyId} src={`/api/copies/${item.bestCopyId}/thumbnail`} alt="" loading="lazy" onError={() => setFailed(true)} />
  );
}
