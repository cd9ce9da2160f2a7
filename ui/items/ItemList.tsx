"use client";

import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type MouseEvent, memo, type ReactNode, useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { Item, ItemQuery } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { useJob } from "../data/use-job-data";
import { ConditionMark } from "../instruments/ConditionMark";
import { Problem, problemText } from "../instruments/Problem";
import type { Span } from "../instruments/time-scale";
import { bytesText, dateText, exactBytes, KIND_WORDS, momentText, PLACE_WORDS, pixelsText, sinceText } from "../instruments/words";
import { COLUMN_FACTS, type Column, type Columns } from "./columns";
import { useItemMenu } from "./ItemMenu";
import styles from "./items.module.css";
import { LargePreview } from "./LargePreview";
import { ListHead } from "./ListHead";
import { handleListKey } from "./list-keys";
import type { Moment } from "./moments";
import { Ribbon } from "./Ribbon";
import { isUnsized, rowAddress, rowId } from "./rows";
import { useChoosing } from "./use-choosing";
import { useItems } from "./use-items";
import { useInTray } from "./use-tray-change";

/** A million rows of this height stay below the tallest element the browser lays out (33,554,432 pixels). */
const ROW = 30;
/** More rows than ever are on the screen at once. */
const RECYCLED = 200;
/** The head stays in sight inside the scrolled grid and covers this much of it. */
const HEAD = 30;

interface Props {
  jobId: number;
  query: ItemQuery;
  /** What distinguishes the row that is open. */
  opened: number | null;
  /** Where it stands when the list appears. */
  position: number | null;
  columns: Columns;
  onResize: (column: Column, width: number) => void;
  span: Span;
  onSpan: (span: Span | null) => void;
  loss: number | null;
  moments: readonly Moment[];
}

/** The list itself: only the rows in sight exist, and only their pages are fetched. */
export function ItemList({ jobId, query, opened, position, columns, onResize, span, onSpan, loss, moments }: Props) {
  const [, change] = useAddress();
  const asOf = query.asOf === undefined ? null : Date.parse(query.asOf);
  const { data: job } = useJob(jobId);
  const zone = job?.timeZone ?? "UTC";
  const { touch, toggle, extend, all, error: choosing } = useChoosing(jobId, query);
  const [large, setLarge] = useState(false);
  const [present, setPresent] = useState(-1);
  // The address follows a moment later; keys pressed meanwhile must mean the row already moved to.
  const reached = useRef(-1);
  const scroll = useRef<HTMLDivElement>(null);
  const [sight, setSight] = useState({ first: 0, last: 40 });
  const items = useItems(jobId, query, sight.first, sight.last);
  const virtual = useVirtualizer({
    count: items.count,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 8,
    scrollMargin: HEAD,
    scrollPaddingStart: HEAD,
    onChange: (instance) => {
      const range = instance.range;
      if (range)
        setSight((before) =>
          before.first === range.startIndex && before.last === range.endIndex ? before : { first: range.startIndex, last: range.endIndex },
        );
    },
  });

  const rowOf = (id: number | null) => {
    if (id === null) return -1;
    const isIt = (item: Item | undefined) => item !== undefined && rowId(item) === id;
    if (isIt(items.at(present))) return present;
    for (let index = sight.first; index <= sight.last; index += 1) if (isIt(items.at(index))) return index;
    return present;
  };
  const row = rowOf(opened);
  const open = useCallback(
    (item: Item | undefined, index: number) => {
      if (!item) return;
      reached.current = index;
      setPresent(index);
      touch(item);
      change(rowAddress(item));
    },
    [change, touch],
  );
  // Whoever comes back, or narrows the list, finds the opened item in sight.
  const placed = useRef(false);
  useEffect(() => {
    if (position === null || placed.current || items.count <= position) return;
    placed.current = true;
    reached.current = position;
    setPresent(position);
    virtual.scrollToIndex(position, { align: "auto" });
  }, [position, items.count, virtual]);
  const move = (index: number, ranging = false) => {
    const target = Math.max(0, Math.min(items.count - 1, index));
    reached.current = target;
    setPresent(target);
    virtual.scrollToIndex(target);
    const item = items.at(target);
    if (!ranging) open(item, target);
    else if (item) {
      extend(item);
      change(rowAddress(item));
    }
  };
  const choose = useCallback((item: Item, range: boolean) => (range ? extend(item) : toggle(item)), [extend, toggle]);
  const enlarge = useCallback(
    (item: Item, index: number) => {
      open(item, index);
      setLarge(true);
    },
    [open],
  );

  const onKey = (event: KeyboardEvent) => {
    const page = Math.max(1, Math.floor((scroll.current?.clientHeight ?? 300) / ROW) - 1);
    const from = reached.current >= 0 ? reached.current : row;
    const steps: Record<string, number> = {
      ArrowDown: from + 1,
      ArrowUp: from - 1,
      PageDown: from + page,
      PageUp: from - page,
      Home: 0,
      End: items.count - 1,
    };
    const item = items.at(from);
    handleListKey(event, {
      steps,
      ranging: from >= 0,
      move,
      enlarge: () => setLarge(item !== undefined || opened !== null),
      tick: item ? (range) => choose(item, range) : null,
      all,
    });
  };

  const template = useMemo(
    () => ["34px", "minmax(150px, 1fr)", ...columns.shown.map((column) => `${columns.widths[column]}px`)].join(" "),
    [columns],
  );
  const shown = virtual.getVirtualItems();
  const { open: openMenu, menu } = useItemMenu({ large: enlarge, toggle, extend, all }, items.at);
  const onMenu = useRef(openMenu);
  onMenu.current = openMenu;
  const askMenu = useCallback((event: MouseEvent, item: Item, index: number) => onMenu.current(event, item, index), []);
  return (
    <>
      <div
        ref={scroll}
        data-list="items"
        className={styles.grid}
        role="grid"
        aria-label="Items"
        aria-rowcount={items.count + 1}
        aria-colcount={columns.shown.length + 2}
        aria-multiselectable="true"
        aria-activedescendant={items.at(row) ? `row-${opened}` : undefined}
        aria-busy={!items.counted}
        tabIndex={0}
        onKeyDown={onKey}
      >
        <ListHead
          query={query}
          columns={columns}
          template={template}
          onResize={onResize}
          span={span}
          onSpan={onSpan}
          loss={loss}
          moments={moments}
          asOf={asOf}
        />
        <Problem>{problemText(items.error ?? choosing)}</Problem>
        <div style={{ height: virtual.getTotalSize(), position: "relative" }} role="rowgroup">
          {shown.map(({ index, start }) => {
            const item = items.at(index);
            return item ? (
              <Row
                // Rows are used again for others as they scroll out, which is far cheaper than new ones.
                key={index % RECYCLED}
                item={item}
                index={index}
                top={start - HEAD}
                template={template}
                columns={columns}
                zone={zone}
                selected={rowId(item) === opened}
                span={span}
                loss={loss}
                asOf={asOf}
                onOpen={open}
                onLarge={enlarge}
                onToggle={choose}
                onMenu={askMenu}
              />
            ) : (
              <div
                key={index % RECYCLED}
                className={styles.row}
                role="row"
                aria-rowindex={index + 2}
                style={{ transform: `translateY(${start - HEAD}px)` }}
              >
                <span role="gridcell" className={styles.coming}>
                  …
                </span>
              </div>
            );
          })}
        </div>
      </div>
      {menu}
      {large && opened && <LargePreview jobId={jobId} onClose={() => setLarge(false)} onMove={(step) => move(row + step)} />}
    </>
  );
}

/** Since which state a version was kept, or where it was found that is of none. */
function Kept({ item: { version }, zone }: { item: Item; zone: string }) {
  if (!version) return null;
  const { stood, set, place } = version;
  const until = stood?.until ? momentText(stood.until, zone) : "the last state";
  return (
    <span className={styles.soft} title={stood ? `${set ? `${set}, ` : ""}from ${momentText(stood.from, zone)} until ${until}` : undefined}>
      {stood ? momentText(stood.from, zone) : PLACE_WORDS[place]}
    </span>
  );
}

interface RowProps {
  item: Item;
  index: number;
  top: number;
  template: string;
  columns: Columns;
  zone: string;
  selected: boolean;
  span: Span;
  loss: number | null;
  asOf: number | null;
  onOpen: (item: Item, index: number) => void;
  onLarge: (item: Item, index: number) => void;
  onToggle: (item: Item, range: boolean) => void;
  onMenu: (event: MouseEvent, item: Item, index: number) => void;
}

const Row = memo(function Row(props: RowProps) {
  const { item, index, top, template, columns, zone, selected, span, loss, asOf, onOpen, onLarge, onToggle, onMenu } = props;
  const inTray = useInTray(item);
  const cells: Record<Column, () => ReactNode> = {
    ribbon: () => <Ribbon marks={item.marks} span={span} width={columns.widths.ribbon} height={ROW - 1} loss={loss} asOf={asOf} />,
    changed: () => <span className={styles.soft}>{dateText(item.modified, zone)}</span>,
    size: () => (isUnsized(item) ? <span title="not known">–</span> : <span title={exactBytes(item.size)}>{bytesText(item.size)}</span>),
    condition: () => <ConditionMark {...item} />,
    kept: () => <Kept item={item} zone={zone} />,
    kind: () => <span className={styles.soft}>{KIND_WORDS[item.kind]}</span>,
    type: () => <span className={styles.soft}>{/[^.]\.([^.\s]{1,12})$/.exec(item.name)?.[1]?.toLowerCase() ?? ""}</span>,
    folder: () => <span className={styles.soft}>{item.folder.slice(1)}</span>,
    volume: () => <span className={styles.soft}>{item.volume}</span>,
    standing: () => <span className={styles.soft}>{item.live ? "live" : "deleted"}</span>,
    created: () => <span className={styles.soft}>{item.created ? dateText(item.created, zone) : ""}</span>,
    deleted: () => <span className={styles.soft}>{item.deletedAt ? dateText(item.deletedAt, zone) : ""}</span>,
    pixels: () => <span>{pixelsText(item.facts)}</span>,
    // A camera's clock has no zone: its time is shown as it stands.
    taken: () => <span className={styles.soft}>{item.facts?.taken === undefined ? "" : dateText(new Date(item.facts.taken), "UTC")}</span>,
  };
  return (
    <div
      id={`row-${rowId(item)}`}
      className={styles.row}
      role="row"
      aria-rowindex={index + 2}
      aria-selected={selected}
      data-chosen={inTray}
      style={{ transform: `translateY(${top}px)`, gridTemplateColumns: template }}
      onClick={(event) => {
        if (event.ctrlKey || event.metaKey) onToggle(item, false);
        else if (event.shiftKey) onToggle(item, true);
        else onOpen(item, index);
      }}
      onContextMenu={(event) => onMenu(event, item, index)}
      onMouseDown={(event) => event.shiftKey && event.preventDefault()}
      onDoubleClick={() => onLarge(item, index)}
    >
      <span role="gridcell" className={styles.tick}>
        {/* A plain box: the library's own is many times as heavy, and forty of them come and go with every scroll. */}
        <input
          type="checkbox"
          className={styles.box}
          checked={inTray}
          // Another copy of it is chosen than the one this row shows.
          ref={(box) => {
            if (box) box.indeterminate = !inTray && item.alsoInTray > 0;
          }}
          tabIndex={-1}
          title={
            item.alsoInTray > 0 ? `${item.alsoInTray} other ${item.alsoInTray === 1 ? "copy" : "copies"} of it in the tray` : undefined
          }
          aria-label={`Choose ${item.name}`}
          onChange={() => undefined}
          onClick={(event: MouseEvent) => {
            event.stopPropagation();
            onToggle(item, event.shiftKey);
          }}
          onDoubleClick={(event) => event.stopPropagation()}
        />
      </span>
      <span role="gridcell" className={styles.name} title={`${item.folder}/${item.name}`}>
        <b>{item.name}</b>
        {item.since && <i data-since={item.since}>{sinceText(item)}</i>}
        {!columns.shown.includes("folder") && <span>{item.folder.slice(1)}</span>}
      </span>
      {columns.shown.map((column) => (
        <span key={column} role="gridcell" className={COLUMN_FACTS[column].right ? styles.right : styles.cell}>
          {cells[column]()}
        </span>
      ))}
    </div>
  );
});
