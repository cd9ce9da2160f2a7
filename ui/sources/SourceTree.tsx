"use client";

import { SimpleTreeView } from "@mui/x-tree-view/SimpleTreeView";
import { TreeItem } from "@mui/x-tree-view/TreeItem";
import type { Source } from "@/server/sources/contract";
import { bytesText, FILE_SYSTEM_WORDS, STANDING_WORDS } from "../instruments/words";
import styles from "./sources.module.css";

interface Props {
  sources: readonly Source[];
  /** Chosen source, and the volume in it if one is. */
  source: number | undefined;
  volume: number | null;
  /** Further sources chosen beside the one that is shown. */
  also: readonly number[];
  onChoose: (source: number, volume: number | null, also: readonly number[]) => void;
}

/** What was recognised, as a tree: each source, and the volumes in it. Choosing one shows it on the chart. */
export function SourceTree({ sources, source, volume, also, onChoose }: Props) {
  const chosen = volume !== null ? `volume-${volume}` : source !== undefined ? `source-${source}` : null;
  return (
    <SimpleTreeView
      aria-label="Sources and volumes"
      multiSelect
      selectedItems={[...(chosen ? [chosen] : []), ...also.map((id) => `source-${id}`)]}
      defaultExpandedItems={sources.map((each) => `source-${each.id}`)}
      expansionTrigger="iconContainer"
      onSelectedItemsChange={(_, ids) => {
        const before = new Set([chosen, ...also.map((id) => `source-${id}`)]);
        // The one that was pressed last is shown; the others stay chosen beside it.
        const shown = ids.find((id) => !before.has(id)) ?? ids[0];
        const found =
          sources.find((each) => `source-${each.id}` === shown) ??
          sources.find((each) => each.volumes.some((inside) => `volume-${inside.id}` === shown));
        if (!found || !shown) return;
        const others = sources.filter((each) => each.id !== found.id && ids.includes(`source-${each.id}`)).map(({ id }) => id);
        onChoose(found.id, shown.startsWith("volume-") ? Number(shown.slice(7)) : null, others);
      }}
    >
      {sources.map((each) => (
        <TreeItem
          key={each.id}
          itemId={`source-${each.id}`}
          label={
            <span className={styles.branch}>
              <b>{each.name}</b>
              <span>
                {each.container === "folder" ? "folder" : bytesText(each.size)}
                {each.connected ? "" : ", not connected"}
              </span>
            </span>
          }
        >
          {(each.container === "folder" ? [] : each.volumes).map((inside) => (
            <TreeItem
              key={inside.id}
              itemId={`volume-${inside.id}`}
              label={
                <span className={styles.branch}>
                  <b>{inside.label ?? `volume ${inside.number}`}</b>
                  <span>{volumeWords(inside)}</span>
                </span>
              }
            />
          ))}
        </TreeItem>
      ))}
    </SimpleTreeView>
  );
}

/** What a volume is, in a few words. */
function volumeWords({ filesystem, length, standing, closed }: Source["volumes"][number]): string {
  const kind = closed ? "encrypted" : FILE_SYSTEM_WORDS[filesystem];
  return [kind, bytesText(length), STANDING_WORDS[standing]].filter(Boolean).join(", ");
}
