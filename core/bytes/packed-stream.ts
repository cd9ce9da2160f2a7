import { InflateError } from "./inflate";
import { PastEnd } from "./past-end";
import type { UnpackIndex } from "./unpack-index";
import type { Unpacker } from "./unpacker";

export type Take = (plain: Uint8Array) => void;

export interface StreamEnd {
  readonly at: number;
  readonly agrees: boolean;
  readonly isAsLong: boolean;
  /** A checksum that is known here covers all of it. */
  readonly isCovered: boolean;
}

/** A stream of packed data, of which a file may hold several one after the other. */
export interface Stream extends Unpacker {
  /** At its end: the byte behind it, whether its checksum agrees (where there is one), and whether its length does. @throws PastEnd */
  end(): StreamEnd;
  /** The byte from which another stream is looked for where this one is damaged. */
  readonly brokenAt: number;
}

/** A block at which a stream is begun anew as if all before were damaged. */
export type Break = UnpackIndex["breaks"][number];

/** Whether an error says that packed data are damaged or end too soon. */
export const isDamage = (error: unknown): boolean => error instanceof InflateError || error instanceof PastEnd;
