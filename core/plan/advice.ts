import type { Cause } from "./account";

/** What of a job its advice follows from. */
export interface AdviceFacts {
  readonly causes: readonly Cause[];
  /** Something stands restored. */
  readonly restored: boolean;
  /** Files stand restored where an application expects them. */
  readonly placed: boolean;
  /** Drives of which something could not be read: their names. */
  readonly failing: readonly string[];
  /** Backup sets that were found, each with the moment of its last state, as text; null: nobody looked for sets. */
  readonly sets: readonly { readonly where: string; readonly last: string | null }[] | null;
}

const AUTOSAVE = "Let programs save unsaved work by themselves every few minutes; ten is usual, fewer is better.";
const VERSIONS =
  "Switch on a backup that keeps earlier versions: it brings back what was deleted or overwritten, and not only what a drive lost.";
const BEFORE_INSTALLING = "Before a system is installed anew or upgraded, have the whole drive copied to another device, as an image.";

/** What should be different from now on, by what happened. Common practice, no published source. */
const BY_CAUSE: Readonly<Record<Cause, readonly string[]>> = {
  "closed-unsaved": [AUTOSAVE, "Save a new document under a name as soon as it is begun: programs keep copies of it from then on."],
  crashed: [AUTOSAVE, "If the power goes often, a battery between the socket and the computer gives it time to save."],
  binned: ["Look through the bin before it is emptied."],
  "bin-emptied": ["Look through the bin before it is emptied, and let it keep things for a month.", VERSIONS],
  "deleted-past-bin": ["Delete into the bin, not past it; on network drives and sticks there is none.", VERSIONS],
  "too-large-for-bin": [
    "Give the bin more room, so that it takes large folders, too; it asks before it deletes what it cannot take.",
    VERSIONS,
  ],
  overwritten: ["Save a changed copy of an important document under a new name.", VERSIONS],
  formatted: ["Copy a card to two devices before it is formatted, and label cards and sticks, so that the right one is."],
  reinstalled: [BEFORE_INSTALLING],
  upgraded: [BEFORE_INSTALLING],
  "application-removed": ["Export what a program keeps for itself before it is removed or installed anew."],
  "history-cleared": ["See what is ticked before a history is cleared, and export what is worth keeping.", VERSIONS],
  "messages-gone": ["Export conversations from time to time, and before a program is removed, installed anew or moved to another device."],
  failing: ["Do not use the drive that is failing any more: have it replaced."],
  "backup-closed": [
    "Restore a few files of each backup twice a year: a backup nobody has opened is a hope.",
    "Keep two backups that do not depend on one another.",
  ],
  unknown: [],
};

/** What the client should do now, and what so that it does not happen again; the most urgent first. Common practice, no published source. */
export function adviceFor({ causes, restored, placed, failing, sets }: AdviceFacts): string[] {
  const advice: string[] = [];
  if (restored) advice.push("Open each restored file once, from where it was restored to, before anything else is done with the drive.");
  if (placed)
    advice.push(
      "Close an application before its files are put back, and start it only when all of them are there: an open one writes over them.",
    );
  advice.push(
    "Do not use the drive that lost the files until everything that matters is in hand: each write can destroy what was not found yet.",
  );
  for (const name of failing)
    advice.push(`Parts of “${name}” could not be read. The drive may be failing: copy what matters from it, and have it replaced.`);
  for (const cause of causes) advice.push(...BY_CAUSE[cause]);
  if (sets !== null && sets.length === 0)
    advice.push("No backup was found on the drives that were looked at. Switch one on, to a device that is not always connected.");
  for (const { where, last } of sets ?? []) if (last) advice.push(`The backup on “${where}” ends on ${last}. See that it still runs.`);
  advice.push("Keep a second copy of what matters on another device, in another place, and let the computer make it by itself.");
  return [...new Set(advice)];
}
