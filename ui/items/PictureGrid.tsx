"use client";

import Checkbox from "@mui/material/Checkbox";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type MouseEvent, type PointerEvent, type RefObject, useEffect, useRef, useState } from "react";
import type { Item, ItemQuery } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { ConditionMark } from "../instruments/ConditionMark";
import { Problem, problemText } from "../instruments/Problem";
import { KIND_WORDS } from "../instruments/words";
import { useItemMenu } from "./ItemMenu";
import styles from "./items.module.css";
import { LargePreview } from "./LargePreview";
import { handleListKey } from "./list-keys";
import { copyOfRow, rowAddress, rowId } from "./rows";
import { useChoosing } from "./use-choosing";
import { useItems } from "./use-items";
import { useInTray } from "./use-tray-change";

const CELL = 168;

interface Props {
  jobId: number;
  query: ItemQuery;
  /** What distinguishes the tile that is open. */
  opened: number | null;
  /** Where it stands when the grid appears. */
  position: number | null;
}

/** Room around the tiles, in pixels. */
const LEFT = 8;
const TOP = 6;
/** A press that moves less than this is a click. */
const LEAST_DRAG = 6;

/** The same list as small pictures. */
export function PictureGrid({ jobId, query, opened, position }: Props) {
  const [, change] = useAddress();
  const scroll = useRef<HTMLDivElement>(null);
  const [across, setAcross] = useState(4);
  const [large, setLarge] = useState(false);
  const [sight, setSight] = useState({ first: 0, last: 40 });
  const items = useItems(jobId, query, sight.first, sight.last);
  const { touch, toggle, extend, several, all, error } = useChoosing(jobId, query);
  const reached = useRef(-1);
  useEffect(() => {
    const element = scroll.current;
    if (!element) return;
    const watch = new ResizeObserver(([entry]) => entry && setAcross(Math.max(1, Math.floor((entry.contentRect.width - 2 * LEFT) / CELL))));
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
  const placed = useRef(false);
  useEffect(() => {
    if (position === null || placed.current || items.count <= position) return;
    placed.current = true;
    reached.current = position;
    virtual.scrollToIndex(Math.floor(position / across), { align: "auto" });
  }, [position, items.count, across, virtual]);
  const open = (item: Item, index: number) => {
    reached.current = index;
    touch(item);
    change(rowAddress(item));
  };
  const enlarge = (item: Item, index: number) => {
    open(item, index);
    setLarge(true);
  };
  const { open: openMenu, menu } = useItemMenu({ large: enlarge, toggle, extend, all }, items.at);
  const present = () => {
    const isOpened = (index: number) => {
      const item = items.at(index);
      return item !== undefined && rowId(item) === opened;
    };
    if (reached.current >= 0 && isOpened(reached.current)) return reached.current;
    for (let index = sight.first; index <= sight.last; index += 1) if (isOpened(index)) return index;
    return reached.current;
  };
  const move = (index: number, ranging = false) => {
    const target = Math.max(0, Math.min(items.count - 1, index));
    const item = items.at(target);
    reached.current = target;
    virtual.scrollToIndex(Math.floor(target / across));
    if (!item) return;
    if (!ranging) return open(item, target);
    extend(item);
    change(rowAddress(item));
  };
  const onKey = (event: KeyboardEvent) => {
    const from = present();
    const steps: Record<string, number> = {
      ArrowRight: from + 1,
      ArrowLeft: from - 1,
      ArrowDown: from < 0 ? 0 : from + across,
      ArrowUp: from - across,
      Home: 0,
      End: items.count - 1,
    };
    const item = items.at(from);
    handleListKey(event, {
      steps,
      ranging: from >= 0,
      move,
      enlarge: () => setLarge(opened !== null),
      tick: item ? (range) => (range ? extend : toggle)(item) : null,
      all,
    });
  };
  const band = useRubberBand(scroll, ({ left, top, right, bottom }, takeOut) => {
    const within: Item[] = [];
    const [first, last] = [Math.max(0, Math.floor((top - TOP) / CELL)), Math.floor((bottom - TOP) / CELL)];
    const [from, to] = [Math.max(0, Math.floor((left - LEFT) / CELL)), Math.min(across - 1, Math.floor((right - LEFT) / CELL))];
    for (let line = first; line <= last; line += 1)
      for (let column = from; column <= to; column += 1) {
        const item = items.at(line * across + column);
        if (item) within.push(item);
      }
    if (within.length > 0) several(within, !takeOut);
  });
  return (
    <>
      {/* biome-ignore lint/a11y/useSemanticElements: a grid of pictures of which only those in sight exist */}
      <div
        ref={scroll}
        className={styles.scroll}
        style={{ position: "relative" }}
        data-list="items"
        role="group"
        aria-label="Pictures, by arrow keys"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: the arrow keys move in it
        tabIndex={0}
        onKeyDown={onKey}
        onPointerDown={band.start}
      >
        <Problem>{problemText(items.error ?? error)}</Problem>
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
                  at={`translate(${LEFT + column * CELL}px, ${start + TOP}px)`}
                  opened={rowId(item) === opened}
                  onOpen={(event) => {
                    if (event.ctrlKey || event.metaKey) toggle(item);
                    else if (event.shiftKey) extend(item);
                    else open(item, index);
                  }}
                  onLarge={() => enlarge(item, index)}
                  onChoose={(event) => (event.shiftKey ? extend : toggle)(item)}
                  onMenu={(event) => openMenu(event, item, index)}
                />
              );
            }),
          )}
        </ul>
        {band.area && <span className={styles.band} style={band.area} />}
      </div>
      {menu}
      {large && opened && <LargePreview jobId={jobId} onClose={() => setLarge(false)} onMove={(step) => move(present() + step)} />}
    </>
  );
}

interface Area {
  readonly left: number;
  readonly top: number;
  readonly right: number;
  readonly bottom: number;
}

/**
 * A frame drawn with the mouse over the tiles, from the empty room between them.
 * @param onDrawn is given the area in pixels of what is scrolled, and whether Shift was held: then it is taken out
 */
function useRubberBand(scroll: RefObject<HTMLDivElement | null>, onDrawn: (area: Area, takeOut: boolean) => void) {
  const [area, setArea] = useState<{ left: number; top: number; width: number; height: number } | null>(null);
  const start = (event: PointerEvent) => {
    const element = scroll.current;
    if (!element || event.button !== 0 || (event.target as HTMLElement).closest("li, button, input")) return;
    const at = ({ clientX, clientY }: { clientX: number; clientY: number }) => {
      const box = element.getBoundingClientRect();
      return { x: clientX - box.left + element.scrollLeft, y: clientY - box.top + element.scrollTop };
    };
    const from = at(event);
    const between = (to: { x: number; y: number }): Area => ({
      left: Math.min(from.x, to.x),
      top: Math.min(from.y, to.y),
      right: Math.max(from.x, to.x),
      bottom: Math.max(from.y, to.y),
    });
    const onMove = (moved: globalThis.PointerEvent) => {
      const { left, top, right, bottom } = between(at(moved));
      setArea({ left, top, width: right - left, height: bottom - top });
    };
    const onUp = (ended: globalThis.PointerEvent) => {
      window.removeEventListener("pointermove", onMove);
      window.removeEventListener("pointerup", onUp);
      setArea(null);
      const drawn = between(at(ended));
      if (drawn.right - drawn.left > LEAST_DRAG || drawn.bottom - drawn.top > LEAST_DRAG) onDrawn(drawn, ended.shiftKey);
    };
    event.preventDefault();
    element.focus();
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", onUp);
  };
  return { area, start };
}

interface TileProps {
  item: Item;
  /** Its place, as a transform. */
  at: string;
  opened: boolean;
  onOpen: (event: MouseEvent) => void;
  onLarge: () => void;
  onChoose: (event: MouseEvent) => void;
  onMenu: (event: MouseEvent) => void;
}

function Tile({ item, at, opened, onOpen, onLarge, onChoose, onMenu }: TileProps) {
  const inTray = useInTray(item);
  return (
    <li
      className={styles.tile}
      data-open={opened}
      data-chosen={inTray}
      style={{ transform: at, width: CELL - 10, height: CELL - 10 }}
      onContextMenu={onMenu}
    >
      <button type="button" aria-label={item.name} aria-current={opened} tabIndex={-1} onClick={onOpen} onDoubleClick={onLarge}>
        <Thumbnail item={item} />
      </button>
      <span className={styles.tileFoot}>
        <Checkbox
          checked={inTray}
          indeterminate={!inTray && item.alsoInTray > 0}
          slotProps={{ input: { "aria-label": `Choose ${item.name}` } }}
          onClick={onChoose}
        />
        <b title={`${item.folder}/${item.name}`}>{item.name}</b>
        <ConditionMark condition={item.condition} survival={item.survival} bare />
      </span>
    </li>
  );
}

function Thumbnail({ item }: { item: Item }) {
  const [failed, setFailed] = useState(false);
  const copy = copyOfRow(item) ?? item.bestCopyId;
  if (item.kind !== "pictures" || item.size === 0 || item.condition === "name-only" || failed)
    return <span className={styles.noPicture}>{failed ? "cannot be drawn" : KIND_WORDS[item.kind]}</span>;
  return <img key={copy} src={`/api/copies/${copy}/thumbnail`} alt="" loading="lazy" onError={() => setFailed(true)} />;
}
