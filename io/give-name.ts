import { linkSync, lstatSync, renameSync, type Stats, unlinkSync } from "node:fs";
import { extname, join } from "node:path";
import { numberedName } from "../core/restore/names";
import type { HeldFolder } from "./held-folder";

export const MAX_NUMBER = 10_000;

/**
 * What to do when a file of that name is already at the destination. "overwrite" keeps nothing aside: for files that the bench itself
 * makes and had made there before.
 */
export type Taken = "keep-both" | "replace" | "skip" | "overwrite";

/** Something at the destination forbids writing there. The message says what, in plain words. */
export class DeliveryError extends Error {
  constructor(message: string) {
    super(message);
    this.name = "DeliveryError";
  }
}

/**
 * The names to try for a file, in order. A name that this restore has given to another of its files is never one of them: how to settle
 * a conflict was said of what was there before.
 * @param given whether a name is one of those
 */
export function* namesFor(name: string, conflict: Taken, given: (name: string) => boolean = () => false): Generator<string> {
  const own = given(name);
  if (!own) yield name;
  if (conflict !== "keep-both" && !own) return;
  for (let number = 2; number <= MAX_NUMBER; number += 1) {
    const numbered = numberedName(name, number);
    if (!given(numbered)) yield numbered;
  }
}

export function statusOf(path: string): Stats | null {
  try {
    return lstatSync(path, { throwIfNoEntry: false }) ?? null;
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === "ENOTDIR") return null;
    throw error;
  }
}

/** Moves a finished file to its name. @returns where the file that was there is kept, null: there was none; undefined: the name is taken */
export function giveName(working: string, folder: HeldFolder, name: string, conflict: Taken): string | null | undefined {
  const target = folder.at(name);
  if (conflict === "replace" || conflict === "overwrite") {
    const there = statusOf(target);
    if (there && !there.isFile()) throw new DeliveryError(`“${join(folder.path, name)}” is in the way: it is not a file.`);
    const aside = there && conflict === "replace" ? putAside(folder, name) : null;
    renameSync(working, target);
    return aside;
  }
  try {
    linkSync(working, target);
    unlinkSync(working);
    return null;
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    if (code === "EEXIST") return undefined;
    if (!NO_LINKS.has(code ?? "")) throw error;
    // There the name is looked at first, then taken.
    if (statusOf(target)) return undefined;
    renameSync(working, target);
    return null;
  }
}

/** What devices answer that know no links (FAT, exFAT). */
const NO_LINKS: ReadonlySet<string> = new Set(["EPERM", "ENOTSUP", "EOPNOTSUPP"]);

/** Gives a file that is to be replaced a second name beside its own. @returns its absolute path */
export function putAside(folder: HeldFolder, name: string): string {
  const moment = new Date().toISOString().slice(0, 16).replace("T", " ").replace(":", ".");
  const extension = extname(name);
  const kept = `${name.slice(0, name.length - extension.length)} (replaced ${moment} UTC)${extension}`;
  for (let number = 1; number <= MAX_NUMBER; number += 1) {
    const aside = number === 1 ? kept : numberedName(kept, number);
    try {
      linkSync(folder.at(name), folder.at(aside));
      return join(folder.path, aside);
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (code === "EEXIST") continue;
      if (!NO_LINKS.has(code ?? "")) throw error;
      if (statusOf(folder.at(aside))) continue;
      renameSync(folder.at(name), folder.at(aside));
      return join(folder.path, aside);
    }
  }
  throw new DeliveryError(`“${join(folder.path, name)}” could not be kept aside: there are too many earlier ones.`);
}
