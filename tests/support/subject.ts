/** Something to damage: its bytes, where damage hurts, and how all of it is read. */
export interface Subject {
  readonly bytes: Uint8Array;
  /** A place to change, chosen by a source of random numbers 0 … 1. */
  place(random: () => number): number;
  /** Makes right the checksum of what a place belongs to, so that a change gets past it: where it stands, and its bytes. */
  seal?(bytes: Uint8Array, at: number): { readonly at: number; readonly sum: Uint8Array } | null;
  /** Reads everything; returns how much was found. Throws for whatever a reader must not do. */
  read(bytes: Uint8Array): number;
}

/** A whole number from 0 on, below a bound. */
export const below = (random: () => number, most: number): number => Math.floor(random() * most);
