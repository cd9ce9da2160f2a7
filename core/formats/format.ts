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
  /**
   * Something is wrong; `at` is the byte where it shows, `reason` says what, in plain words. Where a check of a whole part failed, the
   * damage lies anywhere from `at` to `upTo`.
   */
  | { readonly verdict: "damaged"; readonly at: number; readonly reason: string; readonly upTo?: number }
  /** The check could not reach a conclusion (too large, a variant it does not follow). */
  | { readonly verdict: "cannot-tell"; readonly reason: string };

/** How far a file goes, as its own structure says, and what was found on the way. */
export interface Extent {
  /** Bytes from its beginning to its end, or to where the structure could still be followed. */
  readonly size: number;
  /** Whether the structure itself says that the file ends there; else it is only the last place that still belonged to it. */
  readonly closed: boolean;
  readonly verdict: Verdict;
  /** Where not all is proven: so many bytes from the beginning are. Nothing need be wrong behind them. */
  readonly proven?: number;
  /** Bytes in it that nothing checks, where they are many: others in their place would go unnoticed. */
  readonly unfollowed?: number;
  /** So many bytes from the beginning may be alike in other files of one maker: that their checks agree does not say whose they are. */
  readonly common?: number;
  /** It ends between two of its parts, and files of its kind usually end with another one: it may have been longer. */
  readonly mayGoOn?: true;
  /** Of one that breaks off: how many bytes it should have, as its beginning says or as much of it as was followed lets expect. */
  readonly expected?: number;
}

/** Bytes at a known distance from a file's beginning. */
export interface Signature {
  readonly at: number;
  /** One character a byte. */
  readonly mark: string;
}

/** What a file's content says about it. */
export interface Summary {
  readonly title?: string;
  readonly author?: string;
  /** When it was made or last saved as it says itself. Milliseconds; without a zone as if it were UTC. */
  readonly dated?: number;
  /** When a picture was taken, as the camera's clock had it. Milliseconds as if it were UTC. */
  readonly taken?: number;
  readonly camera?: string;
  /** Pixels. */
  readonly width?: number;
  readonly height?: number;
  /** Milliseconds. */
  readonly duration?: number;
  readonly pages?: number;
  /** Its first words. */
  readonly text?: string;
  /** Where a small picture of it stands in the file. Bytes. */
  readonly thumbnail?: { readonly at: number; readonly length: number };
}

/** What the bench knows of one file format. */
export interface Format {
  readonly id: string;
  readonly kind: Kind;
  /** How a person would call it. */
  readonly title: string;
  /** Extensions under which such content usually stands, without dot, lower case. */
  readonly extensions: readonly string[];
  /** What every such file has at its beginning; none: it cannot be searched for. */
  readonly signatures?: readonly Signature[];
  /** Whether these first bytes (up to `HEAD_BYTES`, fewer in a short file) begin such a file. */
  recognise(head: Uint8Array): boolean;
  /** Whether a whole file that begins otherwise is one by a mark elsewhere: the last part of one split over several, a disc image. */
  recogniseElsewhere?(source: ByteSource): boolean;
  /**
   * Follows the structure from the first byte of `source` to the file's end; more may come after it. Null: it is no such
   * file after all. Absent: only the beginning can be recognised.
   */
  follow?(source: ByteSource): Extent | null;
  /** The structure is followed, but other bytes in it would go unnoticed: its verdict proves nothing about them. */
  readonly loose?: boolean;
  /** Where its first bytes do not distinguish it from others (archives, compound files): which format it is, by its id. */
  resolve?(source: ByteSource): string | null;
  /** What it says about itself. `source` ends where the file does. */
  summarise?(source: ByteSource): Summary;
}

/** How many bytes `recognise` is given at most. */
export const HEAD_BYTES = 4096;

export const damaged = (at: number, reason: string, upTo?: number): Verdict => ({
  verdict: "damaged",
  at,
  reason,
  ...(upTo === undefined ? {} : { upTo }),
});
export const SOUND: Verdict = { verdict: "sound" };
export const cannotTell = (reason: string): Verdict => ({ verdict: "cannot-tell", reason });

/** The file ends at `size`, as its structure says. */
export const endsAt = (size: number, verdict: Verdict = SOUND): Extent => ({ size, closed: true, verdict });
/** The structure cannot be followed beyond `at`. */
export const breaksAt = (at: number, reason: string, expected?: number): Extent => ({
  size: at,
  closed: false,
  verdict: damaged(at, reason),
  ...(expected === undefined || !(expected > at) ? {} : { expected }),
});

/** Whether one of the signatures stands in these first bytes. */
export function hasSignature(head: Uint8Array, signatures: readonly Signature[]): boolean {
  return signatures.some(({ at, mark }) => hasAscii(head, at, mark));
}

/** Reads bytes as text, one character a byte. @param most bytes at their beginning that are read */
export const latin1 = (bytes: Uint8Array, most = bytes.length): string =>
  Buffer.from(bytes.buffer, bytes.byteOffset, Math.min(most, bytes.length)).toString("latin1");

/** Whether `bytes` has `text` (one character a byte) at `at`. */
export function hasAscii(bytes: Uint8Array, at: number, text: string): boolean {
  if (at + text.length > bytes.length) return false;
  for (let i = 0; i < text.length; i += 1) if (bytes[at + i] !== text.charCodeAt(i)) return false;
  return true;
}
