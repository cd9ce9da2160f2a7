"use client";

import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { type InfiniteData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { choiceSums, type SharedItem, type SharedPage, sharedPage } from "@/server/shares/contract";
import { read, write } from "../data/request";
import { useAddress } from "../data/use-address";
import { useTyped } from "../data/use-typed";
import { ConditionMark } from "../instruments/ConditionMark";
import { Empty } from "../instruments/Empty";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, filesText, momentText } from "../instruments/words";
import { Preview } from "../previews/Preview";
import styles from "./shared.module.css";

const SHOWN = { lost: "Lost", all: "All", chosen: "Chosen" } as const;
type Shown = keyof typeof SHOWN;

/** What was found, for a client to look at, choose from and download. */
export function SharedFound({ root, timeZone }: { root: string; timeZone: string }) {
  const [address, change] = useAddress();
  const client = useQueryClient();
  const show: Shown = (Object.keys(SHOWN) as Shown[]).find((each) => each === address.get("show")) ?? "lost";
  const q = address.get("q") ?? "";
  const { data, error, hasNextPage, isFetching, fetchNextPage } = useInfiniteQuery({
    queryKey: [root, "items", show, q],
    queryFn: ({ pageParam, signal }) =>
      read(`${root}/items?${new URLSearchParams({ show, q, ...(pageParam ? { after: pageParam } : {}) })}`, sharedPage, signal),
    initialPageParam: "",
    getNextPageParam: ({ next }) => next,
    placeholderData: (before) => before,
  });
  const items = data?.pages.flatMap((page) => page.items) ?? [];
  const seen = items.find(({ id }) => String(id) === address.get("item")) ?? null;
  const choose = useMutation({
    mutationFn: (choice: { copies: number[]; chosen: boolean }) => write("POST", `${root}/choices`, choice),
    // The tick is shown at once; what the server says of it follows.
    onMutate: ({ copies, chosen }) =>
      client.setQueriesData<InfiniteData<SharedPage>>(
        { queryKey: [root, "items"] },
        (before) =>
          before && {
            ...before,
            pages: before.pages.map((page) => ({
              ...page,
              items: page.items.map((item) => (copies.includes(item.copyId) ? { ...item, chosen } : item)),
            })),
          },
      ),
    onSettled: () => client.invalidateQueries({ queryKey: [root] }),
  });
  return (
    <div className={styles.found}>
      <section aria-label="What was found" className={styles.list}>
        <div className={styles.tools}>
          <FindField value={q} onFind={(words) => change({ q: words || null })} />
          <ToggleButtonGroup
            size="small"
            exclusive
            value={show}
            aria-label="Which files"
            onChange={(_, next: Shown | null) => next && change({ show: next === "lost" ? null : next })}
          >
            {(Object.keys(SHOWN) as Shown[]).map((each) => (
              <ToggleButton key={each} value={each} sx={{ py: 0.75, px: 2 }}>
                {SHOWN[each]}
              </ToggleButton>
            ))}
          </ToggleButtonGroup>
        </div>
        <Problem>{problemText(error) ?? problemText(choose.error)}</Problem>
        {data && items.length === 0 && (
          <Empty title={show === "chosen" ? "Nothing is chosen yet." : "Nothing here matches."}>
            {show === "lost" && "Files that were not lost stand under All."}
          </Empty>
        )}
        <ul className={styles.items} aria-label="Files">
          {items.map((item) => (
            <Row
              key={item.id}
              item={item}
              timeZone={timeZone}
              seen={item.id === seen?.id}
              onSee={() => change({ item: String(item.id) })}
              onChoose={(chosen) => choose.mutate({ copies: [item.copyId], chosen })}
            />
          ))}
        </ul>
        {hasNextPage && (
          <Button variant="text" disabled={isFetching} onClick={() => void fetchNextPage()}>
            More
          </Button>
        )}
        <Chosen root={root} />
      </section>
      <aside aria-label="Preview" className={styles.preview} data-empty={!seen}>
        {seen ? <Seen key={seen.id} item={seen} root={root} timeZone={timeZone} /> : <Empty title="Choose a file to look at it." />}
      </aside>
    </div>
  );
}

interface RowProps {
  item: SharedItem;
  timeZone: string;
  seen: boolean;
  onSee: () => void;
  onChoose: (chosen: boolean) => void;
}

function Row({ item, timeZone, seen, onSee, onChoose }: RowProps) {
  return (
    <li data-seen={seen}>
      <Checkbox
        size="small"
        checked={item.chosen}
        onChange={(_, chosen) => onChoose(chosen)}
        slotProps={{ input: { "aria-label": `Choose ${item.name}` } }}
      />
      <button type="button" aria-pressed={seen} onClick={onSee}>
        <span className={styles.name}>{item.name}</span>
        <span className={styles.folder}>{item.folder || "/"}</span>
      </button>
      <ConditionMark {...item} />
      <span className={styles.number}>{bytesText(item.size)}</span>
      <span className={styles.date}>{item.modified ? momentText(item.modified, timeZone) : ""}</span>
    </li>
  );
}

/** A file as it is looked at: its content, and the way to have it alone. */
function Seen({ item, root, timeZone }: { item: SharedItem; root: string; timeZone: string }) {
  const known = item.condition !== "name-only";
  return (
    <>
      <h2>{item.name}</h2>
      <p className={styles.soft}>
        {item.folder || "/"}, {bytesText(item.size)}
        {item.modified && `, changed ${momentText(item.modified, timeZone)}`}
      </p>
      <p>
        <ConditionMark {...item} />
      </p>
      <Preview copyId={item.copyId} name={item.name} size={item.size} runs={[]} nameOnly={!known} large />
      {known && item.condition !== "partial" && (
        <Button component="a" href={`${root}/found/${item.copyId}`} variant="outlined">
          Download this file
        </Button>
      )}
      {item.condition === "partial" && (
        <p className={styles.soft}>Parts of it are lost. Choose it: what is missing stands in a list beside the files you download.</p>
      )}
    </>
  );
}

/** How much is chosen, and the way to have it. */
function Chosen({ root }: { root: string }) {
  const { data } = useQuery({ queryKey: [root, "choices"], queryFn: ({ signal }) => read(`${root}/choices`, choiceSums, signal) });
  if (!data) return null;
  return (
    <div className={styles.chosen}>
      <span role="status">
        {data.files === 0 ? "Nothing is chosen yet." : `${filesText(data.files)} chosen, ${bytesText(data.bytes)}.`} Your technician sees
        what you choose.
      </span>
      {data.files > 0 && (
        <Button component="a" href={`${root}/chosen`} variant="contained">
          Download what is chosen (ZIP)
        </Button>
      )}
    </div>
  );
}

function FindField({ value, onFind }: { value: string; onFind: (words: string) => void }) {
  const [typed, setTyped] = useTyped(value, onFind);
  return (
    <TextField
      size="small"
      type="search"
      label="Find a file by words of its name or folder"
      value={typed}
      onChange={(event) => setTyped(event.target.value)}
      sx={{ flex: 1, maxWidth: 420 }}
    />
  );
}
