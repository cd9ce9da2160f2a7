import type { ByteSource } from "../bytes/byte-source";

/** Kinds of file, as a client would sort them. */
export const KINDS = [
  "documents",
  "sheets",
  "drawings",
  "pictures",
  "video",
  "audio",
  "mail",
  "archives",
  "application-data",
  "other",
] as const;
export type Kind = (typeof KINDS)[number];

export type Verdict =
  /** The whole structure was followed and is right. */
  | { readonly verdict: "sound" }
  /** Something is wrong; `at` is the byte where it shows, `reason` says what, in plain words. */
  | { readonly verdict: "damaged"; readonly at: number; readonly reason: string }
  /** The check could not reach a conclusion (too large, a variant it does not follow). */
  | { readonly verdict: "cannot-tell"; readonly reason: string };

/** What the bench knows of one file format. */
export interface Format {
  readonly id: string;
  readonly kind: Kind;
  /** How a person would call it. */
  readonly title: string;
  /** Extensions under which such content usually stands, without dot, lower case. */
  readonly extensions: readonly string[];
  /** Whether these first bytes (up to `HEAD_BYTES`, fewer in a short file) begin such a file. */
  recognise(head: Uint8Array): boolean;
  /** Follows the structure to its end. Absent: only the beginning can be recognised. */
  check?(source: ByteSource): Verdict;
}

/** How many bytes `recognise` is given at most. */
export const HEAD_BYTES = 4096;

export const damaged = (at: number, reason: string): Verdict => ({ verdict: "damaged", at, reason });
export const SOUND: Verdict = { verdict: "sound" };

/** Whether `bytes` has `text` (one character a byte) at `at`. */
export function hasAscii(bytes: Uint8Array, at: number, text: string): boolean {
  if (at + text.length > bytes.length) return false;
  for (let i = 0; i < text.length; i += 1) if (bytes[at + i] !== text.charCodeAt(i)) return false;
  return true;
}
