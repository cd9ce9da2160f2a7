import { countText } from "../instruments/words";
import styles from "./records.module.css";

interface Row {
  readonly key: string;
  readonly words: string;
  readonly entries: number;
  readonly deleted: number;
  readonly chosen: boolean;
}

/** A list at the side, each row with how many it has and how many of them are deleted. */
export function SideList({ label, rows, onChoose }: { label: string; rows: readonly Row[]; onChoose: (key: string) => void }) {
  if (rows.length === 0) return null;
  return (
    <div className={styles.group}>
      <h2>{label}</h2>
      <ul className={styles.tables} aria-label={label}>
        {rows.map(({ key, words, entries, deleted, chosen }) => (
          <li key={key}>
            <button type="button" aria-pressed={chosen} title={words} onClick={() => onChoose(key)}>
              <span>{words}</span>
              <span className={styles.live}>{countText(entries)}</span>
              <span className={styles.gone}>{deleted > 0 ? goneText(label, deleted) : ""}</span>
            </button>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** Of a table, deleted rows come to those that count; of all else they are among them. */
const goneText = (label: string, deleted: number) =>
  label === "Tables" ? `+ ${countText(deleted)} deleted` : `${countText(deleted)} of them deleted`;
