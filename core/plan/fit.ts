import type { Place } from "../copies/vocabulary";
import { type Account, CAUSES, LOST_KINDS, type LostKind } from "./account";

/** What is known of an item that may be what the client lost. */
export interface Candidate {
  readonly name: string;
  readonly folder: string;
  readonly kind: string;
  readonly size: number;
  /** UTC milliseconds. */
  readonly modified: number | null;
  readonly deletedAt: number | null;
  readonly lost: boolean;
  /** Its best copy is the live file. */
  readonly live: boolean;
  /** The newest of its copies from before the loss, where one is known; UTC milliseconds. */
  readonly before: number | null;
  readonly places: readonly Place[];
  readonly condition: string;
}

export interface Fit {
  /** 0 … 1: the share of what the client remembers that fits, weighed. */
  readonly score: number;
  /** What fits, in words, the weightiest first. */
  readonly reasons: readonly string[];
}

const WEIGHT = { name: 5, extension: 2, kind: 2, folder: 2, user: 1, time: 3, place: 2, condition: 1, version: 6 } as const;
const DAY = 86_400_000;

/** Places that speak for a cause. */
const PLACES_OF: Partial<Record<NonNullable<Account["cause"]>, readonly Place[]>> = {
  "closed-unsaved": ["autosave", "temporary"],
  crashed: ["autosave", "temporary"],
  binned: ["bin"],
  "bin-emptied": ["bin"],
  overwritten: ["own-backup", "autosave"],
  formatted: ["leftover-record"],
  reinstalled: ["leftover-record"],
};

/** How well an item fits an account. Only what the client remembers counts. */
export function fitOf(account: Account, item: Candidate): Fit {
  if (account.cause === "overwritten" && isOverwritten(account, item)) return { score: 0, reasons: [] };
  let possible = 0;
  const hits: { weight: number; words: string }[] = [];
  const weigh = (weight: number, share: number, words: string) => {
    possible += weight;
    if (share > 0.2) hits.push({ weight: weight * share, words });
  };
  if (account.nameHint) {
    const likeness = nameLikeness(account.nameHint, item.name);
    weigh(WEIGHT.name, likeness, likeness > 0.95 ? `its name is “${account.nameHint}”` : `its name is like “${account.nameHint}”`);
  }
  if (account.extension) {
    const wanted = account.extension.replace(/^\./, "").toLowerCase();
    weigh(WEIGHT.extension, item.name.toLowerCase().endsWith(`.${wanted}`) ? 1 : 0, `it ends in .${wanted}`);
  }
  if (account.kinds.length > 0)
    weigh(
      WEIGHT.kind,
      account.kinds.includes(item.kind as LostKind) ? 1 : 0,
      `it is among the ${LOST_KINDS[item.kind as LostKind] ?? item.kind}`,
    );
  if (account.folder)
    weigh(WEIGHT.folder, wordShare(account.folder, item.folder), `it stood in ${item.folder.slice(1) || "the root folder"}`);
  if (account.userName) weigh(WEIGHT.user, wordShare(account.userName, item.folder), `it belongs to ${account.userName}`);
  for (const moment of [account.lost, account.lastSaved, account.lastSeen]) {
    if (!moment || moment.from === null || moment.to === null) continue;
    const { from, to } = moment;
    const nearest = Math.min(
      ...[item.deletedAt, item.modified, item.before].map((time) => (time === null ? Number.POSITIVE_INFINITY : gap(time, from, to))),
    );
    const share = nearest === 0 ? 1 : Math.max(0, 1 - nearest / (30 * DAY));
    weigh(WEIGHT.time / 3, share, nearest === 0 ? `its date fits “${moment.text}”` : `its date is near “${moment.text}”`);
  }
  const fitting = account.cause ? PLACES_OF[account.cause] : undefined;
  if (account.cause && fitting)
    weigh(
      WEIGHT.place,
      item.places.some((place) => fitting.includes(place)) ? 1 : 0,
      `it was found where one looks when they ${CAUSES[account.cause]}`,
    );
  if (account.cause === "overwritten" && possible > 0)
    weigh(WEIGHT.version, item.before !== null ? 1 : 0, "a version from before the wrong one was saved");
  if (possible === 0) return { score: 0, reasons: [] };
  weigh(
    WEIGHT.condition,
    item.condition === "whole" ? 1 : item.condition === "partial" ? 0.5 : 0,
    item.condition === "whole" ? "it is whole" : "part of it is left",
  );
  hits.sort((a, b) => b.weight - a.weight);
  const score = hits.reduce((sum, hit) => sum + hit.weight, 0) / possible;
  return { score: item.lost ? score : score * 0.6, reasons: hits.map((hit) => hit.words) };
}

/** The live file holds the wrong version, and is not what was lost; nor is anything that was saved after it. */
function isOverwritten({ lost }: Account, { live, before, modified }: Candidate): boolean {
  if (before !== null) return false;
  return live || (lost?.from != null && modified !== null && modified >= lost.from);
}

const gap = (time: number, from: number, to: number) => (time < from ? from - time : time > to ? time - to : 0);
const plain = (text: string) => text.normalize("NFKD").replace(/\p{M}/gu, "").toLowerCase();
const wordsOf = (text: string) =>
  plain(text)
    .split(/[^\p{L}\p{N}]+/u)
    .filter((word) => word.length > 1);

/** The share of the words of `wanted` that stand in `text`. */
function wordShare(wanted: string, text: string): number {
  const words = wordsOf(wanted);
  const found = plain(text);
  return words.length === 0 ? 0 : words.filter((word) => found.includes(word)).length / words.length;
}

/** How like a remembered name and a found one are, 0 … 1: the same words, or nearly the same letters. */
export function nameLikeness(hint: string, name: string): number {
  const stem = name.replace(/\.[^.]{1,8}$/, "");
  const [wanted, found] = [plain(hint).trim(), plain(stem).trim()];
  if (wanted === found || plain(name) === wanted) return 1;
  if (wanted.length >= 3 && found.includes(wanted)) return 0.7 + 0.25 * (wanted.length / found.length);
  return Math.max(0.8 * wordShare(hint, stem), 0.9 * pairLikeness(wanted, found));
}

/** Dice's coefficient over pairs of letters. */
function pairLikeness(a: string, b: string): number {
  const pairs = (text: string) => Array.from({ length: Math.max(0, text.length - 1) }, (_, i) => text.slice(i, i + 2));
  const [one, two] = [pairs(a), pairs(b)];
  if (one.length === 0 || two.length === 0) return 0;
  const left = new Map<string, number>();
  for (const pair of two) left.set(pair, (left.get(pair) ?? 0) + 1);
  let shared = 0;
  for (const pair of one) {
    const count = left.get(pair) ?? 0;
    if (count > 0) {
      shared += 1;
      left.set(pair, count - 1);
    }
  }
  return (2 * shared) / (one.length + two.length);
}
