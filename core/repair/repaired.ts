import type { BlockReader } from "../bytes/block-reader";
import type { Segment } from "../bytes/layout";

/** A repaired form of a damaged file: stretches of the damaged one and made bytes between them. The damaged file is not touched. */
export interface Repaired {
  /** "disk" stretches are places in the damaged file. */
  readonly segments: readonly Segment[];
  /** What was done, in plain words. */
  readonly done: readonly string[];
  /** Another type than before, where the repair unpacks: its extension. */
  readonly extension?: string;
}

export type Repairer = (reader: BlockReader, sibling: BlockReader | null) => Repaired | null;

/** A made stretch. */
export const made = (bytes: Uint8Array): Segment => ({ kind: "held", at: 0, length: bytes.length, bytes });
/** A stretch of the damaged file. */
export const kept = (at: number, length: number): Segment => ({ kind: "disk", at, length });
