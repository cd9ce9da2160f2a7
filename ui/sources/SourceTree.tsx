"use client";

import { SimpleTreeView } from "@mui/x-tree-view/SimpleTreeView";
import { TreeItem } from "@mui/x-tree-view/TreeItem";
import type { Source } from "@/server/sources/contract";
import { bytesText, dateText, FILE_SYSTEM_WORDS, STANDING_WORDS, STATE_WORDS } from "../instruments/words";
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

/** What was recognised, as a tree: each source, the volumes in it, and sources that lie on those. Choosing one shows it on the chart. */
export function SourceTree({ sources, source, volume, also, onChoose }: Props) {
  const chosen = volume !== null ? `volume-${volume}` : source !== undefined ? `source-${source}` : null;
  return (
    <SimpleTreeView
      aria-label="Sources and volumes"
      itemChildrenIndentation={12}
      multiSelect
      selectedItems={[...(chosen ? [chosen] : []), ...also.map((id) => `source-${id}`)]}
      defaultExpandedItems={sources.flatMap((each) => [
        `source-${each.id}`,
        ...(each.parentStoreId === null ? [] : [`volume-${each.parentStoreId}`]),
      ])}
      expansionTrigger="iconContainer"
      onSelectedItemsChange={(_, ids) => {
        const before = new Set([chosen, ...also.map((id) => `source-${id}`)]);
        // The one that was pressed last is shown; the others stay chosen beside it.
        const pressed = ids.find((id) => !before.has(id)) ?? ids[0];
        // A state is shown as the volume it is one of.
        const shown = pressed?.startsWith("state-") ? `volume-${pressed.split("-")[1]}` : pressed;
        const found =
          sources.find((each) => `source-${each.id}` === shown) ??
          sources.find((each) => each.volumes.some((inside) => `volume-${inside.id}` === shown));
        if (!found || !shown) return;
        const others = sources.filter((each) => each.id !== found.id && ids.includes(`source-${each.id}`)).map(({ id }) => id);
        onChoose(found.id, shown.startsWith("volume-") ? Number(shown.slice(7)) : null, others);
      }}
    >
      {sources
        .filter((each) => each.parentStoreId === null)
        .map((each) => (
          <Branch key={each.id} source={each} sources={sources} />
        ))}
    </SimpleTreeView>
  );
}

/** A source, its volumes, and on them the sources that lie inside. */
function Branch({ source, sources }: { source: Source; sources: readonly Source[] }) {
  const inside = (storeId: number) => sources.filter((each) => each.parentStoreId === storeId);
  const nested = (storeId: number) => inside(storeId).map((each) => <Branch key={each.id} source={each} sources={sources} />);
  return (
    <TreeItem
      itemId={`source-${source.id}`}
      label={
        <span className={styles.branch}>
          <b>{source.name}</b>
          <span>
            {source.container === "folder" ? "folder" : bytesText(source.size)}
            {source.connected ? "" : ", not connected"}
          </span>
        </span>
      }
    >
      {source.container === "folder"
        ? source.volumes.flatMap((each) => nested(each.id))
        : source.volumes.map((each) => (
            <TreeItem
              key={each.id}
              itemId={`volume-${each.id}`}
              label={
                <span className={styles.branch}>
                  <b>{each.label ?? `volume ${each.number}`}</b>
                  <span>{volumeWords(each)}</span>
                </span>
              }
            >
              {nested(each.id)}
              {each.states.map((state) => (
                <TreeItem
                  key={state.view}
                  itemId={`state-${each.id}-${state.view}`}
                  label={
                    <span className={styles.branch}>
                      <b>{state.label}</b>
                      <span>{stateWords(state)}</span>
                    </span>
                  }
                />
              ))}
            </TreeItem>
          ))}
    </TreeItem>
  );
}

/** What an earlier state of a volume is, in a few words. */
const stateWords = ({ kind, asOf }: Source["volumes"][number]["states"][number]): string =>
  [STATE_WORDS[kind], asOf === null ? null : `${dateText(new Date(asOf), "UTC")} UTC`].filter(Boolean).join(", ");

/** What a volume is, in a few words. */
function volumeWords({ filesystem, length, standing, closed }: Source["volumes"][number]): string {
  const kind = closed ? "encrypted" : FILE_SYSTEM_WORDS[filesystem];
  return [kind, bytesText(length), STANDING_WORDS[standing]].filter(Boolean).join(", ");
}
