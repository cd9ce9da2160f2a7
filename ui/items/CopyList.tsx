"use client";

import type { Copy, ItemDetail } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { PlaceGlyph } from "../instruments/PlaceMark";
import { countText, dateText, momentText, PLACE_WORDS } from "../instruments/words";
import styles from "./items.module.css";
import { sizeText } from "./rows";

/** When a copy was last changed, as far as anything says: its own date, or the first state that has it. */
const changedAt = ({ modified, present }: Copy) => (modified ?? present?.from)?.getTime() ?? Number.NEGATIVE_INFINITY;

/** The copies of an item, the newest first: each is opened, or compared with the one that is open. */
export function CopyList({ item, copy, zone }: { item: ItemDetail; copy: Copy; zone: string }) {
  const [, change] = useAddress();
  const { list, copies } = item;
  return (
    <>
      <ul className={styles.copies} aria-label="Copies" style={{ marginTop: 14 }}>
        {[...list]
          .sort((a, b) => changedAt(b) - changedAt(a))
          .map((each) => (
            <li key={each.id}>
              <button
                type="button"
                className={styles.copy}
                aria-pressed={each.id === copy.id}
                onClick={() => change({ copy: String(each.id) })}
              >
                <PlaceGlyph
                  mark={{ at: null, place: each.place, condition: each.condition, survival: each.survival, live: each.state === "live" }}
                />
                <span>
                  {PLACE_WORDS[each.place]}, {each.state}
                  {each.best ? ", best" : ""}
                  {each.id !== copy.id && copy.identical.includes(each.id) ? ", identical" : ""}
                  {each.inTray ? ", in the tray" : ""}
                </span>
                <span>{sizeText(each)}</span>
                <span>{dateText(each.modified, zone)}</span>
                {each.present && (
                  <span className={styles.kept}>
                    {each.set ? `${each.set}, ` : ""}since {momentText(each.present.from, zone)}
                    {each.present.until ? "" : ", to the last state"}
                  </span>
                )}
              </button>
              {each.id !== copy.id && (
                <button type="button" onClick={() => change({ compare: String(each.id) }, true)}>
                  Compare
                </button>
              )}
            </li>
          ))}
      </ul>
      {list.length < copies && (
        <p
          className={styles.held}
        >{`${countText(list.length)} of ${countText(copies)} copies stand here: the newest, and the one that is open. A list of “All versions” has every one.`}</p>
      )}
    </>
  );
}
