import type { ByteSource } from "../bytes/byte-source";
import type { PackedFile } from "../bytes/packed-file";

export type ContainerKind = "raw" | "split" | "vhd" | "vhdx" | "udif" | "sparse-image" | "sparse-bundle" | "tape-media" | "packed";

/** What holds a disk: the bytes of the disk inside, and what is reported about them. */
export interface Container {
  readonly kind: ContainerKind;
  /** The form of its kind in words, for instance "differencing"; null where there is only one. */
  readonly form: "fixed" | "dynamic" | "differencing" | null;
  readonly disk: ByteSource;
  /** The identity the container gives itself (a GUID); null: it has none. */
  readonly identity: string | null;
  /** UTC milliseconds; null: not given. */
  readonly created: number | null;
  /** Why nothing in it can be read (it is encrypted), in plain words. */
  readonly closed?: string;
  /** Its disk is the content of one file that was compressed by itself, unless volumes are found in it. */
  readonly file?: PackedFile;
  /** Where its parts belong on the disk is not known: its bytes can be searched, but no volume can be read. */
  readonly placeless?: boolean;
  /** What was odd or repaired, in plain words. */
  readonly notes: readonly string[];
}

/** The files beside the one that was chosen: parts of a split image, parents of a differencing one. */
export interface Neighbours {
  /** The chosen file's own name. */
  readonly name: string;
  list(): readonly string[];
  /** Opens one of them, or one in a folder beside it ("folder/name"), for reading only; null: it is not there. */
  open(name: string): ByteSource | null;
}

export const NO_NEIGHBOURS: Neighbours = { name: "", list: () => [], open: () => null };

/** The container cannot be opened. The message says what is wrong and what to do. */
export class ContainerError extends Error {
  constructor(message: string) {
    super(message);
    this.name = "ContainerError";
  }
}

/** A part or a parent is not beside the image; given from elsewhere, it would open. */
export class MissingFileError extends ContainerError {}

/** A differencing image whose parent has a parent … more than this is damage or a circle. */
export const MAX_PARENTS = 32;
