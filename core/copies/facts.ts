/** What a copy's content says of itself, as it is kept and shown. */
export interface CopyFacts {
  readonly title?: string;
  readonly author?: string;
  /** Milliseconds; without a zone as if it were UTC. */
  readonly dated?: number;
  readonly taken?: number;
  readonly camera?: string;
  readonly width?: number;
  readonly height?: number;
  /** Milliseconds. */
  readonly duration?: number;
  readonly pages?: number;
  readonly text?: string;
  /** The reference of the find it stands in. */
  readonly inside?: string;
}
