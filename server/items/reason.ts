import { rankOf } from "../../core/copies/vocabulary";
import type { Copy } from "./contract";

/** What copies of an item are compared by. */
export type Compared = Pick<Copy, "id" | "best" | "condition" | "identical" | "state" | "place" | "found" | "modified">;

/**
 * Says why this copy was taken before the others; of another one, why it was not.
 * @param copies those of the item that are looked at, the best one among them
 * @param item how many copies it has in all, and whether a person chose the best one
 */
export function reasonFor(copy: Compared, copies: readonly Compared[], item: { copies: number; overruled: boolean }): string {
  const { overruled } = item;
  const best = copies.find((each) => each.best);
  if (!best || copies.length === 1) return "The only copy found.";
  if (copy.best) {
    if (overruled) return "Chosen by hand.";
    // What is said of how many copies must hold for those not looked at, too.
    return copies.length < item.copies ? `The first of its ${item.copies} copies by place, condition and date.` : whyBest(best, copies);
  }
  if (overruled) return "Another copy was chosen by hand.";
  if (copy.identical.includes(best.id)) return "Holds the same bytes as the best copy.";
  if (RANK[copy.condition] > RANK[best.condition])
    return `Another copy is better: that one is ${WORDS[best.condition]}, this one ${WORDS[copy.condition]}.`;
  if (copy.place === "raw" && best.place !== "raw") return "Found by its content alone; the best copy has name and dates of its own.";
  if (rankOf(copy.place) > rankOf(best.place)) return "A temporary copy: others of the same condition come before it.";
  if (needsNoRescue(copy) && !needsNoRescue(best)) {
    const what = copy.place === "file-record" ? "The file as it is today" : "An earlier state of it";
    return `${what}; the best copy is ${best.state === "deleted" ? "the lost one" : "one that was kept elsewhere"}.`;
  }
  return copy.modified?.getTime() === best.modified?.getTime()
    ? "As good as the best copy, and of the same date."
    : "Another copy of the same condition is newer.";
}

/** Whether a copy is a file in its ordinary place, now or in an earlier state: what was lost, or kept, comes before it (`BEST_FIRST`). */
const needsNoRescue = ({ state, found }: Compared): boolean => state === "live" && !found;

const RANK: Record<Copy["condition"], number> = { whole: 0, partial: 1, "not-checked": 2, "name-only": 3 };
const WORDS: Record<Copy["condition"], string> = {
  whole: "whole",
  partial: "partial",
  "not-checked": "not checked",
  "name-only": "a name only",
};

function whyBest(best: Compared, copies: readonly Compared[]): string {
  const rivals = copies.filter((copy) => copy !== best && copy.condition === best.condition && !best.identical.includes(copy.id));
  if (rivals.length === 0)
    return best.identical.length > 0
      ? `The only content of ${copies.length} copies that is ${WORDS[best.condition]}; ${best.identical.length} of them hold the same bytes.`
      : `The only one of ${copies.length} copies that is ${WORDS[best.condition]}.`;
  // Only among its like the newest is the best (`BEST_FIRST`).
  const like = rivals.filter((copy) => rankOf(copy.place) === rankOf(best.place) && needsNoRescue(copy) === needsNoRescue(best));
  const present = !needsNoRescue(best) && rivals.some((copy) => needsNoRescue(copy) && copy.place === "file-record");
  const what = best.state === "deleted" ? "lost" : needsNoRescue(best) ? "" : "kept";
  if (like.length > 0) {
    const rest = present ? "; the file as it is today needs no rescue" : "";
    return `The newest of ${like.length + 1} ${what ? `${what} ` : ""}copies that are ${WORDS[best.condition]}${rest}.`;
  }
  if (present) return `The ${what} one; the live file of this name needs no rescue.`;
  return `Of ${rivals.length + 1} copies that are ${WORDS[best.condition]}, the others are temporary, found by their content alone, or earlier states.`;
}
