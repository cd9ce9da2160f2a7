import { CONFLICTS, type Conflict, KIND_TITLES, KINDS, type RestorePlan, type Survey } from "@/server/restores/contract";
import { countText } from "../instruments/words";
import { CONFLICT_WORDS } from "./RehearsalTable";
import styles from "./restore.module.css";

interface Props {
  found: Survey["kinds"];
  conflict: Conflict;
  kinds: RestorePlan["kinds"];
  onKinds: (kinds: RestorePlan["kinds"]) => void;
}

/** What to do with files that are there already, for all of one kind. */
export function ByKind({ found, conflict, kinds, onKinds }: Props) {
  const those = KINDS.filter((kind) => (found[kind] ?? 0) > 0);
  if (those.length < 2) return null;
  return (
    <div className={styles.form}>
      {those.map((kind) => (
        <label key={kind} className={styles.kind}>
          {KIND_TITLES[kind]} ({countText(found[kind] ?? 0)})
          <select
            className={styles.choice}
            aria-label={`What to do with ${KIND_TITLES[kind]} that are there`}
            value={kinds[kind] ?? conflict}
            onChange={(event) => onKinds({ ...kinds, [kind]: event.target.value as Conflict })}
          >
            {CONFLICTS.map((each) => (
              <option key={each} value={each}>
                {CONFLICT_WORDS[each]}
              </option>
            ))}
          </select>
        </label>
      ))}
    </div>
  );
}
