"use client";

import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { type MouseEvent, useState } from "react";
import type { Item } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import styles from "./items.module.css";
import { rowId } from "./rows";
import { isInTray } from "./use-tray-change";

interface Asked {
  readonly item: Item;
  readonly index: number;
  readonly x: number;
  readonly y: number;
}

interface Actions {
  large(item: Item, index: number): void;
  toggle(item: Item): void;
  extend(item: Item): void;
  all(): void;
}

/**
 * The menu of an item, under the right mouse button: the same actions as the keys.
 * @param at what the list has in a row now: what was chosen meanwhile is said as it is
 */
export function useItemMenu(actions: Actions, at: (index: number) => Item | undefined) {
  const [opened, setAsked] = useState<Asked | null>(null);
  const present = opened ? at(opened.index) : undefined;
  const asked = opened && present && rowId(present) === rowId(opened.item) ? { ...opened, item: present } : opened;
  const [, change] = useAddress();
  const open = (event: MouseEvent, item: Item, index: number) => {
    event.preventDefault();
    setAsked({ item, index, x: event.clientX, y: event.clientY });
  };
  const close = () => setAsked(null);
  const entries: readonly (readonly [words: string, key: string, run: () => void])[] = asked
    ? [
        ["Look at it large", "Space", () => actions.large(asked.item, asked.index)],
        [isInTray(asked.item) ? "Take it out of the tray" : "Put it into the tray", "Enter", () => actions.toggle(asked.item)],
        ["The range from the last one to here", "Shift Enter", () => actions.extend(asked.item)],
        ["Choose all that match", "Ctrl A", () => actions.all()],
        ["Only this folder", "", () => change({ folder: asked.item.folder || null }, true)],
        ["Copy its path", "", () => void navigator.clipboard?.writeText(`${asked.item.folder}/${asked.item.name}`)],
      ]
    : [];
  const menu = (
    <Menu
      open={asked !== null}
      onClose={close}
      anchorReference="anchorPosition"
      {...(asked ? { anchorPosition: { left: asked.x, top: asked.y } } : {})}
      slotProps={{ list: { dense: true, "aria-label": asked ? `Actions for ${asked.item.name}` : "Actions" } }}
    >
      {entries.map(([words, key, run]) => (
        <MenuItem
          key={words}
          onClick={() => {
            close();
            run();
          }}
        >
          {words}
          {key && <span className={styles.key}>{key}</span>}
        </MenuItem>
      ))}
    </Menu>
  );
  return { open, menu };
}
